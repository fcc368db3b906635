package definition

import (
	"fmt"
	"maps"
	"net/url"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/robfig/cron/v3"

	"stockade/core/archive"
	"stockade/core/archive/text"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/trust"
)

// Surroundings are what a check may look at beside the set itself.
type Surroundings struct {
	Families archive.Registry
	// ReadFile reads a key's or an authority's file, by its path as Resolve or
	// ResolveAuthority gave it. Nil: files are not looked at.
	ReadFile func(path string) ([]byte, error)
	// Certificate finds a certificate that was brought in before.
	Certificate func(fingerprint string) (*trust.Certificate, bool)
	// Vouched tells whether a decision is in force, or comes with the documents;
	// nil: there is no service that would know. Barred gives a reason.
	Vouched func(fingerprint, source string) bool
	// Awaiting gives the first warden who vouched, where a second has to yet; nil: nobody.
	Awaiting func(fingerprint, source string) string
	Barred   func(fingerprint string) string
	// Held tells whether the file of a house package is in the pool. Nil: not looked at.
	Held func(sha256 string) bool
	// Given tells of a credential which hosts its secret was given for, until when it holds
	// (zero: as long as its owner takes it), and whether it is that of this kind and user.
	// Nil: there is no service that would know.
	Given func(name string, c Credential) (hosts []string, until time.Time, ok bool)
	Now   time.Time
	// Ended tells that nobody waits for the findings any more: what was not looked at stays so, and they are
	// of no use. Nil: somebody waits.
	Ended func() bool
}

// each looks at each thing of a kind, in the order of their names, as long as somebody waits for it.
func each[T any](c *checker, things map[string]T, look func(name string, thing T)) {
	for _, name := range slices.Sorted(maps.Keys(things)) {
		if c.around.Ended != nil && c.around.Ended() {
			return
		}
		look(name, things[name])
	}
}

// Resolve gives the path of a key's file, relative to the document that names it.
func (s *Set) Resolve(key string) string { return s.resolve("keys."+key, s.Keys[key].File) }

// ResolveList is Resolve for the file of a list.
func (s *Set) ResolveList(name string) string { return s.resolve("lists."+name, s.Lists[name].File) }

// ResolveAuthority is Resolve for the file of an authority.
func (s *Set) ResolveAuthority(name string) string {
	return s.resolve("authorities."+name, s.Authorities[name].File)
}

func (s *Set) resolve(path, file string) string {
	if file == "" || filepath.IsAbs(file) {
		return file
	}
	return filepath.Join(filepath.Dir(s.Places[path].File), file)
}

// lookFor says what to do about a file that cannot be read, by its name in the document.
func lookFor(file string) string {
	if filepath.IsAbs(file) {
		return "check that it exists and is readable"
	}
	return "the path is relative to the document"
}

// Check gives the findings about a set that need no network.
func Check(s *Set, around Surroundings) finding.List {
	c := &checker{Set: s, around: around, house: map[[4]string]string{}, meant: map[string][]string{}}
	each(c, s.Keys, c.key)
	for _, name := range slices.Sorted(maps.Keys(s.Rules)) {
		if known := append([]string{SiteRule}, Standings...); !slices.Contains(known, name) {
			f := c.add(finding.DefineBadValue, "rule "+name, "rules."+name,
				"rules exist for %s; %q is none of them",
				strings.Join(known, ", "), name)
			if near := Nearest(name, known); near != "" {
				f.WayOut = "did you mean " + strconv.Quote(near) + "?"
				f.Fix = finding.Fix{Old: name, New: near}
			}
		}
		c.refusals(name, s.Rules[name])
	}
	each(c, s.Authorities, c.authority)
	each(c, s.Credentials, c.credential)
	each(c, s.Proxies, c.proxy)
	each(c, s.Sources, c.source)
	each(c, s.Packages, c.housePackage)
	each(c, s.Lists, c.list)
	each(c, s.Mirrors, c.mirror)
	each(c, s.Lanes, func(name string, l Lane) {
		reference(c, "lane "+name, "lanes."+name+".mirror", "mirror", l.Mirror, s.Mirrors)
	})
	each(c, s.Groups, c.group)
	c.shared()
	found := c.told.Told()
	found.Sort()
	return found
}

type checker struct {
	*Set
	around Surroundings
	told   finding.Telling
	// packages of house sources: source, name, version and architecture → what it is called here
	house  map[[4]string]string
	meant  map[string][]string // fingerprints of a key's certificates, by its name
	looked int                 // names that were compared to find one that is near
	// of the source that is looked at: what nobody vouched for, and whether some key counts
	undecided []undecided
	counting  bool
}

// maxLooked bounds the names that are compared in one check: a document can name
// thousands of things that are not there.
const maxLooked = 200_000

// nearest is Nearest within that bound.
func nearest[T any](c *checker, name string, among map[string]T) string {
	if c.looked += len(among); c.looked > maxLooked {
		return ""
	}
	return Nearest(name, slices.Sorted(maps.Keys(among)))
}

func (c *checker) add(code finding.Code, object, path, format string, args ...any) *finding.Finding {
	f := finding.New(code, object, format, args...).At(c.Place(path))
	f.Field = path
	return c.told.Add(f)
}

func (c *checker) adopt(err error, code finding.Code, object, path string) {
	f, ok := finding.From(err)
	switch {
	case !ok:
		f = finding.New(code, object, "%v", err)
	case f.Code.In("content"): // nothing came from upstream: it was typed
		f = finding.New(finding.DefineBadValue, object, "%s", f.Text)
	}
	if f.Object == "" {
		f.Object = object
	}
	f.Field = path
	c.told.Add(f.At(c.Place(path)))
}

func reference[T any](c *checker, object, path, kind, name string, among map[string]T) bool {
	if _, ok := among[name]; ok || name == "" {
		return ok
	}
	f := c.add(finding.DefineDanglingReference, object, path, "no %s is named %q", kind, name)
	if near := nearest(c, name, among); near != "" {
		f.WayOut = "did you mean " + strconv.Quote(near) + "?"
		f.Fix = finding.Fix{Old: name, New: near}
	}
	return false
}

func (c *checker) key(name string, k Key) {
	object, path := "key "+name, "keys."+name
	var wanted []string
	for i, text := range k.All() {
		f, err := trust.ParseFingerprint(text)
		if err != nil {
			at := path + ".fingerprint"
			if k.Fingerprint == "" || i > 0 {
				at = path + ".fingerprints"
			}
			c.adopt(err, finding.DefineBadValue, object, at)
			return
		}
		wanted = append(wanted, f)
	}
	if k.File == "" && len(wanted) == 0 {
		c.add(finding.DefineMissingField, object, path+".file", "the key has neither file nor "+
			"fingerprint")
	}
	for i, src := range k.VouchedFor {
		reference(c, object, path+".vouched_for."+strconv.Itoa(i), "source", src, c.Sources)
	}
	if len(k.VouchedFor) > 0 {
		if len(wanted) == 0 {
			c.add(finding.DefineMissingField, object, path+".vouched_for",
				"vouched_for needs the whole fingerprint of the key").Field = path +
				".fingerprint"
		}
		if strings.TrimSpace(k.Evidence) == "" {
			c.add(finding.DefineMissingField, object, path+".vouched_for",
				"vouched_for needs the evidence: who compared the fingerprint, and "+
					"how").Field = path + ".evidence"
		}
	}
	if k.File != "" && c.around.ReadFile != nil {
		wanted = c.keyFile(object, path, name, wanted)
	}
	c.meant[name] = wanted
	for _, f := range wanted {
		if c.around.Certificate != nil && (k.File == "" || c.around.ReadFile == nil) {
			if cert, ok := c.around.Certificate(f); !ok {
				c.add(finding.KeyMissing, object, path,
					"the certificate %s was never imported, and the definition names no file", f)
			} else {
				c.certificate(object, path, cert)
			}
		}
		if c.around.Barred != nil {
			if why := c.around.Barred(f); why != "" {
				c.add(finding.KeyBarred, object, path, "the key %s is barred: %s", f, why)
			}
		}
	}
}

// known tells whether certificates were all brought in before.
func (c *checker) known(fingerprints []string) bool {
	if c.around.Certificate == nil || len(fingerprints) == 0 {
		return false
	}
	return !slices.ContainsFunc(fingerprints, func(f string) bool {
		_, ok := c.around.Certificate(f)
		return !ok
	})
}

// keyFile looks for the certificates that are wanted of a file; without any, it is
// the one that the file holds. It gives those that are meant.
func (c *checker) keyFile(object, path, name string, wanted []string) []string {
	file := c.Resolve(name)
	data, err := c.around.ReadFile(file)
	if err != nil && c.known(wanted) {
		f := c.add(finding.KeyMissing, object, path+".file",
			"the file %s cannot be read, so Stockade uses the certificate that was imported "+
				"before", file)
		*f = f.Rated(finding.Note).Do("none needed, unless the file has a newer copy of the " +
			"certificate")
		return wanted
	}
	if err != nil {
		c.add(finding.KeyMissing, object, path+".file", "the file %s cannot be read",
			file).WayOut = lookFor(c.Keys[name].File)
		return wanted
	}
	certs, err := trust.ReadCertificates(data)
	if err != nil {
		c.adopt(err, finding.KeyUnreadable, object, path+".file")
		return wanted
	}
	var have []string
	for _, cert := range certs {
		have = append(have, cert.Fingerprint)
	}
	if len(wanted) == 0 {
		if len(certs) > 1 {
			c.add(finding.DefineMissingField, object, path,
				"the file contains %d certificates (%s), and the definition does not name one "+
					"of them",
				len(certs), strings.Join(have, ", ")).
				WayOut = "set fingerprint to one of them, or fingerprints to several"
			return wanted
		}
		wanted = have
	}
	for _, want := range wanted {
		i := slices.Index(have, want)
		if i < 0 {
			c.add(finding.KeyFingerprintMismatch, object, path+".fingerprint",
				"the file contains %s, but the definition names %s", strings.Join(have, ", "), want)
			continue
		}
		c.certificate(object, path, certs[i])
	}
	return wanted
}

func (c *checker) certificate(object, path string, cert *trust.Certificate) {
	for _, f := range cert.CheckBy(c.Policy(""), c.around.Now) {
		f.Object, f.Field = object, path
		c.told.Add(f.At(c.Place(path)))
	}
}

// refusals checks the names of algorithms that a rule refuses.
func (c *checker) refusals(name string, r Rule) {
	known := trust.Algorithms()
	for i, word := range r.Refuse {
		if slices.Contains(known, word) {
			continue
		}
		f := c.add(finding.DefineBadValue, "rule "+name, "rules."+name+".refuse."+strconv.Itoa(i),
			"no algorithm that can be refused is named %q", word)
		f.WayOut = "choose one of " + strings.Join(known, ", ")
		if near := Nearest(word, known); near != "" {
			f.WayOut = "did you mean " + strconv.Quote(near) + "?"
			f.Fix = finding.Fix{Old: word, New: near}
		}
	}
}

func (c *checker) housePackage(name string, p Package) {
	object, path := "package "+name, "packages."+name
	if reference(c, object, path+".source", "source", p.Source, c.Sources) &&
		!c.Sources[p.Source].Managed() {
		c.add(finding.DefineBadValue, object, path+".source",
			"packages can only be added to a house source without upstreams, and %q is not one", p.Source)
	}
	switch {
	case p.SHA256 == "": // told as a field that is missing
	case !text.IsHex(p.SHA256, text.SHA256):
		c.add(finding.DefineBadValue, object, path+".sha256", "%q is not a SHA-256 checksum", p.SHA256)
	case c.around.Held != nil && !c.around.Held(p.SHA256):
		c.add(finding.DefineBadValue, object, path, "the file of %s %s is not in the pool of this site",
			p.Name, p.Version).WayOut = "add the file: stockade package add FILE --source " + p.Source
	}
	id := [4]string{p.Source, p.Name, p.Version, p.Architecture}
	if other, twice := c.house[id]; twice {
		c.add(finding.DefineDuplicateName, object, path, "%s %s (%s) is already in %s, as %s", p.Name,
			p.Version, p.Architecture, p.Source, other)
	} else {
		c.house[id] = name
	}
}

// url checks an address and tells whether it can be used.
func (c *checker) url(object, path, raw string) (*url.URL, bool) {
	return c.address(object, path, raw, false)
}

// address is url for lists too, whose addresses may have a query.
func (c *checker) address(object, path, raw string, query bool) (*url.URL, bool) {
	u, err := url.Parse(raw)
	switch {
	case raw == "": // told as a field that is missing
	case err != nil:
		c.add(finding.SourceBadURL, object, path, "%q is not a URL", fetch.Shown(raw))
	case u.Scheme != "http" && u.Scheme != "https":
		c.add(finding.SourceBadURL, object, path, "the URL %q has the scheme %q; only http and "+
			"https are supported",
			fetch.Shown(raw), u.Scheme)
	case u.Hostname() == "":
		c.add(finding.SourceBadURL, object, path, "the URL %q has no host", fetch.Shown(raw))
	case u.RawQuery != "" && !query || u.Fragment != "":
		c.add(finding.SourceBadURL, object, path, "the URL %q has a query or fragment. "+
			"Stockade appends paths to the URL, so it cannot have one",
			fetch.Shown(raw))
	case u.User != nil:
		c.add(finding.SourceCredentialInURL, object, path, "the URL of %s contains a user name "+
			"or a password",
			u.Hostname())
	default:
		return u, true
	}
	return nil, false
}

// Reserved are names that no source can have: an edition and its export have files and folders of
// theirs beside those of the sources.
var Reserved = []string{"about", "being-renewed.txt", "machines", "manifest", "seal.asc"}

func (c *checker) source(name string, src Source) {
	object, path := "source "+name, "sources."+name
	if slices.Contains(Reserved, name) {
		c.add(finding.DefineBadValue, object, path,
			"the name %q is reserved for a file that lies beside the sources in an edition or "+
				"export", name)
	}
	family, known := c.around.Families[src.Family]
	if !known && src.Family != "" {
		f := c.add(finding.DefineBadValue, object, path+".family", "the family %q is unknown", src.Family)
		f.WayOut = "the families are " + strings.Join(c.around.Families.Names(), ", ")
	}
	if known {
		for _, f := range family.CheckSource(src.Archive(name)) {
			f.Field = path + "." + f.Field
			c.told.Add(f.At(c.Place(f.Field)))
		}
	}
	if src.Managed() {
		if len(src.SignedBy) > 0 {
			c.add(finding.DefineBadValue, object, path+".signed_by",
				"the site key signs a house source, so signed_by, which names keys of "+
					"upstreams, must be left out")
		}
		return
	}
	if len(src.Upstreams) == 0 {
		c.add(finding.DefineMissingField, object, path+".upstreams", "the source has no "+
			"upstream")
	}
	var servers []*url.URL
	for i, up := range src.Upstreams {
		address, field := up.Address()
		at := path + ".upstreams." + strconv.Itoa(i) + "." + field
		given := 0
		for _, s := range []string{up.URL, up.MirrorList, up.Metalink} {
			if s != "" {
				given++
			}
		}
		if given != 1 {
			c.add(finding.DefineBadValue, object, path+".upstreams."+strconv.Itoa(i),
				"an upstream needs exactly one of url, mirror_list and metalink; this one has "+
					"%d", given)
			continue
		}
		expanded, err := src.Expand(name, address)
		if err != nil {
			c.adopt(err, finding.SourceBadURL, object, at)
			continue
		}
		u, ok := c.address(object, at, expanded, field != "url")
		if ok {
			servers = append(servers, u)
		}
		if ok && u.Scheme == "http" {
			f := c.add(finding.SourcePlainHTTP, object, at, "%s is fetched without TLS",
				fetch.Shown(expanded))
			if len(src.SignedBy) == 0 || src.Unsigned != (Unsigned{}) {
				*f = f.Rated(finding.Error)
				f.Text += ", and the source is not signed: anyone on the network can change it"
			}
		}
	}
	c.named(object, path, name, src, servers)
	switch {
	case src.Unsigned != (Unsigned{}):
		c.unsigned(object, path+".unsigned", src)
	case len(src.SignedBy) == 0:
		c.add(finding.SourceUnsigned, object, path+".signed_by",
			"the source names no key, so Stockade cannot verify anything from it")
	}
	c.planned(object, path+".probe_schedule", src.ProbeSchedule)
	if src.Proxy != "" {
		reference(c, object, path+".proxy", "proxy", src.Proxy, c.Proxies)
	}
	c.shown(object, path, src, servers)
	if _, err := src.MaxAge.Duration(); err != nil {
		c.adopt(err, finding.DefineBadValue, object, path+".max_age")
	}
	c.undecided, c.counting = nil, false
	for i, k := range src.SignedBy {
		c.signer(object, path+".signed_by."+strconv.Itoa(i), name, k)
	}
	c.unvouched(object, name)
}

// unsigned judges the acknowledgement that nobody signs a source.
func (c *checker) unsigned(object, path string, src Source) {
	end, err := src.Unsigned.End()
	switch {
	case src.Unsigned.Reason == "" || src.Unsigned.Until == "":
		return // told as missing fields
	case err != nil:
		c.adopt(err, finding.DefineBadValue, object, path+".until")
		return
	}
	now := c.around.Now
	if !now.IsZero() && end.After(now.Add(maxUnsigned)) {
		c.add(finding.DefineBadValue, object, path+".until",
			"unsigned would be accepted until %s; the limit is two years", src.Unsigned.Until)
	}
	if family := c.around.Families[src.Family]; len(src.SignedBy) > 0 && family != nil &&
		!family.SignsPackages() {
		c.add(finding.DefineBadValue, object, path,
			"the source has signed_by and unsigned. One says who signs it, the other that no "+
				"one does; packages of the family %s have no signature of their own",
			src.Family).WayOut = "remove one of the two"
	}
	if !now.IsZero() && !now.Before(end) {
		f := c.add(finding.SourceUnsigned, object, path,
			"unsigned was accepted until %s, which is past (%s)",
			src.Unsigned.Until, src.Unsigned.Reason)
		*f = f.Because(ended)
		f.WayOut = "ask the owner again to sign the source. A warden can accept it as unsigned " +
			"again"
		return
	}
	f := c.add(finding.SourceUnsigned, object, path, "no one signs this source; that is "+
		"accepted until %s: %s",
		src.Unsigned.Until, src.Unsigned.Reason)
	*f = f.Rated(finding.Warning).Do("ask the owner to sign it. Without signatures, a change " +
		"by the upstream or on the network cannot be detected")
}

func (c *checker) signer(object, path, source, name string) {
	var fingerprints []string
	if k, ok := c.Keys[name]; ok {
		if c.around.Vouched == nil && slices.Contains(k.VouchedFor, source) {
			c.counting = true
			return // without a service, the words of the document are all there is
		}
		fingerprints = c.meant[name] // where it has none, that is told at the key
	} else if f, err := trust.ParseFingerprint(name); err == nil {
		fingerprints = []string{f}
	} else if g, _ := finding.From(err); g.Code == finding.KeyShortID {
		c.adopt(err, finding.KeyShortID, object, path)
		return
	} else {
		f := c.add(finding.KeyMissing, object, path, "no key is named %q", name)
		if near := nearest(c, name, c.Keys); near != "" {
			f.WayOut = "did you mean " + strconv.Quote(near) + "?"
			f.Fix = finding.Fix{Old: name, New: near}
		}
		return
	}
	for _, f := range fingerprints {
		c.signs(object, path, source, name, f)
	}
}

// strong tells when a rule for a source refuses the algorithms of a key that is vouched for.
// It tells whether the key can count.
func (c *checker) strong(object, path, source, fingerprint string) bool {
	if c.around.Certificate == nil {
		return true
	}
	cert, ok := c.around.Certificate(fingerprint)
	if !ok {
		return false
	}
	weak := func(p trust.Policy) (out finding.List) {
		for _, f := range cert.CheckBy(p, c.around.Now).With(finding.KeyWeak) {
			if f.Severity == finding.Error {
				out = append(out, f)
			}
		}
		return out
	}
	if len(weak(c.Policy(""))) > 0 {
		return false // told at the key
	}
	for _, f := range weak(c.Policy(source)) {
		g := c.add(finding.KeyWeak, object, path, "its key %s cannot sign: %s", fingerprint, f.Text)
		*g = g.Rated(finding.Error)
		return false
	}
	_, able := cert.SignsUntil(c.around.Now)
	return able
}

// signs tells when a certificate that a source names is not there, or when nobody
// vouched for it.
func (c *checker) signs(object, path, source, name, fingerprint string) {
	if c.around.Certificate != nil {
		if _, ok := c.around.Certificate(fingerprint); !ok && (c.Keys[name].File == "") {
			c.add(finding.KeyMissing, object, path, "the certificate %s was never imported", fingerprint)
			return
		}
	}
	if c.around.Barred != nil {
		if why := c.around.Barred(fingerprint); why != "" {
			c.add(finding.KeyBarred, object, path, "its key %s is barred: %s", fingerprint, why).WayOut =
				"get the owner's new key, vouch for it, and list it under signed_by"
			return
		}
	}
	if c.around.Vouched != nil && c.around.Vouched(fingerprint, source) {
		c.counting = c.strong(object, path, source, fingerprint) || c.counting
		return
	}
	shown := fingerprint
	if name != fingerprint {
		shown = name + " (" + fingerprint + ")"
	}
	if c.around.Awaiting != nil {
		if first := c.around.Awaiting(fingerprint, source); first != "" {
			f := c.add(finding.KeyAwaitingSecond, object, path,
				"%s vouched for %s, and the rule asks a second warden to vouch, too",
				first, shown)
			f.WayOut = "another warden compares the whole fingerprint with the owner, then " +
				"runs: stockade key vouch " + fingerprint + " --source " + source + " --evidence \"…\""
			f.Way = finding.Way{Does: finding.Vouch, Of: object}
			return
		}
	}
	c.undecided = append(c.undecided, undecided{path, name, fingerprint})
}

// undecided is a certificate that a source names, and nobody vouched for.
type undecided struct{ path, name, fingerprint string }

// unvouched tells which certificates nobody vouched for, of all that a source names. One that
// counts is enough for it, so that the others are told in a note; those of one name are told
// as one.
func (c *checker) unvouched(object, source string) {
	for len(c.undecided) > 0 {
		first := c.undecided[0]
		n := len(c.undecided)
		c.undecided = slices.DeleteFunc(c.undecided, func(u undecided) bool { return u.path == first.path })
		n -= len(c.undecided)
		shown, vouch := first.fingerprint, first.fingerprint
		if first.name != shown {
			shown = first.name + " (" + shown + ")"
		}
		way := "compare the whole fingerprint with the owner of the key, then run: "
		if all := len(c.meant[first.name]); n > 1 {
			shown, vouch = fmt.Sprintf("any of the %d certificates of %s", n, first.name), "FINGERPRINT"
			if n < all {
				shown = fmt.Sprintf("%d of the %d certificates of %s", n, all, first.name)
			}
			way = "compare the whole fingerprint of the certificate that signs the source with " +
				"its owner, then run: "
			if file := c.Keys[first.name].File; file != "" {
				way = "stockade key examine " + file + " --source " + source +
					" shows which of them sign it; " + way
			}
		}
		f := c.add(finding.KeyUnvouched, object, first.path, "no one has vouched for %s for "+
			"this source", shown)
		f.WayOut = way + "stockade key vouch " + vouch + " --source " + source + " --evidence \"…\""
		f.Way = finding.Way{Does: finding.Vouch, Of: object}
		if c.counting {
			*f = f.Rated(finding.Note)
			f.Text += ". Another key of the source counts already"
		} else if n > 1 {
			f.Text += ". One key that signs it is enough"
		}
	}
}

// planned checks a schedule; the empty one is none.
func (c *checker) planned(object, path, text string) {
	if text == "" {
		return
	}
	plan, err := cron.ParseStandard(text)
	if err != nil || strings.HasPrefix(text, "@") {
		c.schedule(object, path, text, err)
		return
	}
	if plan.Next(time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)).IsZero() {
		c.add(finding.DefineBadValue, object, path, "the schedule %q never runs: this day does "+
			"not exist",
			text).
			WayOut = "enter a day that the month has"
	}
}

// schedule says what is wrong with one: its form, or a value in it.
func (c *checker) schedule(object, path, text string, err error) {
	if n := len(strings.Fields(text)); n != 5 || err == nil {
		c.add(finding.DefineBadValue, object, path, "the schedule %q is not five cron fields", text).WayOut =
			"minute, hour, day of the month, month, day of the week: \"30 2 * * *\" is at half past two " +
				"each night"
		return
	}
	c.add(finding.DefineBadValue, object, path, "the schedule %q: %v", text, err).WayOut =
		"minutes are 0 to 59, hours 0 to 23, days 1 to 31, months 1 to 12, days of the week 0 (Sunday) to 6"
}

func (c *checker) mirror(name string, m Mirror) {
	object, path := "mirror "+name, "mirrors."+name
	c.planned(object, path+".schedule", m.Schedule)
	c.planned(object, path+".verify_schedule", m.VerifySchedule)
	if len(m.From) == 0 {
		c.add(finding.DefineMissingField, object, path+".from", "the mirror takes from no "+
			"source")
	}
	seen := map[string]bool{}
	wanted := m.Want.Everything || m.Want.Names() || len(m.Together) > 0
	for i, f := range m.From {
		at := path + ".from." + strconv.Itoa(i)
		wanted = wanted || f.Want.Everything || f.Want.Names()
		if seen[f.Source] {
			c.add(finding.DefineDuplicateName, object, at+".source", "the source %q is listed "+
				"twice", f.Source)
		}
		seen[f.Source] = true
		if reference(c, object, at+".source", "source", f.Source, c.Sources) &&
			c.Sources[f.Source].Disabled {
			c.add(finding.DefineBadValue, object, at+".source", "the source %q is disabled",
				f.Source).WayOut = "enable it, or remove it from the mirror"
		}
		if m.Copy == Faithful && c.Sources[f.Source].Unsigned != (Unsigned{}) {
			c.add(finding.DefineBadValue, object, at,
				"%s is unsigned, and a faithful copy stays unsigned: machines would reject it", f.Source).
				WayOut = "set copy: tailored, so that the site signs the indexes"
		}
		if m.Copy == Faithful && !m.Everything(f) {
			c.add(finding.DefineBadValue, object, at,
				"a faithful copy contains everything, because the signed indexes list every "+
					"package").
				WayOut = "set want: everything, or copy: tailored"
		}
		if m.Copy == Faithful && (f.Want.SourcePackages || m.Want.SourcePackages) {
			c.add(finding.DefineBadValue, object, at, "a faithful copy contains only packages "+
				"of the chosen architectures, and no source packages").
				WayOut = "remove source_packages, or set copy: tailored"
		}
		c.want(object, at+".want", f.Want, f.Source)
	}
	var all []string
	for _, f := range m.From {
		all = append(all, f.Source)
	}
	c.want(object, path+".want", m.Want, all...)
	for i, set := range m.Together {
		c.together(object, path+".together."+strconv.Itoa(i), set, c.familiesOf(all))
	}
	c.baseline(object, path+".baseline", m.Baseline, all)
	if m.Want.Only || len(m.Want.Streams) > 0 {
		c.add(finding.DefineBadValue, object, path+".want", "only and streams apply to one "+
			"source, so they cannot be set for the whole mirror").
			WayOut = "set them under from, at their source"
	}
	if len(m.From) > 0 && !wanted {
		c.add(finding.DefineMissingField, object, path+".from", "nothing is wanted from any "+
			"source").
			WayOut = "set want at the mirror, for all its sources, or at one source"
	}
}

// want checks what is wanted of some sources: a version bound has to be one of
// each family among them.
func (c *checker) want(object, path string, want Want, sources ...string) {
	families := c.familiesOf(sources)
	for i, w := range want.Packages {
		c.wish(object, path+".packages."+strconv.Itoa(i), w, families)
	}
	for i, st := range want.Streams {
		if !streamPattern.MatchString(st) {
			c.add(finding.DefineBadValue, object, path+".streams."+strconv.Itoa(i),
				"%q does not have the form MODULE:STREAM",
				st)
		}
	}
	for i, p := range want.Provides {
		if _, err := archive.ParseWant(p); err != nil {
			c.adopt(err, finding.DefineBadValue, object, path+".provides."+strconv.Itoa(i))
		}
	}
	for i, list := range want.Lists {
		at := path + ".lists." + strconv.Itoa(i)
		if !reference(c, object, at, "list", list, c.Lists) {
			continue
		}
		if of := c.Lists[list].Family; of != "" && len(families) > 0 && families[of] == nil {
			c.add(finding.DefineBadValue, object, at,
				"the list %q is from a machine of the family %s, but the mirror has no source "+
					"of that family", list, of)
		}
	}
	if !want.Names() && !want.Everything && (want.With != "" || want.Versions != 0 || want.Only ||
		want.Alternatives != "") {
		c.add(finding.DefineMissingField, object, path,
			"want names no packages").WayOut = "name the packages; packages: [\"*\"] takes all " +
			"of them"
	}
}

func (c *checker) group(name string, g Group) {
	object, path := "group "+name, "groups."+name
	family := c.around.Families[g.Family]
	if family == nil && g.Family != "" {
		c.add(finding.DefineBadValue, object, path+".family", "the family %q is unknown", g.Family).WayOut =
			"the families are " + strings.Join(c.around.Families.Names(), ", ")
	}
	reference(c, object, path+".lane", "lane", g.Lane, c.Lanes)
	if _, err := g.ReportWithin.Duration(); err != nil {
		c.adopt(err, finding.DefineBadValue, object, path+".report_within")
	}
	if _, ok := family.(archive.Bound); !ok && family != nil && len(g.Foreign) > 0 {
		c.add(finding.DefineBadValue, object, path+".foreign",
			"machines of the family %s cannot have foreign architectures", g.Family)
	}
	for _, a := range g.Foreign {
		if slices.Contains(g.Architectures, a) {
			c.add(finding.DefineBadValue, object, path+".foreign",
				"%q is a native architecture of the group, so it cannot be foreign, too", a).
				WayOut = "make two groups, one for machines of each architecture"
		}
	}
	of := map[string]archive.Family{}
	if family != nil {
		of[g.Family] = family
	}
	for _, role := range slices.Sorted(maps.Keys(g.Roles)) {
		at := path + ".roles." + role
		c.together(object, at, g.Roles[role], of)
	}
	var from []string
	for _, f := range c.Mirrors[c.Lanes[g.Lane].Mirror].From {
		from = append(from, f.Source)
	}
	c.baseline(object, path+".baseline", g.Baseline, from)
	if l := c.Lists[g.Baseline.List]; l.Family != "" && g.Family != "" && l.Family != g.Family {
		c.add(finding.DefineBadValue, object, path+".baseline.list",
			"the list %q is from a machine of the family %s, but the family of the group is %s",
			g.Baseline.List, l.Family,
			g.Family)
	}
	for i, p := range g.Pins {
		at := path + ".pins." + strconv.Itoa(i)
		r, err := archive.ParseWant(p)
		if err == nil && r.Op != archive.Equal {
			c.add(finding.DefineBadValue, object, at, "the pin %q does not have the form NAME "+
				"= VERSION", p)
			continue
		}
		if err == nil {
			err = archive.CheckName(r.Name)
		}
		if err == nil && family != nil {
			err = family.CheckVersion(r.Version)
		}
		if err != nil {
			c.adopt(err, finding.DefineBadValue, object, at)
		}
	}
}

// streamPattern is MODULE:STREAM; the module becomes the name of a file.
var streamPattern = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+-]*:[A-Za-z0-9._+-]+$`)

// Merge puts the findings of reading and of checking together, without those that only follow from
// others: a field that is missing because it is misspelt, or because it, or what it stands in, could
// not be read.
func Merge(read, checked finding.List) finding.List {
	out := append(finding.List{}, read...)
	type field struct{ file, path string }
	unread, misspelt := map[field]bool{}, map[field]bool{} // misspelt: what has such a field in it
	for _, r := range read {
		if r.Field != "" {
			unread[field{r.Place.File, r.Field}] = true
		}
		if r.Code == finding.DefineUnknownField {
			for path := above(r.Field); path != ""; path = above(path) {
				misspelt[field{r.Place.File, path}] = true
			}
		}
	}
	for _, f := range checked {
		follows := misspelt[field{f.Place.File, above(f.Field)}]
		for path := f.Field; path != ""; path = above(path) {
			follows = follows || unread[field{f.Place.File, path}]
		}
		if f.Code != finding.DefineMissingField || !follows {
			out = append(out, f)
		}
	}
	out.Sort()
	return out
}

// above gives the path of what a field stands in; "" where that is the document.
func above(path string) string { return path[:max(strings.LastIndexByte(path, '.'), 0)] }
