package e2e

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"stockade/internal/api"
	"stockade/internal/client"
)

// TestReadsAndJournalledWritesAtOnce asks and changes side by side: the journal
// is read for each request and written in each change, over one connection to
// the records, and neither may wait for what the other holds.
func TestReadsAndJournalledWritesAtOnce(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	var readers, writers sync.WaitGroup
	stop := make(chan struct{})
	for range 6 {
		readers.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				if _, err := client.Get[api.Page[api.Account]](ctx, s.client, "/accounts"); err != nil {
					t.Error("reading:", err)
					return
				}
			}
		})
	}
	for w := range 2 {
		writers.Go(func() {
			for i := range 40 {
				in := api.NewAccount{Name: fmt.Sprintf("keeper-%d-%d", w, i), Role: api.Viewer}
				if _, err := client.Post[api.NewToken](ctx, s.client, "/accounts", in); err != nil {
					t.Error("writing:", err)
					return
				}
			}
		})
	}
	writers.Wait()
	close(stop)
	readers.Wait()
	page, err := client.Get[api.Page[api.Account]](t.Context(), s.client, "/accounts")
	if err != nil || len(page.Items) != 81 {
		t.Errorf("%d accounts, and 81 were made: %v", len(page.Items), err)
	}
}
