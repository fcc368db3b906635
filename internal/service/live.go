package service

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/internal/api"
	"stockade/internal/store"
)

// How often a page is told something: that records changed, how far a job is, and that
// the service is still there.
const (
	changesEvery  = 300 * time.Millisecond
	progressEvery = 250 * time.Millisecond
	beatEvery     = 10 * time.Second
)

// live tells open pages what happens: that something was recorded, and how jobs go.
type live struct {
	mu        sync.Mutex
	listeners map[*listener]bool
	joins     int
}

// listener is an open page. What it has no room for is not waited for: it is told that
// things changed instead.
type listener struct {
	news     chan api.News
	changed  chan struct{}        // holds one
	what     map[api.Subject]bool // has changed; the lock of live is held
	account  string
	joined   int           // which of all that there were
	replaced chan struct{} // closed when a newer page of the account takes its place
}

// pagesOfOne is how many pages of one account are told of what happens. The oldest gives way to a new
// one, and asks again when somebody looks at it.
const pagesOfOne = 24

func (l *live) join(account string) (*listener, func()) {
	n := &listener{news: make(chan api.News, 32), changed: make(chan struct{}, 1), account: account,
		what: map[api.Subject]bool{}, replaced: make(chan struct{})}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.listeners == nil {
		l.listeners = map[*listener]bool{}
	}
	var oldest *listener
	own := 0
	for other := range l.listeners {
		if other.account != account {
			continue
		}
		if own++; oldest == nil || other.joined < oldest.joined {
			oldest = other
		}
	}
	if own >= pagesOfOne {
		delete(l.listeners, oldest)
		close(oldest.replaced)
	}
	l.joins++
	n.joined = l.joins
	l.listeners[n] = true
	return n, func() {
		l.mu.Lock()
		delete(l.listeners, n)
		l.mu.Unlock()
	}
}

// tell passes news on.
func (l *live) tell(n api.News) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for to := range l.listeners {
		select {
		case to.news <- n:
		default:
			to.change(api.Subjects...) // it missed what that was
		}
	}
}

// change tells what was recorded, or is otherwise than before.
func (l *live) change(what ...api.Subject) {
	if len(what) == 0 {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for to := range l.listeners {
		to.change(what...)
	}
}

// changedOf gives what has changed since it was last asked, for a listener.
func (l *live) changedOf(n *listener) []api.Subject {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := slices.Sorted(maps.Keys(n.what))
	clear(n.what)
	return out
}

// subjects says what a change of a part of the records is of. Parts that are not here are told of
// otherwise, or concern nobody.
var subjects = map[store.Part]api.Subject{
	store.RecordRows: api.OfDescription, "revisions": api.OfDescription,
	"certificates": api.OfKeys, "decisions": api.OfKeys,
	"editions": api.OfEditions, "moves": api.OfEditions,
	store.MachineRows: api.OfMachines, store.InventoryRows: api.OfMachines, store.Comparisons: api.OfMachines,
	"kepts":    api.OfChecks,
	"accounts": api.OfAccounts, "tokens": api.OfAccounts, "credentials": api.OfAccounts,
	"journal_entries": api.OfJournal,
}

// restless are parts that change often, and say nothing of what machines are to be compared with.
var restless = []store.Part{store.JobRows, store.Personal, store.Comparisons}

func subjectsOf(parts []store.Part) (out []api.Subject) {
	for _, p := range parts {
		if subject, ok := subjects[p]; ok {
			out = append(out, subject)
		}
	}
	return out
}

// change is called with the lock of live held.
func (n *listener) change(what ...api.Subject) {
	for _, subject := range what {
		n.what[subject] = true
	}
	select {
	case n.changed <- struct{}{}:
	default:
	}
}

// handleEvents streams what happens, until the page goes away or what it is signed in with
// ends.
func (s *Service) handleEvents(c *gin.Context) (any, error) {
	n, leave := s.live.join(who(c).Name)
	defer leave()
	control := http.NewResponseController(c.Writer)
	control.SetReadDeadline(time.Time{})
	c.Header("Content-Type", "text/event-stream")
	usedFor(c.Request.Context(), isWaitedFor)
	send := func(event string, v any) {
		raw, _ := json.Marshal(v)
		control.SetWriteDeadline(time.Now().Add(streamTime))
		fmt.Fprintf(c.Writer, "event: %s\ndata: %s\n\n", event, raw)
		c.Writer.Flush()
	}
	send("hello", api.News{})
	beat := time.NewTicker(beatEvery)
	defer beat.Stop()
	for {
		select {
		case news := <-n.news:
			send("job", news)
		case <-n.changed:
			send("changed", api.News{Changed: s.live.changedOf(n)})
			select {
			case <-time.After(changesEvery):
			case <-c.Request.Context().Done():
				return nil, nil
			}
		case <-beat.C:
			if known, err := s.knownNow(knownBy(c)); err != nil || !known {
				return nil, nil
			}
			send("beat", api.News{})
		case <-c.Request.Context().Done():
			return nil, nil
		case <-s.ending:
			return nil, nil
		case <-n.replaced:
			return nil, nil
		}
	}
}

// knownNow tells whether what an account was known by counts still. That the records cannot be
// read says nothing of it.
func (s *Service) knownNow(by credentialOf) (bool, error) {
	if by.session != "" {
		if _, err := s.db.SessionBy(by.session); err != nil {
			return false, unlessAbsent(err)
		}
	}
	if !by.byWord {
		if _, err := s.db.TokenBy(by.of); err != nil {
			return false, unlessAbsent(err)
		}
	}
	_, ok, err := s.counts(by, by.account.Name)
	return ok, err
}
