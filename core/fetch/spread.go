package fetch

import (
	"errors"
	"slices"
	"time"
)

// A file that its digest names is the same from whichever upstream: the larger files of one
// build are spread over those that are good, so that one server is not asked for all of them
// while others stand idle.

// Limits of spreading.
const (
	spreadFrom = 256 << 10       // bytes: what is smaller comes from the first as ever
	notWorth   = 8               // times: an upstream so much slower than the best is not spread to
	behindFor  = 5 * time.Minute // for how long one that lacks a file is not spread to
)

// measured is what is known of one upstream while files are spread.
type measured struct {
	rate   float64   // bytes a second of its last transfers, smoothed; 0: none yet
	now    int       // transfers under way
	behind time.Time // until when it counts as one that lacks files
}

// spread gives upstreams in the order in which one file is asked of them: first the one that
// would have it soonest, by its rate and by what it has to do already. One of which nothing is
// known is taken to be as fast as the best, so that it is tried. What was begun at one goes
// on there. The others follow in the order in which a person put them.
func (c *Client) spread(all []Upstream, req Request) []Upstream {
	if req.Spread < spreadFrom || len(all) < 2 {
		return all
	}
	if req.Resume != nil {
		for i, u := range all {
			if offset, _ := req.Resume(u); offset > 0 {
				return first(all, i)
			}
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	now := c.opt.Now()
	best := 0.0
	for _, u := range all {
		best = max(best, c.spreading[u.URL].rate)
	}
	at, soonest := -1, 0.0
	for i, u := range all {
		m := c.spreading[u.URL]
		rate := m.rate
		if rate == 0 {
			rate = max(best, 1)
		}
		if m.behind.After(now) || rate*notWorth < best {
			continue
		}
		if takes := float64(m.now+1) / rate; at < 0 || takes < soonest {
			at, soonest = i, takes
		}
	}
	if at < 0 {
		return all
	}
	return first(all, at)
}

// first puts one of several first.
func first(all []Upstream, i int) []Upstream {
	out := slices.Delete(slices.Clone(all), i, i+1)
	return slices.Insert(out, 0, all[i])
}

// begins counts a transfer of a file that is spread; ends is called when it is over.
func (c *Client) begins(u Upstream, req Request) (ends func(err error)) {
	if req.Spread < spreadFrom {
		return func(error) {}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	m := c.spreading[u.URL]
	m.now++
	c.spreading[u.URL] = m
	return func(err error) {
		c.mu.Lock()
		defer c.mu.Unlock()
		m := c.spreading[u.URL]
		m.now--
		if errors.Is(err, ErrNotFound) {
			m.behind = c.opt.Now().Add(behindFor)
		}
		c.spreading[u.URL] = m
	}
}

// learn remembers how fast one upstream is. c.mu is held.
func (c *Client) learn(url string, rate float64) {
	m := c.spreading[url]
	if m.rate == 0 {
		m.rate = rate
	}
	m.rate += (rate - m.rate) * 0.3
	c.spreading[url] = m
}
