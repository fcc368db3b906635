package cli

import (
	"cmp"
	"fmt"
	"stockade/core/upstream"
	"sync/atomic"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
)

var stepWords = map[string]string{"roots": "downloading release metadata", "probe": "measuring upstreams",
	"indexes": "downloading indexes",
	"select":  "choosing packages", "files": "reading the file lists of packages",
	"packages": "downloading packages", "source packages": "downloading source packages",
	"write": "writing indexes", "seal": "sealing", "verify": "verifying files",
	"copy": "copying files", "wait": "waiting", "sweep": "removing",
	"examine": "comparing the release metadata with", "read": "reading the packages",
	"refill": "restoring missing files of"}

// joint stands between what is done and what it is about.
var joint = map[string]string{"roots": " of ", "indexes": " of ", "files": " of ", "read": " of "}

// progress draws events.
type progress struct {
	a     *app
	bars  *mpb.Progress
	bar   *mpb.Bar
	step  string
	text  string
	last  time.Time
	event *atomic.Pointer[upstream.Event] // the bar's own; the drawing goroutine reads it
}

func (a *app) progress() *progress {
	p := &progress{a: a}
	if a.ttyErr && !a.quiet {
		p.bars = mpb.New(mpb.WithOutput(a.err), mpb.WithWidth(40), mpb.WithRefreshRate(120*time.Millisecond))
	}
	return p
}

func (p *progress) show(e upstream.Event) {
	if p.a.quiet {
		return
	}
	name := stepWords[e.Step]
	if name == "" {
		name = e.Step
	}
	if p.bars == nil {
		if fresh := e.Step != p.step || e.Text != p.text; fresh || time.Since(p.last) > 2*time.Second {
			line := name
			if e.Text != "" {
				line += cmp.Or(joint[e.Step], " ") + e.Text
			}
			if e.BytesTotal > 0 {
				line += fmt.Sprintf(": %s of %s", size(e.Bytes), size(e.BytesTotal))
				if e.Rate > 0 && e.Bytes > 0 {
					line += fmt.Sprintf(", %s/s", size(e.Rate))
				}
				if e.Remaining > 0 {
					line += ", " + span(time.Duration(e.Remaining)*time.Second) + " left"
				}
			}
			fmt.Fprintln(p.a.err, line)
			p.step, p.text, p.last = e.Step, e.Text, time.Now()
		}
		return
	}
	if e.BytesTotal <= 0 {
		return
	}
	if p.bar == nil || p.step != e.Step {
		p.finish()
		p.step = e.Step
		own := &atomic.Pointer[upstream.Event]{}
		own.Store(&e)
		p.event = own
		p.bar = p.bars.AddBar(e.BytesTotal, mpb.BarRemoveOnComplete(),
			mpb.PrependDecorators(decor.Name(name, decor.WC{W: 18, C: decor.DindentRight})),
			mpb.AppendDecorators(decor.Any(func(decor.Statistics) string {
				e := own.Load()
				s := fmt.Sprintf(" %d/%d files, %s of %s", e.Files, e.FilesTotal,
					size(e.Bytes), size(e.BytesTotal))
				if e.Rate > 0 {
					s += fmt.Sprintf(", %s/s", size(e.Rate))
				}
				if e.Remaining >= 0 && e.Bytes < e.BytesTotal {
					s += ", " + span(time.Duration(e.Remaining)*time.Second) + " left"
				}
				return s
			})))
	}
	p.event.Store(&e)
	p.bar.SetTotal(max(e.BytesTotal, e.Bytes+1), false) // completing is finish's
	p.bar.SetCurrent(e.Bytes)
}

func (p *progress) finish() {
	if p.bar != nil {
		p.bar.SetTotal(-1, true) // what came of it is told; a bar that is complete leaves no trace
		p.bar.Wait()
	}
	p.bar = nil
}

func (p *progress) done() {
	p.finish()
	if p.bars != nil {
		p.bars.Wait()
	}
}
