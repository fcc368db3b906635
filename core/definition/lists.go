package definition

import (
	"bufio"
	"bytes"
	"slices"
	"strconv"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// maxListed bounds what one list names: a machine has some thousands of packages.
const maxListed = 50_000

// ReadList reads the file of a list: of an example machine what its own program prints, otherwise
// a name on each line, perhaps with a version bound. Lines that begin with # are passed over.
// An error is a finding that names the line.
func (l List) ReadList(data []byte, families archive.Registry) ([]string, error) {
	if l.Family == "" {
		return readNames(data)
	}
	f, ok := families[l.Family].(archive.Inventoried)
	if !ok {
		return nil, finding.New(finding.DefineBadValue, "",
			"installed lists of the family %q are not supported",
			l.Family)
	}
	have, err := f.ReadInventory(data)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, id := range have {
		if id.Unfinished != "" {
			continue // nothing may rest on it
		}
		out = append(out, strings.TrimSpace(strings.TrimRight(id.Name+" "+id.Version, " ")+" "+id.Arch))
	}
	if len(out) == 0 {
		return nil, finding.New(finding.DefineBadValue, "", "the list contains no installed "+
			"packages").
			Do("make it on the machine with: %s", f.PrintsInventory())
	}
	return bounded(out)
}

func readNames(data []byte) (out []string, err error) {
	lines := bufio.NewScanner(bytes.NewReader(data))
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if _, err := archive.ParseWant(line); err != nil {
			return nil, finding.New(finding.DefineBadValue, "", "line %d of the list: %v", n, err)
		}
		if line = strings.Join(strings.Fields(line), " "); !slices.Contains(out[max(0, len(out)-1):], line) {
			out = append(out, line)
		}
	}
	if lines.Err() != nil {
		return nil, finding.New(finding.DefineBadValue, "", "the list cannot be read: %v", lines.Err())
	}
	return bounded(out)
}

func bounded(out []string) ([]string, error) {
	if len(out) > maxListed {
		return nil, finding.New(finding.ContentTooLarge, "",
			"the list has %d packages; the limit is %d",
			len(out), maxListed)
	}
	return out, nil
}

// Installed reads what is recorded of the list of an example machine.
func (l List) Installed() (out []archive.Identity) {
	for _, line := range l.Packages {
		words := append(strings.Fields(line), "", "", "")
		out = append(out, archive.Identity{Name: words[0], Version: words[1], Arch: words[2]})
	}
	return out
}

// Wants gives what a list asks for: names, and of a list of wanted packages their bounds.
func (l List) Wants() []string {
	if l.Family == "" {
		return l.Packages
	}
	var out []string
	for _, id := range l.Installed() {
		if !slices.Contains(out[max(0, len(out)-1):], id.Name) {
			out = append(out, id.Name)
		}
	}
	return out
}

// TakeFiles puts what belongs into records in place of the files that documents name, by the paths
// that Resolve gives: the certificates of authorities, and what stands on lists. A list that
// cannot be read is left as it is; Check tells of it.
func (s *Set) TakeFiles(files map[string][]byte, families archive.Registry) {
	for name, a := range s.Authorities {
		if text, ok := files[s.ResolveAuthority(name)]; ok && a.File != "" {
			a.Certificates = string(text)
			s.Authorities[name] = a
		}
	}
	for name, l := range s.Lists {
		if text, ok := files[s.ResolveList(name)]; ok && l.File != "" {
			if packages, err := l.ReadList(text, families); err == nil {
				l.Packages = packages
				s.Lists[name] = l
			}
		}
	}
}

// FileNames gives the paths of all files that documents name.
func (s *Set) FileNames() (out []string) {
	for name := range s.Keys {
		out = append(out, s.Resolve(name))
	}
	for name := range s.Authorities {
		out = append(out, s.ResolveAuthority(name))
	}
	for name := range s.Lists {
		out = append(out, s.ResolveList(name))
	}
	out = slices.DeleteFunc(out, func(path string) bool { return path == "" })
	slices.Sort(out)
	return slices.Compact(out)
}

func (c *checker) list(name string, l List) {
	object, path := "list "+name, "lists."+name
	if l.Family != "" && c.around.Families[l.Family] == nil {
		c.add(finding.DefineBadValue, object, path+".family", "the family %q is unknown", l.Family).WayOut =
			"the families are " + strings.Join(c.around.Families.Names(), ", ")
		return
	}
	switch {
	case l.File == "" && len(l.Packages) == 0:
		c.add(finding.DefineMissingField, object, path+".file", "the list has neither file nor "+
			"packages")
	case l.File != "" && c.around.ReadFile != nil:
		data, err := c.around.ReadFile(c.ResolveList(name))
		if err != nil && len(l.Packages) == 0 {
			c.add(finding.DefineBadValue, object, path+".file", "the file %s cannot be read",
				c.ResolveList(name)).WayOut = lookFor(l.File)
		} else if err == nil {
			if _, err := l.ReadList(data, c.around.Families); err != nil {
				c.adopt(err, finding.DefineBadValue, object, path+".file")
			}
		}
	case l.File == "" && l.Family == "":
		for i, w := range l.Packages {
			c.wish(object, path+".packages."+strconv.Itoa(i), w, nil)
		}
	}
}

// wish checks a name with its bound; families are those whose version it may be.
func (c *checker) wish(object, at, text string, families map[string]archive.Family) {
	r, err := archive.ParseWant(text)
	if err != nil {
		c.adopt(err, finding.DefineBadValue, object, at)
		return
	}
	if r.Op == archive.Any {
		return
	}
	for _, f := range families {
		if err := f.CheckVersion(r.Version); err != nil {
			c.adopt(err, finding.DefineBadValue, object, at)
			return
		}
	}
}

// together checks a set of packages that shall go together, with bounds of these families.
func (c *checker) together(object, path string, set []string, families map[string]archive.Family) {
	if len(set) == 0 {
		c.add(finding.DefineMissingField, object, path, "the set lists no packages")
	}
	for i, w := range set {
		c.wish(object, path+"."+strconv.Itoa(i), w, families)
	}
}

// familiesOf gives the families of sources.
func (c *checker) familiesOf(sources []string) map[string]archive.Family {
	out := map[string]archive.Family{}
	for _, s := range sources {
		if f := c.Sources[s].Family; c.around.Families[f] != nil {
			out[f] = c.around.Families[f]
		}
	}
	return out
}

// baseline checks what machines have already; from are the sources of the mirror itself.
func (c *checker) baseline(object, path string, f Baseline, from []string) {
	if f.List != "" && reference(c, object, path+".list", "list", f.List, c.Lists) &&
		c.Lists[f.List].Family == "" {
		c.add(finding.DefineBadValue, object, path+".list",
			"the list %q holds wanted packages, but an installed list is needed here", f.List).WayOut =
			"give the list the family of the machine that it is from"
	}
	for i, s := range f.Sources {
		at := path + ".sources." + strconv.Itoa(i)
		switch known := reference(c, object, at, "source", s, c.Sources); {
		case known && slices.Contains(from, s):
			c.add(finding.DefineBadValue, object, at,
				"%q is a source of the mirror, so it cannot be a source of the baseline, too", s)
		case known && c.Sources[s].Disabled:
			c.add(finding.DefineBadValue, object, at, "the source %q is disabled", s).WayOut =
				"enable it, or remove it under baseline"
		}
	}
}

// uses tells whether a mirror names a list.
func (m Mirror) uses(list string) bool {
	return m.Baseline.List == list || slices.Contains(m.Want.Lists, list) ||
		slices.ContainsFunc(m.From, func(f From) bool { return slices.Contains(f.Want.Lists, list) })
}

// ListsOf gives the lists that a mirror names, and those of the groups that follow it.
func (s *Set) ListsOf(mirror string) []string {
	return slices.DeleteFunc(s.Names("list"), func(list string) bool {
		return !s.Mirrors[mirror].uses(list) && len(where(s.Groups, func(g Group) bool {
			return g.Baseline.List == list && s.Lanes[g.Lane].Mirror == mirror
		})) == 0
	})
}
