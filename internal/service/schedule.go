package service

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/store"
)

// schedule starts the builds and probes that are due, three times a minute. What is due while its
// object is worked on waits for that.
func (s *Service) schedule(ctx context.Context) {
	last := s.now()
	waiting := map[string]bool{}
	t := time.NewTicker(20 * time.Second)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		now := s.now()
		set, err := s.db.Described()
		if err != nil {
			s.log.Error("a schedule cannot be read", "error", err)
			continue
		}
		s.beginDue(set, last, now, waiting)
		last = now
	}
}

// beginDue starts what was due between two times, and what waits. waiting has what is due and could not
// begin, since its object is worked on.
func (s *Service) beginDue(set *definition.Set, last, now time.Time, waiting map[string]bool) {
	try := func(object string, start func() error) {
		err := start()
		var busy *busyError
		if errors.As(err, &busy) {
			if !waiting[object] {
				s.log.Info("scheduled job waits", "object", object, "for job", busy.job.ID)
			}
			waiting[object] = true
			return
		}
		delete(waiting, object)
		if err != nil {
			s.log.Warn("scheduled job did not start", "object", object, "error", err)
		}
	}
	for name, m := range set.Mirrors {
		if object := "mirror " + name; waiting[object] || definition.Due(m.Schedule, last, now) {
			try(object, func() error {
				_, err := s.startMirror("build", name, itself("schedule"), api.ProofAsked{})
				return err
			})
		}
	}
	m, err := s.model()
	if err != nil {
		s.log.Error("the editions to verify could not be determined", "error", err)
		m = &model{}
	}
	for _, v := range m.toVerify() {
		if object := "edition " + v.id.String(); waiting[object] || definition.Due(v.schedule, last, now) {
			try(object, func() error {
				_, err := s.startVerify(v.id.Mirror, v.id.Number, "schedule")
				return err
			})
		}
	}
	for name, src := range set.Sources {
		object := "source " + name
		if !src.Disabled && (waiting[object] || definition.Due(src.ProbeSchedule, last, now)) {
			try(object, func() error {
				_, err := s.startProbe(name, "schedule", nil)
				return err
			})
		}
	}
}

// verifying is an edition that a lane shows, and when it is verified by itself.
type verifying struct {
	id       edition.ID
	schedule string
}

// toVerify gives the editions that lanes show, of mirrors that say when these are verified.
func (m *model) toVerify() (out []verifying) {
	for _, name := range slices.Sorted(maps.Keys(m.shown)) {
		id, err := edition.ParseID(name, "")
		if err == nil && m.set.Mirrors[id.Mirror].VerifySchedule != "" {
			out = append(out, verifying{id, m.set.Mirrors[id.Mirror].VerifySchedule})
		}
	}
	return out
}

// missed adds scheduled work that was due while it could not begin, such as while the service
// was away: nothing of the kind began since, and the schedule was there then.
func (s *Service) missed(m *model, out states) error {
	set := m.set
	var all []store.Job
	tell := func(kind, verb, name, schedule string, since func() (time.Time, error)) error {
		now := s.now()
		due, ok := definition.LastDue(schedule, now.Add(-grace))
		if !ok {
			return nil
		}
		if all == nil {
			var err error
			if all, err = s.db.LastJobs(); err != nil {
				return err
			}
		}
		object := kind + " " + name
		for _, j := range all {
			if j.Object == object && j.Kind == verb && !j.Started.Before(due) {
				return nil
			}
		}
		if at, err := since(); err != nil || at.After(due) {
			return err
		}
		out.add(again(finding.New(finding.JobMissed, object, "its %s was due on %s, and has "+
			"not started since",
			verb, due.UTC().Format(time.DateTime)).Do("run stockade %s %s %s", kind, verb, name), verb,
			object))
		return nil
	}
	described := func(kind, name string) func() (time.Time, error) {
		return func() (time.Time, error) { return s.db.DescribedSince(kind, name) }
	}
	for name, of := range set.Mirrors {
		if err := tell("mirror", "build", name, of.Schedule, described("mirror", name)); err != nil {
			return err
		}
	}
	for _, v := range m.toVerify() {
		since := func() (time.Time, error) { // its mirror is as it is, or the edition was made
			at, err := s.db.DescribedSince("mirror", v.id.Mirror)
			for _, e := range m.editions[v.id.Mirror] {
				if e.Number == v.id.Number && e.Created.After(at) {
					at = e.Created
				}
			}
			return at, err
		}
		if err := tell("edition", "verify", v.id.String(), v.schedule, since); err != nil {
			return err
		}
	}
	for name, src := range set.Sources {
		if src.Disabled {
			continue
		}
		if err := tell("source", "probe", name, src.ProbeSchedule, described("source", name)); err != nil {
			return err
		}
	}
	return nil
}

// grace is how late scheduled work may begin.
const grace = 5 * time.Minute
