package made

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"stockade/core/trust"
)

// Owner is whom a made-up key names, and how old the key is.
type Owner struct {
	Name, Comment, Address string
	// the key, and its signatures, are from then; zero: from when they are made
	Age time.Duration
}

var ownersKeys sync.Map // Owner → func() (*trust.SiteKey, error)

// KeyFolder names, in the environment, a folder that keeps the keys of owners from one process to
// the next: where many short ones run, making them would be most of the work. What cannot be
// read there is made anew, and what cannot be written is not kept.
const KeyFolder = "STOCKADE_MADE_KEYS"

// Key gives the key of an owner. It is made the first time and is the same for the life of the
// process, since making one takes seconds.
func Key(o Owner) (*trust.SiteKey, error) {
	one, _ := ownersKeys.LoadOrStore(o, sync.OnceValues(func() (*trust.SiteKey, error) {
		now := time.Now
		if o.Age > 0 {
			then := time.Now().Add(-o.Age)
			now = func() time.Time { return then }
		}
		folder := os.Getenv(KeyFolder)
		if folder == "" {
			return trust.NewKey(o.Name, o.Comment, o.Address, now)
		}
		file := filepath.Join(folder, fmt.Sprintf("%x", sha256.Sum256(fmt.Appendf(nil, "%q", o))))
		if data, err := os.ReadFile(file); err == nil {
			if key, err := trust.Unlock(data, []byte(KeyFolder), now); err == nil {
				return key, nil
			}
		}
		key, err := trust.NewKey(o.Name, o.Comment, o.Address, now)
		if err == nil {
			keep(key, file)
		}
		return key, err
	}))
	return one.(func() (*trust.SiteKey, error))()
}

// keep writes a key so that another process finds all of it or nothing.
func keep(key *trust.SiteKey, file string) {
	data, err := key.Locked([]byte(KeyFolder))
	if err != nil {
		return
	}
	part := fmt.Sprintf("%s.%d", file, os.Getpid())
	if err := os.WriteFile(part, data, 0o600); err == nil {
		_ = os.Rename(part, file)
	}
}

// Keys gives the keys of several owners, which are made side by side. It panics where one cannot
// be made, which is only where there is no randomness.
func Keys(owners ...Owner) []*trust.SiteKey {
	out := make([]*trust.SiteKey, len(owners))
	var wait sync.WaitGroup
	for i, o := range owners {
		wait.Go(func() {
			var err error
			if out[i], err = Key(o); err != nil {
				panic(err)
			}
		})
	}
	wait.Wait()
	return out
}
