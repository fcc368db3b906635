package made

import (
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

// Key gives the key of an owner. It is made the first time and is the same for the life of the
// process, since making one takes seconds.
func Key(o Owner) (*trust.SiteKey, error) {
	one, _ := ownersKeys.LoadOrStore(o, sync.OnceValues(func() (*trust.SiteKey, error) {
		now := time.Now
		if o.Age > 0 {
			then := time.Now().Add(-o.Age)
			now = func() time.Time { return then }
		}
		return trust.NewKey(o.Name, o.Comment, o.Address, now)
	}))
	return one.(func() (*trust.SiteKey, error))()
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
