package mirror

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/archive/deb"
	"stockade/core/archive/rpm"
	"stockade/core/disk"
	"stockade/core/pool"
	"stockade/internal/made/faults"
	"stockade/internal/made/kept"
	"stockade/internal/must"
)

// failing lets calls of a family fail. It stands above the family itself, so that what only
// some can do they still can.
type failing struct {
	inner  archive.Family
	at     *faults.Places
	looked *atomic.Int64 // how often it looked inside a package
}

func (f failing) Indexes(s archive.Source, r *archive.Root) ([]archive.IndexChoice, error) {
	if err := f.at.Call("lists of a family"); err != nil {
		return nil, err
	}
	return f.inner.Indexes(s, r)
}

func (f failing) ReadRoot(s archive.Source, c archive.RootChoice, files map[string][]byte,
	v archive.Verifier) (*archive.Root, error) {
	if err := f.at.Call("root of a family"); err != nil {
		return nil, err
	}
	return f.inner.ReadRoot(s, c, files, v)
}

func (f failing) ReadIndex(s archive.Source, x archive.IndexChoice, plain io.Reader,
	yield func(*archive.Package, []byte) error) error {
	if err := f.at.Call("list of a family"); err != nil {
		return err
	}
	return f.inner.ReadIndex(s, x, plain, yield)
}

func (f failing) Inspect(file archive.PackageFile, v archive.Verifier) (archive.Inspected, error) {
	if err := f.at.Call("package of a family"); err != nil {
		return archive.Inspected{}, err
	}
	f.looked.Add(1)
	return f.inner.Inspect(file, v)
}

func (f failing) Write(w archive.Writing) error {
	if err := f.at.Call("writing of a family"); err != nil {
		return err
	}
	return f.inner.Write(w)
}

type (
	ofDeb  struct{ deb.Family }
	ofRPM  struct{ rpm.Family }
	ofAlpm struct{ alpm.Family }
)

func failingFamilies(at *faults.Places, looked *atomic.Int64) archive.Registry {
	return archive.NewRegistry(
		struct {
			failing
			ofDeb
		}{failing{deb.Family{}, at, looked}, ofDeb{}},
		struct {
			failing
			ofRPM
		}{failing{rpm.Family{}, at, looked}, ofRPM{}},
		struct {
			failing
			ofAlpm
		}{failing{alpm.Family{}, at, looked}, ofAlpm{}})
}

// What the pool and the families fail with once at each place at which a scenario asks them, and
// what comes of a step that is ended at each place at which it asks whether to go on: what is told
// is kept, no edition is sealed, and in the end the step gives what it gives where nothing failed.
func TestEachPlaceThatMayFailSaysSo(t *testing.T) {
	for _, c := range []struct {
		name string
		of   []string // files of scenarios, and the number of one in each
		with error
	}{
		{"the disk", []string{"whole 1", "again 4", "rpm 1", "deb 5"},
			&fs.PathError{Op: "use", Path: "disk", Err: syscall.EIO}},
		{"ended", []string{"whole 1", "again 4", "rpm 1", "deb 5"}, context.Canceled},
	} {
		t.Run(c.name, func(t *testing.T) {
			at := &faults.Places{In: []string{"stockade/core/mirror", "stockade/core/upstream"}, With: c.with}
			var told []outcome
			for _, name := range c.of {
				var file string
				var n int
				_, err := fmt.Sscanf(name, "%s %d", &file, &n)
				must.Do(t, err)
				told = append(told, failingEach(t, scenarios(t, file)[n-1], at)...)
			}
			kept.Same(t, "places/"+strings.ReplaceAll(c.name, " ", "-")+".txt", written(told))
		})
	}
}

// outcome is what came of a call that failed.
type outcome struct {
	*faults.Place
	of, said string
}

// failingEach plays a scenario. Each step is done again until no call fails in it any more.
func failingEach(t *testing.T, c scenario, at *faults.Places) (told []outcome) {
	s := newStage(t)
	s.builder.Workers = 1
	s.places = at
	ends := errors.Is(at.With, context.Canceled)
	if ends {
		s.ctx = func() context.Context { return at.Ending(t.Context()) }
	} else {
		dir := t.TempDir()
		store, err := pool.OpenOn(&faults.Disk{System: disk.OS, Root: dir, At: at,
			Only: []string{"open ", "read ", "seek ", "write "}}, dir+"/pool", dir+"/tmp")
		must.Do(t, err)
		s.builder.Pool = store
		s.builder.Families = failingFamilies(at, &s.looked)
	}
	for _, asked := range c.Steps {
		house := asked.House
		asked.House = nil
		at.Off(func() { s.prepare(c.Name, asked) })
		for _, name := range slices.Sorted(maps.Keys(house)) {
			for _, file := range s.handed(house[name]) {
				told = append(told, s.handing(name, file)...)
			}
		}
		var failed []outcome
		var went []any // what was given all the same
		for try := 0; ; try++ {
			if try > 200 {
				t.Fatalf("%s %s fails again and again", asked.Do, asked.Of)
			}
			had := len(s.editions[asked.Of])
			given, err := s.answer(asked)
			place, again := at.Next()
			if place == nil {
				for i, o := range failed {
					if o.said == "" {
						failed[i].said = s.apart(went[i], given)
					}
				}
				told = append(told, failed...)
				break
			}
			o := outcome{place, asked.Do, ""}
			if ends && again > 0 && strings.HasPrefix(place.Text, "goes on") {
				place.Text += ", which asks again"
			}
			if err != nil {
				o.said = somePath.ReplaceAllString((&words{map[string]string{}}).of(err.Error()), "PATH")
			}
			failed, went = append(failed, o), append(went, given)
			if made := s.editions[asked.Of]; len(made) > had { // the next is to do all of it
				if s.editions[asked.Of] = made[:had]; err != nil {
					t.Errorf("%s: an edition was made", place.Text)
				}
			}
		}
	}
	if files, _, err := s.builder.Pool.Aside(); files > 0 || err != nil {
		t.Errorf("%d files are set aside as if they were damaged, %v", files, err)
	}
	return told
}

// somePath is left out of what is told: lists are fetched side by side, and any may be the first.
var somePath = regexp.MustCompile(`(dists|repodata|wrack)/[^ :]+`)

var plainField = regexp.MustCompile(`^[a-z_]+$`)

// handing hands one file in until no call fails any more.
func (s *stage) handing(name string, file []byte) (told []outcome) {
	for {
		err := s.hand(name, file)
		place, _ := s.places.Next()
		if place == nil {
			return told
		}
		o := outcome{place, "handing in", "it is taken"}
		if err != nil {
			o.said = (&words{map[string]string{}}).of(err.Error())
		}
		told = append(told, o)
	}
}

// apart tells how an answer differs from what is given where nothing fails.
func (s *stage) apart(given, whole any) string {
	lines := func(of any) []string {
		s.out.Reset()
		if s.fields(of); s.out.Len() == 0 {
			return nil
		}
		return strings.Split(strings.TrimSpace((&words{map[string]string{}}).of(s.out.String())), "\n")
	}
	is, was := lines(given), lines(whole)
	var differ []string
	for _, l := range is {
		field, _, _ := strings.Cut(l, ": ")
		switch {
		// The record has the findings in it, and what is to be fetched is less with each try.
		case slices.Contains(was, l) ||
			slices.Contains([]string{"edition", "fetch_bytes", "fetch_files"}, field):
		case plainField.MatchString(field): // of which source depends on which is read first
			differ = append(differ, "in "+field)
		default:
			differ = append(differ, l)
		}
	}
	if len(differ) == 0 {
		return "all is given"
	}
	return "what is given differs\n    " + strings.Join(slices.Compact(differ), "\n    ")
}

// written lists what came of each place, once for what is the same.
func written(told []outcome) string {
	lines := map[string]map[string]bool{}
	for _, o := range told {
		line := fmt.Sprintf("%s\n  %s: %s\n", o.Text, o.of, o.said)
		if lines[line] == nil {
			lines[line] = map[string]bool{}
		}
		lines[line][o.Lines] = true
	}
	var out []string
	for line, places := range lines {
		if len(places) > 1 {
			line = strings.Replace(line, "\n", fmt.Sprintf(" (%d places)\n", len(places)), 1)
		}
		out = append(out, line)
	}
	slices.Sort(out)
	return strings.Join(out, "")
}
