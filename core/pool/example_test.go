package pool_test

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"

	"stockade/core/pool"
)

// Bytes get a name in the pool only when they are what an authority says: here a digest.
func ExampleDir_Ingest() {
	dir, err := os.MkdirTemp("", "example-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	store, err := pool.Open(dir+"/pool", dir+"/tmp")
	if err != nil {
		panic(err)
	}
	sum := sha256.Sum256([]byte("tide tables"))
	want := pool.Want{Name: "tide-tables.deb", Size: 11,
		Authority: pool.ByDigest(hex.EncodeToString(sum[:]), "")}
	for _, sent := range []string{"tide fables", "tide tables"} {
		name, err := store.Ingest(want, func(to pool.Sink) error {
			if err := to.Begin("http://north.tarn.example"); err != nil {
				return err
			}
			_, err := io.WriteString(to, sent)
			return err
		}, nil)
		fmt.Println(len(name), err != nil)
	}
	_, there := store.Has(hex.EncodeToString(sum[:]))
	fmt.Println(there)
	// Output:
	// 0 true
	// 64 false
	// true
}
