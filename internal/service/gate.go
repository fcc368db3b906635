package service

import (
	"context"
	"net"
	"net/http"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// Descriptors are dealt out at the start: what the service needs for its own
// work is kept back, the API has a share that machines cannot use up, and the
// rest is for machines, of which each holds two (its connection and a file).
const (
	ownDescriptors = 256
	apiConnections = 256
	mostMachines   = 4096
	leastEach      = 16
)

// budgets gives how many connections API and machines may have at once.
func budgets() (forAPI, forMachines int) {
	var lim unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &lim) != nil {
		return apiConnections, mostMachines / 8
	}
	if lim.Cur < lim.Max {
		raised := unix.Rlimit{Cur: min(lim.Max, 1<<16), Max: lim.Max}
		if raised.Cur > lim.Cur && unix.Setrlimit(unix.RLIMIT_NOFILE, &raised) == nil {
			lim = raised
		}
	}
	left := int(min(lim.Cur, 1<<16)) - ownDescriptors
	forAPI = max(min(left/4, apiConnections), leastEach)
	forMachines = max(min((left-forAPI)/2, mostMachines), leastEach)
	return forAPI, forMachines
}

// gate is a listener that lets so many connections in at once, and so many of one address. Places are
// for work. Where all are taken, a connection that does none gives up its own for a new one: it is
// between requests, has not begun one, is waited for (a body that does not come, a page that listens),
// or, where accounts are known, is of nobody who is and takes long. Where none does, new ones wait
// outside. An address can never take the last places: what it has too many of is closed, and the last
// quarter is for addresses that have few.
type gate struct {
	net.Listener
	most, mostOfOne int
	// strangers is how long a request of nobody who is known keeps its place while others want one;
	// 0: as long as it takes, where nobody is asked who they are.
	strangers time.Duration

	mu    sync.Mutex
	free  *sync.Cond
	held  map[net.Conn]*place
	of    map[string]int // connections of each address
	ended bool
}

// place is a connection that was let in.
type place struct {
	address string
	state   http.ConnState
	use     use
	since   time.Time // when it came into that state, or use
}

// use is what an active connection is used for.
type use int

const (
	byStranger  use = iota // a request that nobody vouches for
	byKnown                // one of an account
	isWaitedFor            // it is waited for what comes, or for what there is to tell
)

// few is how many connections an address has that may take the last quarter of the places.
const few = 8

// begins is how long a new connection may take before its place counts as one
// that nobody uses, where others wait for one.
const begins = 250 * time.Millisecond

func (g *gate) unused(p *place) bool {
	lasts := time.Since(p.since)
	switch p.state {
	case http.StateIdle:
		return true
	case http.StateNew:
		return lasts > begins
	}
	return p.use == isWaitedFor && lasts > begins ||
		p.use == byStranger && g.strangers > 0 && lasts > g.strangers
}

func newGate(l net.Listener, most int, strangers time.Duration) *gate {
	g := &gate{
		Listener:  l,
		strangers: strangers,
		most:      most,
		mostOfOne: max(most*3/4, 1),
		held:      map[net.Conn]*place{},
		of:        map[string]int{},
	}
	g.free = sync.NewCond(&g.mu)
	return g
}

// Accept implements net.Listener.
func (g *gate) Accept() (net.Conn, error) {
	for {
		if !g.room() {
			return nil, net.ErrClosed
		}
		c, err := g.Listener.Accept()
		if err != nil {
			return nil, err
		}
		address, _, _ := net.SplitHostPort(c.RemoteAddr().String())
		if held := g.take(c, address); held != nil {
			return held, nil
		}
		c.Close()
	}
}

// room waits until a place is free, or can be had from a connection that does
// nothing.
func (g *gate) room() bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	for len(g.held) >= g.most && !g.ended {
		if !g.evict("") {
			// A new connection may turn out to be one that says nothing.
			look := time.AfterFunc(begins, g.free.Broadcast)
			g.free.Wait()
			look.Stop()
		}
	}
	return !g.ended
}

// evict closes the connection that has done nothing for the longest, perhaps of
// one address. It is called with the lock held.
func (g *gate) evict(address string) bool {
	var oldest net.Conn
	for c, p := range g.held {
		if g.unused(p) && (address == "" || p.address == address) &&
			(oldest == nil || p.since.Before(g.held[oldest].since)) {
			oldest = c
		}
	}
	if oldest == nil {
		return false
	}
	g.drop(oldest)
	go oldest.Close() // closing takes the lock
	return true
}

func (g *gate) drop(c net.Conn) {
	if p, ok := g.held[c]; ok {
		delete(g.held, c)
		if g.of[p.address]--; g.of[p.address] == 0 {
			delete(g.of, p.address)
		}
		g.free.Signal()
	}
}

func (g *gate) take(c net.Conn, address string) net.Conn {
	g.mu.Lock()
	defer g.mu.Unlock()
	crowded := len(g.held) >= g.most-g.most/4 && g.of[address] >= few
	if (crowded || g.of[address] >= g.mostOfOne) && !g.evict(address) {
		return nil
	}
	held := &heldConn{Conn: c, gate: g}
	g.held[held] = &place{address: address, since: time.Now()}
	g.of[address]++
	return held
}

// state is told what a connection does, as http.Server.ConnState.
func (g *gate) state(c net.Conn, s http.ConnState) {
	if t, ok := c.(interface{ NetConn() net.Conn }); ok {
		c = t.NetConn() // below TLS
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if p, ok := g.held[c]; ok {
		p.state, p.use, p.since = s, byStranger, time.Now()
		if s == http.StateIdle {
			g.free.Signal()
		}
	}
}

// seat is the place of the connection that a request came by.
type seat struct {
	gate *gate
	conn net.Conn
}

type seatKey struct{}

// seated lets requests find their place, as http.Server.ConnContext.
func (g *gate) seated(ctx context.Context, c net.Conn) context.Context {
	if t, ok := c.(interface{ NetConn() net.Conn }); ok {
		c = t.NetConn() // below TLS
	}
	return context.WithValue(ctx, seatKey{}, seat{g, c})
}

// usedFor says what the connection of a request is used for from now on.
func usedFor(ctx context.Context, u use) {
	s, ok := ctx.Value(seatKey{}).(seat)
	if !ok {
		return // a request that came by no listener of ours
	}
	s.gate.mu.Lock()
	defer s.gate.mu.Unlock()
	if p, ok := s.gate.held[s.conn]; ok {
		p.use, p.since = u, time.Now()
		if u == isWaitedFor {
			s.gate.free.Signal()
		}
	}
}

// Close implements net.Listener.
func (g *gate) Close() error {
	g.mu.Lock()
	g.ended = true
	g.mu.Unlock()
	g.free.Broadcast()
	return g.Listener.Close()
}

// heldConn gives its place back when it is closed.
type heldConn struct {
	net.Conn
	gate *gate
}

func (c *heldConn) Close() error {
	c.gate.mu.Lock()
	c.gate.drop(c)
	c.gate.mu.Unlock()
	return c.Conn.Close()
}
