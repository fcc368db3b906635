package definition

import (
	"bytes"
	"fmt"
	"maps"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/core/trust"
)

// Machine is what is read of a machine.
type Machine struct {
	Configured archive.Configured
	// Architecture is taken where a source names none.
	Architecture string
	// Root is where the machine's files lie; the description names keyrings below it.
	Root string
	// ReadKey reads a keyring, by its absolute path on the machine.
	ReadKey func(path string) ([]byte, error)
	// Runs is the release that the machine runs, by its name; empty where it is not known.
	Runs   string
	Family archive.Family // of the client that reads this
	// Global are the keyrings whose keys count for every source, by their paths.
	Global []string
	// Databases are certificates, binary, out of databases whose keys count for every source,
	// by the paths of these.
	Databases map[string][]byte
	// Keyrings are the files that lie where keyrings do which sources name.
	Keyrings []string
}

// Imported is a machine's configuration as a description.
type Imported struct {
	Set      *Set
	Findings finding.List
	// Keys are the certificates that were found in the files themselves, and have to be
	// written to the files that the description names: keys/NAME.asc.
	Keys map[string][]byte
	// Files are those that the description names and that could be read, Keys among them, by
	// the paths that it names.
	Files map[string][]byte
	// comments stand above each source.
	comments  map[string][]string
	unchecked map[string]bool   // sources that the machine takes whoever signed them
	told      map[string]bool   // findings, by code, place and text
	names     map[string]int    // how many sources were called alike
	keyrings  map[string]string // file of each key's name; empty: still to be brought in
}

// Import makes a description of what a machine is configured with. Nothing is vouched
// for: keys come with their fingerprints and where they were found, and a person
// decides. The same files give the same description.
//
// Several are read of one machine where it has clients of several families.
func Import(of ...Machine) *Imported {
	i := &Imported{Set: NewSet(), Keys: map[string][]byte{}, Files: map[string][]byte{},
		unchecked: map[string]bool{}, comments: map[string][]string{},
		Findings: finding.List{}, told: map[string]bool{}, names: map[string]int{},
		keyrings: map[string]string{}}
	seen := map[string]string{} // upstream, release and component → where it stands
	for _, m := range of {
		i.Findings = append(i.Findings, m.Configured.Findings...)
		for _, c := range m.Configured.Sources {
			i.source(m, c, seen)
		}
		i.unreferred(m)
		i.otherReleases(m)
	}
	i.Set.Fill()
	i.Findings.Sort()
	return i
}

func (i *Imported) source(m Machine, c archive.ConfiguredSource, seen map[string]string) {
	name := i.name(c)
	object := "source " + name
	tell := func(f finding.Finding) {
		if f.Object == "" {
			f.Object = object
		}
		if f.Place.File == "" {
			f.Place = c.Place
		}
		// One line of a file can be of several sources.
		if key := string(f.Code) + "\x00" + f.Place.String() + "\x00" + f.Text; !i.told[key] {
			i.told[key] = true
			i.Findings = append(i.Findings, f)
		}
		if f.Code == finding.ImportToDecide || f.Severity != finding.Note {
			if said := "decide: " + f.Text; !slices.Contains(i.comments[name], said) {
				i.comments[name] = append(i.comments[name], said)
			}
		}
	}
	if strings.ContainsAny(c.Release, "@?") { // an address with a blank in it, or a query
		i.Findings = append(i.Findings, finding.New(finding.ImportToDecide, "",
			"an address cannot be parsed and may contain a password, so the source was not "+
				"imported").Rated(finding.Error).At(c.Place).
			Do("write the address as a URL, and save the password as a credential"))
		return
	}
	i.comments[name] = []string{"from " + c.Place.String()}
	for _, f := range c.Findings {
		tell(f)
	}
	s := Source{Family: c.Family, Standing: Community, Release: c.Release, Components: c.Components,
		Architectures: c.Architectures, Languages: c.Languages, Disabled: c.Disabled, SignedBy: []string{}}
	servers := servers{hosts: map[string][]string{}, named: map[string]string{}}
	for _, u := range c.URLs {
		if u = servers.take(u, false); u != "" {
			s.Upstreams = append(s.Upstreams, Upstream{URL: u})
		}
	}
	for _, l := range c.Lists {
		if l = servers.take(l, true); l != "" {
			s.Upstreams = append(s.Upstreams, Upstream{MirrorList: l})
		}
	}
	for _, l := range c.Metalinks {
		if l = servers.take(l, true); l != "" {
			s.Upstreams = append(s.Upstreams, Upstream{Metalink: l})
		}
	}
	i.reached(m, name, c, servers, &s, tell)
	s.Priority = c.Priority
	if own := m.Architecture; own != "" && (len(s.Architectures) == 0 ||
		c.OwnArchitecture && !slices.Contains(s.Architectures, own)) {
		s.Architectures = append([]string{own}, s.Architectures...)
	}
	for _, again := range repeated(s, c.Place, seen) {
		tell(finding.New(finding.SourceDuplicate, object, "%s is also defined at %s", again.what,
			again.first))
	}
	if c.Unchecked.File != "" {
		i.unchecked[name] = true
		tell(finding.New(finding.SourceUnsigned, object,
			"the machine accepts this source without a valid signature").At(c.Unchecked).
			Do("remove %s here, and name the key that signs the source", c.Switch))
	}
	i.keys(m, name, c, &s, tell)
	i.Set.Sources[name] = s
	i.Set.Places["sources."+name] = c.Place
}

// keys brings the keyrings of a source in, unvouched.
func (i *Imported) keys(m Machine, name string, c archive.ConfiguredSource, s *Source,
	tell func(finding.Finding)) {
	named := c.KeyFiles
	if len(named) == 0 { // those that count for every source
		for _, file := range m.Global {
			named = append(named, archive.ConfiguredKey{Path: file, Place: finding.Place{File: file}})
		}
		for _, file := range slices.Sorted(maps.Keys(m.Databases)) {
			named = append(named, archive.ConfiguredKey{Data: m.Databases[file],
				Place: finding.Place{File: file}})
		}
	}
	for n, k := range named {
		data, file, called := k.Data, k.Path, name+"-key"
		if n > 0 {
			called += strconv.Itoa(n + 1)
		}
		if file == "" {
			if m.Databases[k.Place.File] != nil { // one file for all sources
				called = "machine-keyring"
			}
			file = "keys/" + called + ".asc"
			i.Keys[file] = data
		} else {
			called = fileName(file, called)
			var err error
			if data, err = m.ReadKey(file); err != nil {
				tell(finding.New(finding.KeyMissing, "source "+name, "the keyring %s cannot be "+
					"read: %v",
					file, err).
					At(k.Place))
				continue
			}
		}
		certs, err := trust.ReadCertificates(data)
		if err != nil {
			f, _ := finding.From(err)
			f.Object, f.Text = "source "+name, "its keyring "+file+": "+f.Text
			tell(f.At(k.Place))
			continue
		}
		if m.Databases[k.Place.File] != nil {
			i.Keys[file] = nil
			for _, c := range certs {
				i.Keys[file] = append(i.Keys[file], c.Armoured()...)
			}
			data = i.Keys[file]
		}
		key := Key{File: file}
		if k.Path != "" {
			key.File = path.Join("/", m.Root, k.Path)
		}
		i.Files[key.File] = data
		for _, cert := range certs {
			key.Fingerprints = append(key.Fingerprints, cert.Fingerprint)
		}
		if len(certs) == 1 {
			key.Fingerprint, key.Fingerprints = certs[0].Fingerprint, nil
		} else {
			tell(finding.New(finding.ImportToDecide, "source "+name,
				"the keyring %s has %d certificates, and the file does not say which of them "+
					"sign the source", file, len(certs)).At(k.Place).
				Do("after recording the source, run stockade key examine %s --source %s", file, name))
		}
		called = i.keyName(called, key.File)
		i.Set.Keys[called] = key
		i.Set.Places["keys."+called] = k.Place
		if !slices.Contains(s.SignedBy, called) {
			s.SignedBy = append(s.SignedBy, called)
		}
	}
	if len(s.SignedBy) == 0 {
		s.SignedBy = []string{i.keyName(name+"-key", "")} // which is to be brought in
	}
	if len(c.KeyFiles) > 0 {
		return
	}
	where := strings.Join(append(slices.Clone(m.Global), slices.Sorted(maps.Keys(m.Databases))...), ", ")
	if where == "" {
		where = "none found"
	}
	tell(finding.New(finding.KeyGlobal, "source "+name, "the source names no keyring, so every "+
		"key that the machine trusts globally may sign it (%s)", where))
}

// unreferred tells of keyrings of the machine's own that no source names: somebody meant them
// to sign something, or forgot them.
func (i *Imported) unreferred(m Machine) {
	for _, file := range m.Keyrings {
		named := slices.ContainsFunc(m.Configured.Sources, func(c archive.ConfiguredSource) bool {
			return slices.ContainsFunc(c.KeyFiles,
				func(k archive.ConfiguredKey) bool { return k.Path == file })
		})
		if !named && strings.HasPrefix(file, "/etc/") {
			i.Findings = append(i.Findings, finding.New(finding.KeyUnused, "",
				"no source uses the keyring %s",
				file).
				At(finding.Place{File: strings.TrimPrefix(file, "/")}).
				Do("name the keyring at the source that it signs, or remove it"))
		}
	}
}

// keyName gives the name under which the keyring of a file is described: each file has
// its own. Without a file, it is a name that is none's yet.
func (i *Imported) keyName(base, file string) string {
	name := base
	for n := 2; ; n++ {
		of, taken := i.keyrings[name]
		if !taken || file != "" && of == file {
			i.keyrings[name] = file
			return name
		}
		name = fmt.Sprintf("%s-%d", base, n)
	}
}

type repetition struct{ what, first string }

// repeated tells which of a source's upstreams stood with its release and components
// before, however they are spelt.
func repeated(s Source, at finding.Place, seen map[string]string) (out []repetition) {
	components := s.Components
	if len(components) == 0 {
		components = []string{""}
	}
	for _, u := range s.Upstreams {
		address, _ := u.Address()
		where, release := address, s.Release
		if expanded, err := s.Expand("", address); err == nil {
			where = expanded
		}
		if strings.Contains(address, "$release") {
			release = "" // it stands in the address
		}
		for _, c := range components {
			key := strings.Join([]string{plainAddress(where), release, c}, " ")
			if first, twice := seen[key]; twice {
				out = append(out, repetition{strings.TrimSpace(address + " " + s.Release + " " + c), first})
			} else {
				seen[key] = at.String()
			}
		}
	}
	return out
}

// name makes one for a source: what its address ends in, and its release.
func (i *Imported) name(c archive.ConfiguredSource) string {
	base := "source"
	if c.Title != "" {
		return i.free(c.Title)
	}
	for _, raw := range slices.Concat(c.URLs, c.Lists) {
		u, err := url.Parse(raw)
		if err != nil {
			continue
		}
		if last := path.Base(u.Path); last != "/" && last != "." && !strings.Contains(last, ".") {
			base = last
		} else if labels := strings.Split(u.Hostname(), "."); len(labels) > 1 {
			base = labels[len(labels)-2]
		}
		break
	}
	if release := strings.Trim(c.Release, "./"); release != "" && !strings.HasPrefix(release, base) {
		base += "-" + release
	}
	return i.free(base)
}

// free makes a name of words, that no source has yet.
func (i *Imported) free(base string) string {
	base = strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '.' || r == '-' {
			return r
		}
		return '-'
	}, strings.ToLower(base)), ".-")
	if base = base[:min(len(base), 50)]; !IsName(base) { // a number fits behind it
		base = "source"
	}
	name := base
	for n := i.names[base]; ; n++ {
		if n > 0 {
			name = fmt.Sprintf("%s-%d", base, n+1)
		}
		if _, taken := i.Set.Sources[name]; !taken {
			i.names[base] = n + 1
			return name
		}
	}
}

// YAML writes the description, with a comment above each source: where it was found,
// and what a person has to decide.
func (i *Imported) YAML() (string, error) {
	text, err := i.Set.YAML()
	if err != nil {
		return "", err
	}
	var b bytes.Buffer
	section := ""
	for line := range strings.Lines(text) {
		if !strings.HasPrefix(line, " ") {
			section = strings.TrimSuffix(strings.TrimSpace(line), ":")
		}
		name, ok := strings.CutSuffix(strings.TrimSpace(line), ":")
		if ok && section == "sources" && strings.HasPrefix(line, "  ") && !strings.HasPrefix(line, "   ") {
			for _, c := range i.comments[name] {
				b.WriteString("  # " + finding.Harmless(c) + "\n")
			}
		}
		b.WriteString(line)
	}
	return b.String(), nil
}
