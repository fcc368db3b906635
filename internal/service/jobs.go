package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"runtime"
	"runtime/metrics"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/sync/semaphore"

	"stockade/core/finding"
	"stockade/core/upstream"
	"stockade/internal/api"
	"stockade/internal/store"
)

// jobs runs pieces of work that take time, one at a time for each object. Those that work out what a
// mirror needs take memory and all of a processor: so many of them run at once, and the others wait in the
// order in which they began. Nothing is written to the records under mu, so that whoever looks at the jobs
// waits for no transaction.
type jobs struct {
	db     *store.DB
	now    func() time.Time
	most   time.Duration // that one may take
	memory int64         // bytes that the service may come to hold while jobs run
	log    *slog.Logger
	tell   func(api.News) // what open pages are told
	heavy  *semaphore.Weighted
	atOnce int // how many of those run

	starting  sync.Mutex // one job begins at a time
	recording sync.Mutex // one caller writes down how jobs ended
	mu        sync.Mutex
	base      context.Context
	running   map[int64]*running
	unwritten map[int64]api.Job // ended, and the records could not be written
	ended     bool
	wait      sync.WaitGroup
}

type running struct {
	job       api.Job
	cancel    context.CancelFunc
	works     bool // and does not wait for a place
	stopped   bool
	ended     string // why it was ended before it was done
	listeners map[chan api.JobEvent]bool
	saved     time.Time
	told      time.Time // when pages were told of its progress
}

// isHeavy tells which kinds of jobs wait for one another.
var isHeavy = map[string]bool{"build": true, "prove": true, "estimate": true, "preview": true, "where": true}

func newJobs(db *store.DB, now func() time.Time, most time.Duration, memory int64, atOnce int,
	log *slog.Logger) *jobs {
	return &jobs{
		heavy:     semaphore.NewWeighted(int64(atOnce)),
		atOnce:    atOnce,
		db:        db,
		now:       now,
		most:      most,
		memory:    memory,
		log:       log,
		tell:      func(api.News) {},
		unwritten: map[int64]api.Job{},
		base:      context.Background(),
		running:   map[int64]*running{},
	}
}

// watch ends the job that began last while the service holds more memory than
// jobs may make it hold. It runs until ctx ends.
func (j *jobs) watch(ctx context.Context) {
	t := time.NewTicker(500 * time.Millisecond)
	defer t.Stop()
	sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		metrics.Read(sample)
		if int64(sample[0].Value.Uint64()) <= j.memory {
			continue
		}
		runtime.GC() // what nobody holds does not count
		if metrics.Read(sample); int64(sample[0].Value.Uint64()) <= j.memory {
			continue
		}
		j.mu.Lock()
		var last *running
		for _, r := range j.running {
			if r.works && (last == nil || r.job.ID > last.job.ID) {
				last = r
			}
		}
		if last != nil && last.ended == "" {
			last.ended = fmt.Sprintf("the service used more than %d MiB of memory for it", j.memory>>20)
			last.cancel()
		}
		j.mu.Unlock()
	}
}

func (j *jobs) begin(ctx context.Context) { j.base = context.WithoutCancel(ctx) }

// end stops all jobs and waits for them.
func (j *jobs) end() {
	j.mu.Lock()
	j.ended = true
	for _, r := range j.running {
		r.cancel()
	}
	j.mu.Unlock()
	j.wait.Wait()
}

// busyError tells that an object is being worked on.
type busyError struct{ job api.Job }

func (e *busyError) Error() string {
	return fmt.Sprintf("job %d (%s) is already working on %s", e.job.ID, e.job.Kind, e.job.Object)
}

// work is what a job does. The result is kept as JSON.
type work func(ctx context.Context, sink func(upstream.Event)) (result any, found finding.List, err error)

// start begins a job. Another one on the same object is refused.
func (j *jobs) start(kind, object, by string, do work) (api.Job, error) {
	j.starting.Lock()
	defer j.starting.Unlock()
	if err := j.free(object); err != nil {
		return api.Job{}, err
	}
	j.record()
	record := store.Job{Kind: kind, Object: object, State: api.Running, By: by, Started: j.now().UTC()}
	if err := j.db.AddJob(&record); err != nil {
		return api.Job{}, err
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.ended { // meanwhile; the next start finds the record, and tells that it was interrupted
		return api.Job{}, errEnding
	}
	ctx, cancel := context.WithCancel(j.base)
	r := &running{job: jobFrom(record), cancel: cancel, listeners: map[chan api.JobEvent]bool{}}
	j.running[record.ID] = r
	j.log.Info("job started", "job", record.ID, "kind", kind, "object", object, "by", by)
	j.news(r.job)
	j.wait.Go(func() { j.run(ctx, r, do) })
	return r.job, nil
}

// errEnding is why no job begins any more.
var errEnding = errors.New("the service is shutting down")

// free tells why no job can begin on an object; nil: one can.
func (j *jobs) free(object string) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.ended {
		return errEnding
	}
	for _, r := range j.running {
		if r.job.Object == object {
			return &busyError{r.job}
		}
	}
	return nil
}

// turn waits until a job may work, and gives its place back. The time that it may take begins then.
func (j *jobs) turn(ctx context.Context, r *running) (done func(), err error) {
	if !isHeavy[r.job.Kind] {
		return func() {}, nil
	}
	if !j.heavy.TryAcquire(1) {
		j.progress(r, upstream.Event{Step: "wait", Remaining: -1,
			Text: fmt.Sprintf("%s are already running, which is the limit (stockade serve "+
				"--jobs)",
				finding.Count(j.atOnce, "job"))})
		if err := j.heavy.Acquire(ctx, 1); err != nil {
			return nil, err
		}
	}
	return func() { j.heavy.Release(1) }, nil
}

func (j *jobs) run(begun context.Context, r *running, do work) {
	defer r.cancel()
	ctx, result, found, err := begun, any(nil), finding.List(nil), error(nil)
	if done, waited := j.turn(begun, r); waited != nil {
		err = waited
	} else {
		j.mu.Lock()
		r.works = true
		j.mu.Unlock()
		timed, cancel := context.WithTimeout(begun, j.most)
		ctx = timed
		result, found, err = guarded(ctx, do, func(e upstream.Event) { j.progress(r, e) })
		done()
		defer cancel()
	}
	var mistake *finding.Mistake
	if errors.As(err, &mistake) {
		j.log.Error("a job crashed", "job", r.job.ID, "kind", r.job.Kind, "object", r.job.Object, "panic",
			mistake.Value, "stack", string(mistake.Stack))
	}
	j.mu.Lock()
	now := j.now().UTC()
	r.job.Ended = &now
	r.job.Findings = append(finding.List{}, found...)
	if result != nil {
		r.job.Result, _ = json.Marshal(result)
	}
	switch {
	case err == nil:
		r.job.State = api.Done
	case r.ended != "" || errors.Is(ctx.Err(), context.DeadlineExceeded):
		if r.ended == "" {
			r.ended = fmt.Sprintf("it took longer than %s", j.most)
		}
		f := finding.New(finding.JobBeyondBounds, r.job.Object, "%s was stopped: %s", r.job.Kind, r.ended)
		r.job.State, r.job.Problem = api.Failed, f.Text
		r.job.Findings = withFinding(r.job.Findings, f)
	case ctx.Err() != nil && r.stopped:
		r.job.State, r.job.Problem = api.Stopped,
			"the job was stopped. Everything that was verified is kept for the next run"
	case ctx.Err() != nil:
		r.job.State, r.job.Problem = api.Interrupted,
			"the service ended during the job. Run it again: everything that was verified is "+
				"kept"
	default:
		r.job.State, r.job.Problem = api.Failed, err.Error()
		if f, ok := finding.From(err); ok {
			r.job.Problem = f.Text
			r.job.Findings = withFinding(r.job.Findings, f)
		} else if f, ok := store.Fault(err); ok {
			r.job.Problem = f.Text
			r.job.Findings = withFinding(r.job.Findings, f)
		} else if l, ok := err.(finding.List); ok {
			r.job.Problem = fmt.Sprintf("%d errors stop the job", len(l))
			for _, f := range l {
				r.job.Findings = withFinding(r.job.Findings, f)
			}
			if len(l) == 1 {
				r.job.Problem = l[0].Text
			}
		}
	}
	r.job.Findings.Sort()
	final := r.job
	j.unwritten[final.ID] = final
	j.mu.Unlock()
	j.record()
	j.logEnd(final)
	j.mu.Lock()
	defer j.mu.Unlock()
	for l := range r.listeners {
		select {
		case l <- api.JobEvent{Job: &final}:
		default: // a listener that does not keep up asks for the job when its stream ends
		}
		close(l)
	}
	delete(j.running, r.job.ID)
	j.news(final)
}

// record writes down how jobs ended. What cannot be written is told from here, and tried
// again when another job begins or ends.
func (j *jobs) record() {
	j.recording.Lock()
	defer j.recording.Unlock()
	j.mu.Lock()
	left := maps.Clone(j.unwritten)
	j.mu.Unlock()
	for id, job := range left {
		if err := j.db.SaveJob(jobRecord(job)); err != nil {
			j.log.Error("the result of a job could not be recorded", "job", id, "state", job.State, "why",
				err)
			continue
		}
		j.mu.Lock()
		delete(j.unwritten, id)
		j.mu.Unlock()
	}
}

// news tells open pages that a job began or ended, without what came of it.
func (j *jobs) news(job api.Job) {
	job.Result, job.Findings = nil, finding.List{}
	j.tell(api.News{ID: job.ID, Job: &job})
}

// logEnd writes how a job ended.
func (j *jobs) logEnd(job api.Job) {
	args := []any{"job", job.ID, "kind", job.Kind, "object", job.Object, "state", job.State, "took",
		job.Ended.Sub(job.Started).Round(time.Millisecond)}
	if job.State == api.Done {
		j.log.Info("job ended", args...)
		return
	}
	j.log.Warn("job ended", append(args, "why", job.Problem)...)
}

// guarded turns a panic of one job into its failure.
func guarded(ctx context.Context, do work, sink func(upstream.Event)) (result any,
	found finding.List, err error) {
	defer finding.Catch(&err)
	return do(ctx, sink)
}

func withFinding(l finding.List, f finding.Finding) finding.List {
	for _, have := range l {
		if have == f {
			return l
		}
	}
	return append(l, f)
}

func (j *jobs) progress(r *running, e upstream.Event) {
	if !j.moved(r, e) {
		return
	}
	j.recording.Lock() // how it ended is not written over
	defer j.recording.Unlock()
	j.mu.Lock()
	job := r.job
	j.mu.Unlock()
	if job.Ended == nil {
		j.db.SaveJob(jobRecord(job))
	}
}

// moved takes progress, and tells whether it is time to write it down.
func (j *jobs) moved(r *running, e upstream.Event) (save bool) {
	j.mu.Lock()
	defer j.mu.Unlock()
	r.job.Progress = e
	for l := range r.listeners {
		select {
		case l <- api.JobEvent{Progress: &e}:
		default:
		}
	}
	at := time.Now()
	if at.Sub(r.told) > progressEvery {
		r.told = at
		j.tell(api.News{ID: r.job.ID, Progress: &e})
	}
	if save = at.Sub(r.saved) > 2*time.Second; save {
		r.saved = at
	}
	return save
}

// listen follows a running job; ok is false when it does not run.
func (j *jobs) listen(id int64) (now api.Job, events chan api.JobEvent, stop func(), ok bool) {
	j.mu.Lock()
	defer j.mu.Unlock()
	r, ok := j.running[id]
	if !ok {
		return api.Job{}, nil, nil, false
	}
	l := make(chan api.JobEvent, 64)
	r.listeners[l] = true
	return r.job, l, func() {
		j.mu.Lock()
		delete(r.listeners, l)
		j.mu.Unlock()
	}, true
}

// get gives a job as it stands.
func (j *jobs) get(id int64) (api.Job, error) {
	if job, ok := j.known(id); ok {
		return job, nil
	}
	rec, err := j.db.JobBy(id)
	if errors.Is(err, store.ErrNotFound) {
		err = absent("job", id)
	}
	return jobFrom(rec), err
}

// known gives a job of which more is known here than is written.
func (j *jobs) known(id int64) (api.Job, bool) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if r, ok := j.running[id]; ok {
		return r.job, true
	}
	job, ok := j.unwritten[id]
	return job, ok
}

// brief gives a job of a list as it stands, without its result.
func (j *jobs) brief(rec store.Job) api.Job {
	if job, ok := j.known(rec.ID); ok {
		job.Result = nil
		return job
	}
	return jobFrom(rec)
}

func (j *jobs) stopJob(id int64) (api.Job, error) {
	j.mu.Lock()
	r, ok := j.running[id]
	if ok {
		r.stopped = true
		r.cancel()
		defer j.mu.Unlock()
		return r.job, nil
	}
	j.mu.Unlock()
	job, err := j.get(id)
	if err == nil {
		return job, &api.Problem{
			Title:  "The job was not stopped",
			Status: 409,
			Type:   "urn:stockade:job.ended",
			Detail: fmt.Sprintf("job %d is already %s", id, job.State),
		}
	}
	return job, err
}

// on gives the running job on an object.
func (j *jobs) on(object string) int64 {
	j.mu.Lock()
	defer j.mu.Unlock()
	for id, r := range j.running {
		if r.job.Object == object {
			return id
		}
	}
	return 0
}

// others names the jobs that run on other objects, in words.
func (j *jobs) others(object string) string {
	var names []string
	for _, r := range j.list() {
		if r.Object != object {
			names = append(names, fmt.Sprintf("job %d (%s of %s)", r.ID, r.Kind, r.Object))
		}
	}
	if len(names) == 0 {
		return "a job that puts files into the pool"
	}
	slices.Sort(names)
	return strings.Join(names, ", ")
}

func (j *jobs) list() []api.Job {
	j.mu.Lock()
	defer j.mu.Unlock()
	out := []api.Job{}
	for _, r := range j.running {
		out = append(out, r.job)
	}
	return out
}

func jobFrom(r store.Job) api.Job {
	out := api.Job{
		ID:       r.ID,
		Kind:     r.Kind,
		Object:   r.Object,
		State:    r.State,
		By:       r.By,
		Started:  r.Started,
		Ended:    r.Ended,
		Problem:  r.Problem,
		Findings: finding.List{},
	}
	json.Unmarshal([]byte(r.Progress), &out.Progress)
	json.Unmarshal([]byte(r.Findings), &out.Findings)
	if r.Result != "" {
		out.Result = json.RawMessage(r.Result)
	}
	return out
}

func jobRecord(j api.Job) store.Job {
	progress, _ := json.Marshal(j.Progress)
	found, _ := json.Marshal(j.Findings)
	return store.Job{ID: j.ID, Kind: j.Kind, Object: j.Object, State: j.State, By: j.By,
		Started: j.Started, Ended: j.Ended,
		Progress: string(progress), Problem: j.Problem, Findings: string(found), Result: string(j.Result)}
}

func (s *Service) handleJobs(c *gin.Context) (any, error) {
	limit, cursor, err := paging(c)
	if err != nil {
		return nil, err
	}
	state := c.Query("state")
	if all := api.JobState("").Values(); state != "" && !slices.Contains(all, state) {
		return nil, badQuery("state", state, "allowed are "+strings.Join(all, ", "))
	}
	if as := c.Query("as"); as != "" {
		return nil, takenAway(c, as, "jobs", func(yield func(api.Job) error) error {
			return s.eachJob(state, c.Query("object"), yield)
		})
	}
	rows, err := s.db.Jobs(state, c.Query("object"), max(cursor, 0), limit)
	out := api.Page[api.Job]{Items: []api.Job{}}
	for _, r := range rows {
		if job := s.jobs.brief(r); state == "" || string(job.State) == state {
			out.Items = append(out.Items, job)
		}
	}
	if len(rows) == limit {
		out.Next = strconv.FormatInt(rows[limit-1].ID, 10)
	}
	return out, err
}

// eachJob gives the jobs of a state, on an object, the newest first.
func (s *Service) eachJob(state, object string, yield func(api.Job) error) error {
	for cursor := int64(0); ; {
		rows, err := s.db.Jobs(state, object, cursor, pageMost)
		if err != nil {
			return err
		}
		for _, r := range rows {
			cursor = r.ID
			job := s.jobs.brief(r)
			if state != "" && string(job.State) != state {
				continue
			}
			if err := yield(job); err != nil {
				return err
			}
		}
		if len(rows) < pageMost {
			return nil
		}
	}
}

func (s *Service) onJob(f func(int64) (api.Job, error)) handler {
	return func(c *gin.Context) (any, error) {
		id, err := number(c, "id")
		if err != nil {
			return nil, err
		}
		return f(int64(id))
	}
}

// jobEvents streams a job's progress until it ends.
func (s *Service) jobEvents(c *gin.Context) (any, error) {
	id, err := number(c, "id")
	if err != nil {
		return nil, err
	}
	if _, err := s.jobs.get(int64(id)); err != nil {
		return nil, err
	}
	now, events, stop, running := s.jobs.listen(int64(id))
	c.Header("Content-Type", "text/event-stream")
	control := http.NewResponseController(c.Writer)
	control.SetReadDeadline(time.Time{})
	deadline := func() { control.SetWriteDeadline(time.Now().Add(streamTime)) }
	send := func(name string, e api.JobEvent) {
		raw, _ := json.Marshal(e)
		deadline()
		fmt.Fprintf(c.Writer, "event: %s\ndata: %s\n\n", name, raw)
		c.Writer.Flush()
	}
	if running {
		defer stop()
		usedFor(c.Request.Context(), isWaitedFor)
		if now.Progress.Step != "" { // how far it is, before anything moves on
			send("progress", api.JobEvent{Progress: &now.Progress})
		}
		beat := time.NewTicker(15 * time.Second)
		defer beat.Stop()
		for open := true; open; {
			select {
			case e, ok := <-events:
				if open = ok; ok && e.Progress != nil {
					send("progress", e)
				}
			case <-beat.C:
				deadline()
				io.WriteString(c.Writer, ": still here\n\n")
				c.Writer.Flush()
			case <-c.Request.Context().Done():
				return nil, nil
			}
		}
	}
	job, err := s.jobs.get(int64(id))
	if err != nil {
		return nil, err
	}
	send("end", api.JobEvent{Job: &job})
	return nil, nil
}
