package service

import (
	"context"
	"sync"
	"time"
)

// Calls that take long to work out: an account has so many of them under way at once, all accounts
// together so many, and others wait for a while.
var long = map[string]bool{
	"check":          true,
	"compare":        true,
	"record":         true,
	"rename":         true,
	"amend":          true,
	"order":          true,
	"crossings":      true,
	"restore":        true,
	"wouldRestore":   true,
	"groupFiles":     true,
	"groupKit":       true,
	"diff":           true,
	"laneDifference": true,
	"advisories":     true,
	"verifyJournal":  true,
	"addPackage":     true,
	"poolUsage":      true,
	"import":         true,
	"chain":          true,
	"signed":         true,
	"renewSiteKey":   true,
	"retireSiteKey":  true,
	"why":            true,
	"statement":      true,
	"takeStatement":  true,
	"addKeys":        true,
	"examine":        true,
}

const (
	longAtOnce = 2
	longInAll  = 4
	longWait   = 20 * time.Second
)

// computing bounds them, account by account.
type computing struct {
	mu     sync.Mutex
	places map[string]chan struct{}
	all    chan struct{}
}

// begin waits for a place; done gives it back. ok is false when none came free.
func (p *computing) begin(ctx context.Context, account, call string) (done func(), ok bool) {
	if !long[call] {
		return func() {}, true
	}
	p.mu.Lock()
	if p.places == nil {
		p.places, p.all = map[string]chan struct{}{}, make(chan struct{}, longInAll)
	}
	places := p.places[account]
	if places == nil {
		places = make(chan struct{}, longAtOnce)
		p.places[account] = places
	}
	p.mu.Unlock()
	t := time.NewTimer(longWait)
	defer t.Stop()
	select {
	case places <- struct{}{}:
	case <-ctx.Done():
		return nil, false
	case <-t.C:
		return nil, false
	}
	select {
	case p.all <- struct{}{}:
		return func() { <-p.all; <-places }, true
	case <-ctx.Done():
	case <-t.C:
	}
	<-places
	return nil, false
}
