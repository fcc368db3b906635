package upstream

import (
	"sync"
	"time"
)

// Progress counts transferred bytes and passes them on, at most ten times a second.
type Progress struct {
	b     *Reader
	mu    sync.Mutex
	event Event
	start time.Time
	last  time.Time
	later *time.Timer // tells what was not told at once, so that nothing waits for the next piece to be told
	ended bool
}

// progressEvery is how often progress is told at the most.
const progressEvery = 100 * time.Millisecond

func (b *Reader) Progress(step string, files int, bytes int64) *Progress {
	p := &Progress{
		b:     b,
		start: time.Now(),
		event: Event{
			Step:       step,
			FilesTotal: files,
			BytesTotal: bytes,
			Remaining:  -1,
			Upstreams:  map[string]int64{},
		},
	}
	p.sendLocked(true)
	return p
}

func (p *Progress) Add(upstream string, bytes int64, files int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.event.Bytes += bytes
	p.event.Files += files
	if upstream != "" {
		p.event.Upstreams[upstream] += bytes
	}
	p.sendLocked(false)
}

// End tells where the step stands when it is over.
func (p *Progress) End() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.ended = true
	p.sendLocked(true)
}

// catchUp tells what was held back.
func (p *Progress) catchUp() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.later = nil
	if !p.ended && p.event.Files < p.event.FilesTotal {
		p.sendLocked(true)
	}
}

func (p *Progress) sendLocked(force bool) {
	now := time.Now()
	if wait := progressEvery - now.Sub(p.last); !force && wait > 0 {
		if p.later == nil {
			p.later = time.AfterFunc(wait, p.catchUp)
		}
		return
	}
	p.last = now
	if took := now.Sub(p.start).Seconds(); took > 0.05 {
		p.event.Rate = int64(float64(p.event.Bytes) / took)
		if p.event.Rate > 0 {
			p.event.Remaining = p.event.left(took)
		}
	}
	e := p.event
	e.Upstreams = map[string]int64{}
	for k, v := range p.event.Upstreams {
		e.Upstreams[k] = v
	}
	p.b.Tell(e)
}
