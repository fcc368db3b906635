package faults

import (
	"context"
	"fmt"
	"path"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
)

// Places lets what a package asks of the outside fail once at each place from which it is asked.
// A place is told by the functions of the package, the innermost first: what one of them does
// with an error is seen for each way that leads to it. After one call has failed all others go
// through until Next is called.
type Places struct {
	// In is the package, by its path.
	In []string
	// With is what a call fails with.
	With error

	mu   sync.Mutex
	off  int
	met  map[string]bool // by what is called and the lines that led there
	last *Place
	more int
}

// Place is one at which a call failed.
type Place struct {
	// Text is what was asked and by which functions; places of the same text are told apart by
	// Lines.
	Text, Lines string
}

// Off lets calls go through while f runs.
func (p *Places) Off(f func()) {
	p.silent(1)
	defer p.silent(-1)
	f()
}

func (p *Places) silent(by int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.off += by
}

// Next gives the place at which a call failed since it was called last, nil where none did, and
// how often there was a call from that same place afterwards.
func (p *Places) Next() (failed *Place, again int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	failed, again = p.last, p.more
	p.last, p.more = nil, 0
	return failed, again
}

// Call fails where it is called for the first time from a place.
func (p *Places) Call(what string) error {
	at := p.here(what)
	if at == nil {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.last != nil && p.last.Lines == at.Lines {
		p.more++
	}
	if p.off > 0 || p.last != nil || p.met[at.Lines] {
		return nil
	}
	if p.met == nil {
		p.met = map[string]bool{}
	}
	p.met[at.Lines], p.last = true, at
	return p.With
}

// deep is how many functions tell a place.
const deep = 4

// inside is what names a function within another.
var inside = regexp.MustCompile(`(\.func\d+|\.\d+|-range\d+)+$`)

// within tells whether a function is of the packages, and how it is called there.
func (p *Places) within(f runtime.Frame) (name string, in bool) {
	for _, of := range p.In {
		if name, in = strings.CutPrefix(f.Function, of+"."); in {
			return name, path.Base(path.Dir(f.File)) == path.Base(of) // and not of another, inlined
		}
	}
	return "", false
}

// here is the place of a call; nil outside the packages, and where its tests call by themselves.
func (p *Places) here(what string) *Place {
	var pcs [96]uintptr
	frames := runtime.CallersFrames(pcs[:runtime.Callers(3, pcs[:])])
	at := Place{Lines: what}
	var names []string
	for len(names) < deep {
		f, more := frames.Next()
		name, in := p.within(f)
		if in && !strings.HasSuffix(f.File, "_test.go") {
			at.Lines += fmt.Sprintf(" %s:%03d", name, f.Line)
			name = inside.ReplaceAllString(strings.ReplaceAll(name, "[...]", ""), "")
			if name = name[strings.LastIndexByte(name, '.')+1:]; !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
		if !more {
			break
		}
	}
	if len(names) == 0 {
		return nil
	}
	at.Text = what + " in " + strings.Join(names, " of ")
	return &at
}

// Context is one that ends when Places says so.
type Context struct {
	context.Context
	end context.CancelFunc
	at  *Places
}

// Ending gives a context that is asked about at places: it ends at the first one that is new.
func (p *Places) Ending(ctx context.Context) *Context {
	inner, end := context.WithCancel(ctx)
	return &Context{inner, end, p}
}

// Err implements context.Context.
func (c *Context) Err() error {
	if c.at.Call("goes on") != nil {
		c.end()
	}
	return c.Context.Err()
}

// Done implements context.Context.
func (c *Context) Done() <-chan struct{} {
	if c.at.Call("waits") != nil {
		c.end()
	}
	return c.Context.Done()
}
