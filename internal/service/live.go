package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/internal/api"
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
	changed  chan struct{} // holds one
	account  string
	joined   int           // which of all that there were
	replaced chan struct{} // closed when a newer page of the account takes its place
}

// pagesOfOne is how many pages of one account are told of what happens. The oldest gives way to a new
// one, and asks again when somebody looks at it.
const pagesOfOne = 24

func (l *live) join(account string) (*listener, func()) {
	n := &listener{news: make(chan api.News, 32), changed: make(chan struct{}, 1), account: account,
		replaced: make(chan struct{})}
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
			to.change()
		}
	}
}

// change tells that something was recorded.
func (l *live) change() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for to := range l.listeners {
		to.change()
	}
}

func (n *listener) change() {
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
			send("changed", api.News{Changed: true})
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
