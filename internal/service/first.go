package service

import (
	"fmt"
	"maps"
	"slices"

	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/store"
)

// taken is what is kept of the first files that machines were given.
type taken struct {
	Group string `json:"group"`
}

// filesTaken notes the first time that files were taken to be put on a machine, by somebody who runs the
// site: who only looks ends nobody's first steps. They are handed out, whether that can be kept or not.
func (s *Service) filesTaken(by store.Account, group string) {
	if rank[by.Role] < rank[api.Operator] {
		return
	}
	_, there, err := s.db.Kept("taken", "files", &taken{})
	if err == nil && !there {
		err = s.db.Keep("taken", "files", taken{group}, s.now().UTC())
	}
	if err != nil {
		s.log.Warn("the download of machine files could not be recorded", "group", group, "error", err)
	}
}

// firstPath gives the way from an empty service to a machine that installs, each step with what came
// of it, or what it needs; nothing once the first files for machines were taken.
func (s *Service) firstPath(m *model, lanes []api.Lane) ([]api.FirstStep, error) {
	if _, there := m.kept["taken"]["files"]; there {
		return nil, nil
	}
	set, editions := m.set, m.editionsOf("")
	p := firstWay{}
	sources := slices.DeleteFunc(slices.Sorted(maps.Keys(set.Sources)), func(name string) bool {
		return set.Sources[name].Disabled || set.Sources[name].Managed()
	})
	p.step("describe", "Add a source", "/describe?new=source", len(sources) > 0,
		quantity(len(sources), "source")+" described", "where packages come from, and which "+
			"keys may sign them")
	far, err := m.far.get(func() (map[string][]string, error) { return m.howFar(sources), nil })
	if err != nil {
		return nil, err
	}
	here, counting, measured, fresh := far["here"], far["counting"], far["measured"], far["fresh"]
	p.step("key", "Import its key", "/keys", len(here) > 0 || len(counting) > 0,
		"the keys were imported for "+finding.Names(here, 3), "the certificate of the owner")
	p.step("vouch", "Vouch for the key", "/keys?decide=1", len(counting) > 0,
		"the keys are vouched for, for "+finding.Names(counting, 3),
		"a warden, and the whole fingerprint from the owner by another channel")
	to := "/sources"
	if len(sources) > 0 {
		to += "/" + sources[0]
	}
	p.step("probe", "Probe its upstreams", to, len(measured) > 0, finding.Names(measured, 3)+" probed",
		"no preparation; it measures which server is fast and current")
	p.step("refresh", "Refresh it", to, len(fresh) > 0,
		"release metadata was accepted of "+finding.Names(fresh, 3),
		"a vouched key, so that the release metadata can be verified")
	mirrors := set.Names("mirror")
	p.step("mirror", "Add a mirror", "/describe?new=mirror", len(mirrors) > 0,
		finding.Names(mirrors, 3)+" described",
		"the sources that it takes from, and the packages that you want")
	to = "/mirrors"
	if len(mirrors) > 0 {
		to += "/" + mirrors[0]
	}
	estimated, built := "", ""
	if len(editions) > 0 {
		estimated, built = "mirror "+editions[0].Mirror, editions[0].Name+" is sealed"
	} else if estimated, err = s.estimated(); err != nil {
		return nil, err
	}
	p.step("estimate", "Estimate it", to, estimated != "", "done for "+estimated,
		"a mirror whose sources have vouched keys")
	p.step("build", "Build an edition", to, len(editions) > 0, built,
		"the time and the disk space that the estimate shows")
	var shown []string
	for _, l := range lanes {
		if l.Edition != "" {
			shown = append(shown, l.Name+" shows "+l.Edition)
		}
	}
	p.step("lane", "Move a lane to it", "/lanes", len(shown) > 0, finding.Names(shown, 3),
		"a lane of the mirror (Definitions, New, lane)")
	p.step("machine", "Install the files on a machine", "/machines", false, "",
		"a group of machines that follow the lane (Definitions, New, group)")
	return p.steps, nil
}

// howFar tells of which sources certificates are here, signatures count, servers were measured and metadata
// was accepted.
func (m *model) howFar(sources []string) map[string][]string {
	far := map[string][]string{}
	for _, name := range sources {
		is := map[string]bool{"counting": m.set.Sources[name].Unsigned.Reason != ""}
		for _, f := range m.set.Signers(name) {
			_, here := m.trusted.certificates[f]
			is["here"] = is["here"] || here
			is["counting"] = is["counting"] || here && m.trusted.Counts(f, name)
		}
		_, is["measured"] = m.kept["probe"][name]
		_, is["fresh"] = m.kept["accepted"][name]
		for what, so := range is {
			if so {
				far[what] = append(far[what], name)
			}
		}
	}
	return far
}

type firstWay struct{ steps []api.FirstStep }

func (p *firstWay) step(id, title, to string, done bool, result, needs string) {
	s := api.FirstStep{Step: id, Title: title, To: to, Done: done, Text: "needs " + needs}
	if done {
		s.Text = result
	}
	p.steps = append(p.steps, s)
}

// estimated names a mirror of which an estimate or a proof came to its end.
func (s *Service) estimated() (string, error) {
	last, err := s.db.LastJobs()
	if err != nil {
		return "", err
	}
	for _, j := range last {
		if j.State == api.Done && slices.Contains([]string{"estimate", "preview", "prove", "build"},
			j.Kind) {
			return j.Object, nil
		}
	}
	return "", nil
}

func quantity(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
