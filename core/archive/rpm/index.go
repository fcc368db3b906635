package rpm

import (
	"bytes"
	"io"
	"maps"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"

	"stockade/core/archive"
	"stockade/core/archive/text"
	"stockade/core/finding"
)

// ReadIndex implements archive.Family: the "primary" list of rpm-md. raw is the
// package's element as it stands. Elements are parsed side by side and handed
// on in their order.
func (Family) ReadIndex(s archive.Source, x archive.IndexChoice, plain io.Reader,
	yield func(*archive.Package, []byte) error) error {
	n := 0
	return inBatches(newElements(plain, "metadata", "package"),
		func(p *archive.Package, raw []byte, err error) error {
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
			r := newPrimaryReader()
			for b := range work {
				b.parse(r)
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

func (b *batch) parse(r *primaryReader) {
	defer close(b.parsed)
	defer finding.Catch(&b.err)
	begin := 0
	for _, end := range b.ends {
		p, err := r.read(b.text[begin:end])
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
	e := newElements(plain, "filelists", "package")
	places := newPlaced(filesPlaces)
	for {
		raw, err := e.next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		id := ""
		if err := walkPlaced(raw, places, func(path []string, n *node) error {
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
	e := newElements(plain, "updates", "update")
	places := newPlaced(updatePlaces)
	for {
		raw, err := e.next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		a := &archive.Advisory{Packages: []archive.AdvisoryPackage{}}
		if err := walkPlaced(raw, places, func(path []string, n *node) error {
			switch {
			case len(path) == 1:
				a.Kind = n.attr("type")
			case len(path) == 2 && n.name == "issued":
				for _, layout := range []string{time.DateTime, time.DateOnly,
					"2006-01-02 15:04", time.RFC3339} {
					if t, err := time.Parse(layout, n.attr("date")); err == nil {
						a.Issued = t.UTC()
						break
					}
				}
				if s, ok := text.Number(n.attr("date")); ok {
					a.Issued = time.Unix(s, 0).UTC()
				}
			case n.name == "reference" && len(a.References) < 200:
				if href := n.attr("href"); href != "" {
					a.References = append(a.References, finding.Harmless(href))
				}
			case n.name == "package":
				p := archive.AdvisoryPackage{
					Name:    n.attr("name"),
					Version: joinEVR(n.attr("epoch"), n.attr("version"), n.attr("release")),
					Arch:    n.attr("arch"),
				}
				a.Packages = append(a.Packages, p)
				if len(a.Packages) > maxRelations {
					return finding.New(finding.ContentTooLarge, "", "an advisory names more than %d packages",
						maxRelations)
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
	node     yaml.Node
	Document string `yaml:"document"`
	Data     struct {
		Name      string    `yaml:"name"`
		Module    string    `yaml:"module"`
		Stream    string    `yaml:"stream"`
		Version   uint64    `yaml:"version"`
		Context   string    `yaml:"context"`
		Needs     yaml.Node `yaml:"dependencies"`
		Artifacts struct {
			RPMs []string `yaml:"rpms"`
		} `yaml:"artifacts"`
	} `yaml:"data"`
}

// maxModules bounds a list of module streams (bytes, plain).
const maxModules = 128 << 20

// eachModule reads the documents of a "modules" list.
func eachModule(plain io.Reader, f func(d *moduleDocument) error) error {
	data, err := io.ReadAll(io.LimitReader(plain, maxModules+1))
	if err != nil {
		return err
	}
	if len(data) > maxModules {
		return finding.New(finding.ContentTooLarge, "", "the list of module streams is larger than %d bytes",
			maxModules)
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
		d, err := readModule(text)
		if err != nil {
			return err
		}
		if err := f(d); err != nil {
			return err
		}
	}
	return nil
}

// Limits on one document of a list of module streams.
const (
	maxModule     = 8 << 20 // bytes
	maxModuleKeys = 1024    // of one mapping
	maxYAMLDepth  = 24
)

func readModule(text []byte) (*moduleDocument, error) {
	if len(text) > maxModule {
		return nil, finding.New(finding.ContentTooLarge, "",
			"a document of the list of module streams is larger than %d bytes", maxModule)
	}
	d := &moduleDocument{}
	r := yaml.NewDecoder(bytes.NewReader(text))
	if err := r.Decode(&d.node); err != nil {
		return nil, malformed("a module stream cannot be read: %v", err)
	}
	var more yaml.Node
	if err := r.Decode(&more); err != io.EOF {
		return nil, archive.Ambiguous(
			"the list of module streams contains more than one document where only one is " +
				"allowed")
	}
	if err := plainYAML(&d.node, 0); err != nil {
		return nil, err
	}
	if err := d.node.Decode(d); err != nil {
		return nil, malformed("a module stream cannot be read: %v", err)
	}
	return d, nil
}

// plainYAML refuses what two readers of YAML could take for two things, or what
// costs out of proportion: a key twice, anchors and aliases, merges, very many
// keys, deep nesting. It takes comments out.
func plainYAML(n *yaml.Node, depth int) error {
	n.HeadComment, n.LineComment, n.FootComment = "", "", ""
	switch {
	case depth > maxYAMLDepth:
		return finding.New(finding.ContentTooLarge, "", "a module stream is nested more than %d deep",
			maxYAMLDepth)
	case n.Kind == yaml.AliasNode || n.Anchor != "" || n.Tag == "!!merge":
		return archive.Ambiguous("a module stream contains anchors, aliases or merges")
	case n.Kind == yaml.MappingNode && len(n.Content) > 2*maxModuleKeys:
		return finding.New(finding.ContentTooLarge, "", "a mapping of a module stream has more than %d keys",
			maxModuleKeys)
	}
	keys := map[string]bool{}
	for i, c := range n.Content {
		if n.Kind == yaml.MappingNode && i%2 == 0 {
			if c.Kind != yaml.ScalarNode || keys[c.Value] {
				return archive.Ambiguous("a module stream has the key %q twice, or an invalid "+
					"key",
					text.Cut(c.Value, 60))
			}
			keys[c.Value] = true
		}
		if err := plainYAML(c, depth+1); err != nil {
			return err
		}
	}
	return nil
}

func readStreams(plain io.Reader) (*streams, error) {
	out := &streams{defaults: map[string]string{}}
	err := eachModule(plain, func(d *moduleDocument) error {
		switch d.Document {
		case "modulemd":
			if strings.ContainsAny(d.Data.Name+d.Data.Stream, " \n\t:") ||
				d.Data.Name == "" || d.Data.Stream == "" {
				return malformed("a module stream has no valid name")
			}
			s, err := d.stream()
			out.all = append(out.all, s)
			return err
		case "modulemd-defaults":
			if d.Data.Stream != "" {
				out.defaults[d.Data.Module] = d.Data.Stream
			}
		}
		return nil
	})
	return out, err
}

// stream gives what a document says of a build of a stream.
func (d *moduleDocument) stream() (*stream, error) {
	s := &stream{
		Module:   d.Data.Name,
		Name:     d.Data.Stream,
		Version:  d.Data.Version,
		Context:  d.Data.Context,
		Packages: d.Data.Artifacts.RPMs,
	}
	for _, a := range s.Packages {
		dot := strings.LastIndexByte(a, '.')
		if dot < 0 || a[dot+1:] == "src" || a[dot+1:] == "nosrc" {
			continue
		}
		// NAME-EPOCH:VERSION-RELEASE.ARCH
		if i := strings.LastIndexByte(a[:dot], '-'); i > 0 {
			if i = strings.LastIndexByte(a[:i], '-'); i > 0 {
				s.Names = append(s.Names, a[:i])
			}
		}
	}
	var err error
	s.Needs, err = moduleNeeds(&d.Data.Needs)
	return s, err
}

// moduleNeeds reads the dependencies of a stream: several sets, of which one has to
// be met (the second version of the format), or one set with one stream each (the
// first).
func moduleNeeds(n *yaml.Node) (out [][]streamNeed, err error) {
	type set struct {
		Requires map[string]yaml.Node `yaml:"requires"`
	}
	var sets []set
	switch n.Kind {
	case 0:
		return nil, nil
	case yaml.SequenceNode:
		err = n.Decode(&sets)
	default:
		sets = make([]set, 1)
		err = n.Decode(&sets[0])
	}
	if err != nil {
		return nil, malformed("the requirements of a module stream cannot be read: %v", err)
	}
	for _, s := range sets {
		needs := []streamNeed{}
		for _, module := range slices.Sorted(maps.Keys(s.Requires)) {
			need, streams := streamNeed{Module: module}, []string{}
			value := s.Requires[module]
			if value.Kind == yaml.ScalarNode {
				streams = []string{value.Value}
			} else if err := value.Decode(&streams); err != nil {
				return nil, malformed("the requirements of a module stream on %s cannot be "+
					"read: %v",
					text.Cut(module, 60),
					err)
			}
			for _, stream := range streams {
				if not, ok := strings.CutPrefix(stream, "-"); ok {
					need.Not = append(need.Not, not)
				} else {
					need.Of = append(need.Of, stream)
				}
			}
			needs = append(needs, need)
		}
		out = append(out, needs)
	}
	return out, nil
}

// artifact names a package as lists of module streams do.
func artifact(p *archive.Package) string {
	epoch, version, release := splitEVR(p.Version)
	return p.Name + "-" + epoch + ":" + version + "-" + release + "." + p.Arch
}
