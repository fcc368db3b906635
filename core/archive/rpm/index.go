package rpm

import (
	"bytes"
	"io"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"

	"stockade/core/archive"
	"stockade/core/finding"
)

// maxRelations bounds the relations and provided names of one package.
const maxRelations = 200_000

// ReadIndex implements archive.Family: the "primary" list of rpm-md. raw is the
// package's element as it stands. Elements are parsed side by side and handed
// on in their order.
func (Family) ReadIndex(s archive.Source, x archive.IndexChoice, plain io.Reader, yield func(*archive.Package, []byte) error) error {
	n := 0
	return inBatches(newElements(plain, "package"), func(p *archive.Package, raw []byte, err error) error {
		if err != nil {
			if g, ok := finding.From(err); ok && g.Object == "" {
				g.Object = "source " + s.Name
				g.Text = "package " + strconv.Itoa(n+1) + " of the index: " + g.Text
				return g
			}
			return err
		}
		p.Component, p.Ordinal = x.Component, n
		n++
		if p.Arch == "src" || p.Arch == "nosrc" || !suits(s.Architectures, p.Arch) {
			return nil
		}
		return yield(p, raw)
	})
}

// batch is some elements of a list, one behind the other, and what was parsed
// of them.
type batch struct {
	text     []byte
	ends     []int
	packages []*archive.Package
	err      error // that came instead of the next element or package
	parsed   chan struct{}
}

// A batch is parsed when it has one of these.
const (
	batchElements = 64
	batchBytes    = 256 << 10
)

// inBatches reads elements in one goroutine and parses them in a few others. f
// is called for each in its order, and with an error at the place where it
// occurred. All goroutines have ended when it returns.
func inBatches(e *elements, f func(p *archive.Package, raw []byte, err error) error) error {
	workers := min(runtime.GOMAXPROCS(0), 4)
	work, order := make(chan *batch, workers), make(chan *batch, 2*workers)
	stop := make(chan struct{})
	var ended sync.WaitGroup
	ended.Go(func() {
		defer close(order)
		defer close(work)
		for last := false; !last; {
			b := &batch{parsed: make(chan struct{})}
			last = b.gather(e)
			select {
			case order <- b:
			case <-stop:
				return
			}
			select {
			case work <- b:
			case <-stop:
				return
			}
		}
	})
	for range workers {
		ended.Go(func() {
			in := interner{}
			for b := range work {
				b.parse(in)
			}
		})
	}
	defer ended.Wait()
	defer close(stop)
	for b := range order {
		<-b.parsed
		begin := 0
		for i, p := range b.packages {
			if err := f(p, b.text[begin:b.ends[i]], nil); err != nil {
				return err
			}
			begin = b.ends[i]
		}
		if b.err != nil {
			return f(nil, nil, b.err)
		}
	}
	return nil
}

// gather takes elements into the batch and tells whether they are the last.
func (b *batch) gather(e *elements) (last bool) {
	defer func() { last = last || b.err != nil }()
	defer finding.Catch(&b.err)
	for len(b.ends) < batchElements && len(b.text) < batchBytes {
		raw, err := e.next()
		if err == io.EOF {
			return true
		}
		if err != nil {
			b.err = err
			return true
		}
		b.text = append(b.text, raw...)
		b.ends = append(b.ends, len(b.text))
	}
	return false
}

func (b *batch) parse(in interner) {
	defer close(b.parsed)
	defer finding.Catch(&b.err)
	begin := 0
	for _, end := range b.ends {
		p, err := parsePrimary(b.text[begin:end], in)
		if err != nil {
			b.err = err
			return
		}
		b.packages = append(b.packages, p)
		begin = end
	}
}

func suits(machines []string, arch string) bool {
	return slices.ContainsFunc(machines, func(m string) bool { return rank(arch, m) >= 0 })
}

type interner map[string]string

// bytes is get for text that may change.
func (in interner) bytes(b []byte) string {
	if have, ok := in[string(b)]; ok {
		return have
	}
	return in.get(string(b))
}

func (in interner) get(s string) string {
	if have, ok := in[s]; ok {
		return have
	}
	if len(in) < 1<<18 {
		in[s] = s
	}
	return s
}

var entryKinds = map[string]byte{"rpm:requires": kindRequires, "rpm:conflicts": kindConflicts, "rpm:obsoletes": kindObsoletes,
	"rpm:recommends": kindRecommends, "rpm:suggests": kindSuggests, "rpm:supplements": kindSupplements, "rpm:enhances": kindEnhances}

var xmlOps = map[string]archive.Op{"": archive.Any, "LT": archive.Less, "LE": archive.LessOrEqual, "EQ": archive.Equal, "GE": archive.GreaterOrEqual, "GT": archive.Greater}

// parsePrimary reads one package element of a primary list.
func parsePrimary(raw []byte, in interner) (*archive.Package, error) {
	p := &archive.Package{}
	n := &needs{}
	var packed []byte
	var digest, base string
	entries := 0
	seen := map[string]bool{}
	err := walk(raw, func(path []string, e *node) error {
		switch {
		case len(path) == 2:
			switch e.name {
			case "name", "arch", "version", "checksum", "location", "size":
				if seen[e.name] {
					return malformed("%s stands twice in one package", e.name)
				}
				seen[e.name] = true
			}
			switch e.name {
			case "version":
				p.Version = in.get(joinEVR(e.attr("epoch"), e.attr("ver"), e.attr("rel")))
			case "checksum":
				digest = e.attr("type")
			case "location":
				p.Path = strings.TrimPrefix(e.attr("href"), "./")
				base = e.base()
			case "size":
				size, err := strconv.ParseInt(e.attr("package"), 10, 64)
				if err != nil || size < 0 {
					return malformed("the size %q is no number", cut(e.attr("package"), 40))
				}
				p.Size = size
				p.InstalledSize, _ = strconv.ParseInt(e.attr("installed"), 10, 64)
			}
		case len(path) == 4 && e.name == "rpm:entry":
			name := e.attr("name")
			op, ok := xmlOps[e.attr("flags")]
			if !ok || name == "" || strings.ContainsFunc(name, func(r rune) bool { return r < 0x20 || r == 0x7f }) {
				return malformed("a relation %q %q cannot be read", cut(name, 80), cut(e.attr("flags"), 10))
			}
			if entries++; entries > maxRelations {
				return finding.New("content.too-large", "", "a package has more than %d relations", maxRelations)
			}
			r := archive.Relation{Name: name, Op: op}
			if op != archive.Any {
				r.Version = joinEVR(e.attr("epoch"), e.attr("ver"), e.attr("rel"))
				if strings.ContainsFunc(r.Version, func(r rune) bool { return r < 0x20 }) {
					return malformed("a relation's version cannot be read")
				}
			}
			if path[2] == "rpm:provides" {
				p.Provides = append(p.Provides, archive.Provide{Name: in.get(name), Op: op, Version: in.get(r.Version)})
				return nil
			}
			kind, known := entryKinds[path[2]]
			if known && !strings.HasPrefix(name, "rpmlib(") {
				packed = pack(packed, kind, r)
				p.Backward = p.Backward || kind == kindSupplements || kind == kindEnhances
			}
		}
		return nil
	}, func(path []string, text []byte) error {
		switch {
		case len(path) == 2:
			switch path[1] {
			case "name":
				p.Name = string(bytes.TrimSpace(text))
			case "arch":
				p.Arch = in.bytes(bytes.TrimSpace(text))
			case "checksum":
				p.SHA256 = strings.ToLower(string(bytes.TrimSpace(text)))
			case "summary":
				line, _, _ := bytes.Cut(text, []byte("\n"))
				p.Summary = string(line)
			}
		case len(path) == 3 && path[1] == "format":
			switch path[2] {
			case "rpm:license":
				p.Licence = in.bytes(text)
			case "rpm:group":
				p.Section = in.bytes(text)
			case "rpm:sourcerpm":
				p.Origin = in.get(sourceName(string(text)))
			case "file":
				if len(text) > 0 && text[0] == '/' {
					p.Provides = append(p.Provides, archive.Provide{Name: string(text)})
				}
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	switch digest {
	case "sha256":
		if len(p.SHA256) != 64 || !isHex(p.SHA256) {
			return nil, malformed("%s has a digest that is none", cut(p.Name, 80))
		}
	case "sha512":
		p.SHA512, p.SHA256 = p.SHA256, ""
		if len(p.SHA512) != 128 || !isHex(p.SHA512) {
			return nil, malformed("%s has a digest that is none", cut(p.Name, 80))
		}
	default:
		return nil, finding.New("content.weak-digest", "", "%s has only a %q digest", cut(p.Name, 80), cut(digest, 20))
	}
	if err := checkNames(p); err != nil {
		return nil, err
	}
	if base != "" {
		return nil, finding.New("content.unsafe-path", "", "%s is said to lie elsewhere, at %q", p.Name, cut(base, 120))
	}
	if err := archive.CheckPath(p.Path); err != nil {
		return nil, err
	}
	if strings.HasPrefix(p.Path, "repodata/") {
		return nil, finding.New("content.unsafe-path", "", "%s is said to lie among the indexes", p.Name)
	}
	if p.Origin == "" {
		p.Origin = p.Name
	}
	n.owner, n.text = p.Name, string(packed)
	p.Needs = n
	return p, nil
}

func checkNames(p *archive.Package) error {
	switch {
	case p.Name == "" || p.Version == "" || p.Arch == "":
		return malformed("name, version or architecture of a package is missing")
	case strings.ContainsAny(p.Name, " \t\n/\\") || len(p.Name) > 256 || !archPattern.MatchString(p.Arch):
		return malformed("the name %q (%q) is not a package's", cut(p.Name, 80), cut(p.Arch, 40))
	}
	if err := CheckVersion(p.Version); err != nil {
		return malformed("%s: %v", p.Name, err)
	}
	return nil
}

func isHex(s string) bool { return strings.Trim(s, "0123456789abcdef") == "" }

// sourceName takes version, release and architecture off the name of a source package.
func sourceName(s string) string {
	s = strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(s, ".rpm"), ".src"), ".nosrc")
	for range 2 {
		if i := strings.LastIndexByte(s, '-'); i > 0 {
			s = s[:i]
		}
	}
	return s
}

// readFiles reads a "filelists" list.
func readFiles(plain io.Reader, yield func(sha256, path string) error) error {
	e := newElements(plain, "package")
	for {
		raw, err := e.next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		id := ""
		if err := walk(raw, func(path []string, n *node) error {
			if len(path) == 1 {
				id = n.attr("pkgid")
			}
			return nil
		}, func(path []string, text []byte) error {
			if len(path) == 2 && path[1] == "file" {
				return yield(id, string(text))
			}
			return nil
		}); err != nil {
			return err
		}
	}
}

// readAdvisories reads an "updateinfo" list.
func readAdvisories(plain io.Reader, yield func(*archive.Advisory) error) error {
	e := newElements(plain, "update")
	for {
		raw, err := e.next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		a := &archive.Advisory{Packages: []archive.AdvisoryPackage{}}
		if err := walk(raw, func(path []string, n *node) error {
			switch {
			case len(path) == 1:
				a.Kind = n.attr("type")
			case len(path) == 2 && n.name == "issued":
				for _, layout := range []string{time.DateTime, time.DateOnly, "2006-01-02 15:04", time.RFC3339} {
					if t, err := time.Parse(layout, n.attr("date")); err == nil {
						a.Issued = t.UTC()
						break
					}
				}
				if s, err := strconv.ParseInt(n.attr("date"), 10, 64); err == nil {
					a.Issued = time.Unix(s, 0).UTC()
				}
			case n.name == "reference" && len(a.References) < 200:
				if href := n.attr("href"); href != "" {
					a.References = append(a.References, finding.Harmless(href))
				}
			case n.name == "package":
				p := archive.AdvisoryPackage{Name: n.attr("name"), Version: joinEVR(n.attr("epoch"), n.attr("version"), n.attr("release")), Arch: n.attr("arch")}
				a.Packages = append(a.Packages, p)
				if len(a.Packages) > maxRelations {
					return finding.New("content.too-large", "", "an advisory names more than %d packages", maxRelations)
				}
			}
			return nil
		}, func(path []string, text []byte) error {
			if len(path) != 2 {
				return nil
			}
			switch path[1] {
			case "id":
				a.ID = finding.Harmless(string(bytes.TrimSpace(text)))
			case "title":
				a.Title = finding.Harmless(string(bytes.TrimSpace(text)))
			case "severity":
				a.Severity = finding.Harmless(string(bytes.TrimSpace(text)))
			}
			return nil
		}); err != nil {
			return err
		}
		if a.ID == "" {
			return malformed("an advisory has no id")
		}
		if err := yield(a); err != nil {
			return err
		}
	}
}

// moduleDocument is what is read of one document of a "modules" list.
type moduleDocument struct {
	Document string `yaml:"document"`
	Data     struct {
		Name      string `yaml:"name"`
		Module    string `yaml:"module"`
		Stream    string `yaml:"stream"`
		Artifacts struct {
			RPMs []string `yaml:"rpms"`
		} `yaml:"artifacts"`
	} `yaml:"data"`
}

// maxModules bounds a list of module streams (bytes, plain).
const maxModules = 128 << 20

// eachModule reads the documents of a "modules" list with their text.
func eachModule(plain io.Reader, f func(d *moduleDocument, text []byte) error) error {
	data, err := io.ReadAll(io.LimitReader(plain, maxModules+1))
	if err != nil {
		return err
	}
	if len(data) > maxModules {
		return finding.New("content.too-large", "", "the list of module streams is larger than %d bytes", maxModules)
	}
	for len(data) > 0 {
		// Documents begin with a line of three dashes and may end with one of three dots.
		text := data
		if i := bytes.Index(data[min(3, len(data)):], []byte("\n---")); i >= 0 {
			text, data = data[:i+4], data[i+4:]
		} else {
			data = nil
		}
		if len(bytes.TrimSpace(bytes.Trim(bytes.TrimSpace(text), "-."))) == 0 {
			continue
		}
		var d moduleDocument
		if err := yaml.Unmarshal(text, &d); err != nil {
			return malformed("a module stream cannot be read: %v", err)
		}
		if err := f(&d, text); err != nil {
			return err
		}
	}
	return nil
}

func readStreams(plain io.Reader) (*archive.Streams, error) {
	out := &archive.Streams{Of: map[string]string{}, Defaults: map[string]string{}, Key: artifact}
	err := eachModule(plain, func(d *moduleDocument, _ []byte) error {
		switch d.Document {
		case "modulemd":
			if strings.ContainsAny(d.Data.Name+d.Data.Stream, " \n\t:") || d.Data.Name == "" || d.Data.Stream == "" {
				return malformed("a module stream has no name that fits")
			}
			for _, a := range d.Data.Artifacts.RPMs {
				out.Of[a] = d.Data.Name + ":" + d.Data.Stream
			}
		case "modulemd-defaults":
			if d.Data.Stream != "" {
				out.Defaults[d.Data.Module] = d.Data.Stream
			}
		}
		return nil
	})
	return out, err
}

// artifact names a package as lists of module streams do.
func artifact(p *archive.Package) string {
	epoch, version, release := splitEVR(p.Version)
	return p.Name + "-" + epoch + ":" + version + "-" + release + "." + p.Arch
}
