// Package definition is the definition language: YAML documents that describe
// keys, sources, proxies, mirrors, lanes and groups, read with the position of
// every value; the checks that need no network; comparing; writing back.
//
// Documents come from administrators, who make mistakes: a document with an
// error is refused whole. Nothing here fetches or decides about trust.
package definition

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/core/trust"
)

// Key is a certificate and the decision about it.
type Key struct {
	File        string `yaml:"file" json:"file,omitempty" doc:"File with the certificate, armored or binary, relative to this document"`
	Fingerprint string `yaml:"fingerprint" json:"fingerprint,omitempty" doc:"The whole fingerprint; spaces are allowed"`
	// Fingerprints are those of several certificates that stand in one file.
	Fingerprints []string `yaml:"fingerprints" json:"fingerprints,omitempty" doc:"Whole fingerprints of several certificates in one file, all of which count under this name"`
	VouchedFor   []string `yaml:"vouched_for" json:"vouched_for,omitempty" names:"source" doc:"The sources that the key may sign. Together with fingerprint and evidence, this vouches for the key"`
	Evidence     string   `yaml:"evidence" json:"evidence,omitempty" doc:"How the fingerprint was compared with the owner"`
}

// All gives the whole fingerprints that stand under the name, as they are written.
func (k Key) All() []string {
	if k.Fingerprint == "" {
		return k.Fingerprints
	}
	return append([]string{k.Fingerprint}, k.Fingerprints...)
}

// Source describes one upstream repository.
type Source struct {
	Family        string            `yaml:"family" json:"family" names:"family" doc:"The format of the repository. Required, here or under defaults"`
	Standing      string            `yaml:"standing" json:"standing" doc:"Who is responsible for the source. Required, here or under defaults" enum:"official,vendor,community,house"`
	Upstreams     []Upstream        `yaml:"upstreams" json:"upstreams,omitempty" doc:"The servers that carry the source, in the order of use. A house source has none"`
	Release       string            `yaml:"release" json:"release,omitempty" doc:"The release. For a repository without releases (deb, alpm), the folder with a final slash. Example: heron"`
	Components    []string          `yaml:"components" json:"components,omitempty" doc:"The components of the release. Example: [core, field]"`
	Architectures []string          `yaml:"architectures" json:"architectures" doc:"The architectures, in the words of the family. Example: [amd64, arm64]"`
	Languages     []string          `yaml:"languages" json:"languages,omitempty" doc:"Languages of translated descriptions that a faithful mirror copies; [none] for none. Default: [en]"`
	SignedBy      []string          `yaml:"signed_by" json:"signed_by" names:"key" doc:"The keys that may sign the source, by name or whole fingerprint"`
	Unsigned      Unsigned          `yaml:"unsigned" json:"unsigned,omitzero" doc:"Accept that no one signs the release metadata, until a date. A warden records it"`
	Priority      int               `yaml:"priority" json:"priority" doc:"Priority from 1 (best) to 99. Default: 50" least:"1" most:"99"`
	MaxAge        Age               `yaml:"max_age" json:"max_age,omitempty" doc:"Maximum age of the release metadata; older metadata is a finding. Default: no limit. Example: 10d"`
	Proxy         string            `yaml:"proxy" json:"proxy,omitempty" names:"proxy" doc:"The proxy for the upstreams. Default: none"`
	Credentials   []string          `yaml:"credentials" json:"credentials,omitempty" names:"credential" doc:"Credentials for the upstreams; each is sent only to its own hosts"`
	Authority     string            `yaml:"authority" json:"authority,omitempty" names:"authority" doc:"The certificate authority of the upstreams. Default: the authorities of this machine"`
	Values        map[string]string `yaml:"values" json:"values,omitempty" doc:"Variables of your own for the URLs of the upstreams. Example: {edge: north} for $edge"`
	Redirects     []string          `yaml:"redirects" json:"redirects,omitempty" doc:"Further hosts that the upstreams may redirect to"`
	ProbeSchedule string            `yaml:"probe_schedule" json:"probe_schedule,omitempty" doc:"When the upstreams are probed, as five cron fields. Default: never. Example: 30 3 * * 1"`
	SecurityFixes bool              `yaml:"security_fixes" json:"security_fixes,omitempty" doc:"All updates of the source are security fixes. Default: as its release, suite, label or advisories say"`
	Disabled      bool              `yaml:"disabled" json:"disabled,omitempty" doc:"Keep the definition, but do not use the source. Default: false"`
}

// Unsigned is the acknowledgement that nobody signs the root of a source.
type Unsigned struct {
	Reason string `yaml:"reason" json:"reason" doc:"Why the source is used without a signature" need:"yes"`
	Until  string `yaml:"until" json:"until" doc:"The last day on which this counts, at most two years ahead. Example: 2027-03-01" need:"yes"`
}

// From says from where the content of a source comes: two sources of which it is the same
// are served the same by who serves them. The order of upstreams does not count.
func (s Source) From() string {
	servers := []string{}
	for _, u := range s.Upstreams {
		servers = append(servers, u.URL+" "+u.MirrorList+" "+u.Metalink)
	}
	slices.Sort(servers)
	return fmt.Sprint(s.Family, servers, s.Release, s.Components, s.Architectures, s.Redirects, s.Values,
		s.Proxy, s.Authority)
}

// ended is the cause of the finding that an acknowledgement has come to its end.
const ended = "ended"

// maxUnsigned is for how long an unsigned source can be acknowledged.
const maxUnsigned = 2 * 366 * 24 * time.Hour

// End gives the time at which the acknowledgement ends.
func (u Unsigned) End() (time.Time, error) {
	day, err := time.Parse(time.DateOnly, u.Until)
	if err != nil {
		return time.Time{}, finding.New(finding.DefineBadValue, "", "%q is not a date", u.Until).
			Do("write the date as 2027-03-01")
	}
	return day.AddDate(0, 0, 1), nil
}

// Upstream is one server of a source, or a list of them: one of URL, MirrorList
// and Metalink is given.
type Upstream struct {
	URL        string `yaml:"url" json:"url,omitempty" doc:"URL of the server, http or https. $release stands for the release, $arch for the only architecture"`
	MirrorList string `yaml:"mirror_list" json:"mirror_list,omitempty" doc:"Instead of url: the URL of a plain list of servers, one per line"`
	Metalink   string `yaml:"metalink" json:"metalink,omitempty" doc:"Instead of url: the URL of a Metalink for the release metadata"`
	Region     string `yaml:"region" json:"region,omitempty" doc:"Where the server is, in your own words. Example: north"`
}

// Address gives the one address that is given, and the field that it is in.
func (u Upstream) Address() (address, field string) {
	switch {
	case u.MirrorList != "":
		return u.MirrorList, "mirror_list"
	case u.Metalink != "":
		return u.Metalink, "metalink"
	}
	return u.URL, "url"
}

// Package is one package of a house source, added by hand. Its file is in the
// pool of the site that it was added to.
type Package struct {
	Source       string `yaml:"source" json:"source" doc:"The house source that contains the package" need:"yes"`
	Name         string `yaml:"name" json:"name" doc:"Its name, as in the package" need:"yes"`
	Version      string `yaml:"version" json:"version" doc:"Its version, as in the package" need:"yes"`
	Architecture string `yaml:"architecture" json:"architecture" doc:"Its architecture, as in the package" need:"yes"`
	SHA256       string `yaml:"sha256" json:"sha256" doc:"SHA-256 of the file that machines receive" need:"yes"`
	Size         int    `yaml:"size" json:"size" doc:"Size of that file, in bytes" need:"yes"`
	Signature    string `yaml:"signature" json:"signature,omitempty" doc:"SHA-256 of the detached signature of the site, if the family has such signatures"`
	Given        string `yaml:"given" json:"given" doc:"SHA-256 of the file as it was added"`
	From         string `yaml:"from" json:"from" doc:"Where the file came from" need:"yes"`
	Why          string `yaml:"why" json:"why" doc:"Why it is needed" need:"yes"`
	By           string `yaml:"by" json:"by" doc:"Who added it"`
	At           string `yaml:"at" json:"at" doc:"When it was added, in UTC"`
	SignedBy     string `yaml:"signed_by" json:"signed_by,omitempty" doc:"The key whose signature it had: a fingerprint, or why that could not be verified"`
}

// Managed tells whether a source is a house source that holds what is added by hand.
func (src Source) Managed() bool { return src.Standing == House && len(src.Upstreams) == 0 }

// HousePackages gives the names of the packages of a house source, in order.
func (s *Set) HousePackages(source string) (out []string) {
	for _, name := range slices.Sorted(maps.Keys(s.Packages)) {
		if s.Packages[name].Source == source {
			out = append(out, name)
		}
	}
	return out
}

// Proxy is a named way out.
type Proxy struct {
	URL        string   `yaml:"url" json:"url" doc:"URL of the proxy, http or https, without user and password" need:"yes"`
	Credential string   `yaml:"credential" json:"credential,omitempty" names:"credential" doc:"The credential for the proxy: a login or a token"`
	Authority  string   `yaml:"authority" json:"authority,omitempty" names:"authority" doc:"The certificate authority of an https proxy. Default: the authorities of this machine"`
	NoProxy    []string `yaml:"no_proxy" json:"no_proxy,omitempty" doc:"Hosts that are reached without the proxy: a host, a domain that begins with a dot, or a network. Example: [.reach.example, 10.0.0.0/8]"`
}

// Credential says what opens a server and which servers it is shown to. The secret
// itself is given to the service alone, and stands in no document.
type Credential struct {
	Kind  string   `yaml:"kind" json:"kind" doc:"login: user and password. token: a bearer token. certificate: a client certificate with its key" enum:"login,token,certificate" need:"yes"`
	User  string   `yaml:"user" json:"user,omitempty" doc:"The user of a login"`
	Hosts []string `yaml:"hosts" json:"hosts" doc:"The hosts that receive the credential, and no others, with the port if it is not the usual one. Example: [packages.kelp.example]" need:"yes"`
}

// The kinds of credential.
const (
	Login       = "login"
	Token       = "token"
	Certificate = "certificate"
)

// Rule is what holds for the sources of a standing, or of the whole site. A rule can be
// recorded by a warden; it can be taken away only where the service is started.
type Rule struct {
	TwoPersons bool     `yaml:"two_persons" json:"two_persons,omitempty" doc:"A vouch takes effect when a second warden vouches too, from another account. Default: false"`
	RSABits    int      `yaml:"rsa_bits" json:"rsa_bits,omitempty" doc:"RSA keys with fewer bits may not sign anything. Default: as in the table of algorithms" least:"1024" most:"16384"`
	Refuse     []string `yaml:"refuse" json:"refuse,omitempty" doc:"Algorithms of keys and signatures that are rejected. Example: [DSA, SHA-224]"`
}

// SiteRule is the name of the rule that holds for every source; the others are called as
// standings are.
const SiteRule = "site"

// TwoPersons tells whether two wardens have to vouch for a key of a source.
func (s *Set) TwoPersons(source string) bool {
	src, ok := s.Sources[source]
	return ok && (s.Rules[SiteRule].TwoPersons || s.Rules[src.Standing].TwoPersons)
}

// Policy gives what holds about algorithms for the keys of a source: what any rule refuses.
func (s *Set) Policy(source string) trust.Policy {
	of := func(r Rule) trust.Policy { return trust.Policy{RSABits: r.RSABits, Refuse: r.Refuse} }
	return of(s.Rules[SiteRule]).And(of(s.Rules[s.Sources[source].Standing]))
}

// Authority certifies servers for TLS.
type Authority struct {
	File         string `yaml:"file" json:"file,omitempty" doc:"File with the certificates of the authority, in PEM, relative to this document"`
	Certificates string `yaml:"certificates" json:"certificates,omitempty" doc:"The certificates themselves, in PEM. Recording stores the content of the file here"`
}

// Mirror describes an offline mirror.
type Mirror struct {
	Copy     string     `yaml:"copy" json:"copy" doc:"faithful: byte for byte, with the signatures of the upstream. tailored: selected packages, with new indexes that the site key signs" enum:"faithful,tailored" need:"yes"`
	From     []From     `yaml:"from" json:"from" doc:"The sources, each with packages that are wanted from it alone" need:"yes"`
	Want     Want       `yaml:"want" json:"want,omitzero" doc:"The packages wanted from all sources of the mirror. The source with the best priority that has a package wins; among equals the newest version"`
	Together [][]string `yaml:"together" json:"together,omitempty" doc:"Sets of packages that are wanted, and proved to be installable side by side"`
	Baseline Baseline   `yaml:"baseline" was:"footing" json:"baseline,omitzero" doc:"What counts as installed already when a proof is made. Default: the essential packages"`
	Complete string     `yaml:"complete" json:"complete" doc:"strict: seal nothing if a wanted package cannot be installed. told: seal it, with the findings. Default: strict if tailored, told if faithful" enum:"strict,told"`
	Keep     int        `yaml:"keep" json:"keep" doc:"How many editions are kept. Default: 6" least:"1" most:"10000"`
	Schedule string     `yaml:"schedule" json:"schedule,omitempty" doc:"When the mirror is built, as five cron fields. Default: never. Example: 30 2 * * *"`
	// VerifySchedule says when every byte of the editions that lanes show is compared with their seals.
	VerifySchedule string `yaml:"verify_schedule" json:"verify_schedule,omitempty" doc:"When the editions on its lanes are verified, every file, as five cron fields. Default: never. Example: 0 4 * * 0"`
}

// Everything tells whether a source of the mirror is taken whole.
func (m Mirror) Everything(f From) bool {
	return f.Want.Everything || m.Want.Everything && f.Want.IsZero()
}

// Baseline is what counts as installed already when a proof is made.
type Baseline struct {
	List    string   `yaml:"list" json:"list,omitempty" names:"list" doc:"A list of the installed packages of an example machine; each stays installed, in its version or another"`
	Sources []string `yaml:"sources" json:"sources,omitempty" names:"source" doc:"Sources that machines get from elsewhere. Their packages satisfy dependencies, and the mirror does not contain them"`
}

// List is a list of packages: of those that are wanted, or of what an example machine has
// installed.
type List struct {
	Family   string   `yaml:"family" json:"family,omitempty" names:"family" doc:"For the installed list of an example machine: its format. The file is the output of dpkg-query -W, rpm -qa or pacman -Q. Default: none; then the file has one wanted package per line"`
	File     string   `yaml:"file" json:"file,omitempty" doc:"The list, relative to this document"`
	Packages []string `yaml:"packages" json:"packages,omitempty" doc:"The packages themselves. Recording stores the content of the file here"`
}

// From is one source of a mirror. A plain name in a document is its source.
type From struct {
	Source string `yaml:"source" json:"source" names:"source" doc:"The source" need:"yes"`
	Want   Want   `yaml:"want" json:"want" doc:"everything, or packages that are wanted from this source alone. Default: what the mirror wants, and dependencies"`
}

// Want is what a mirror takes of a source.
type Want struct {
	Everything     bool     `yaml:"-" json:"everything,omitempty"`
	Packages       []string `yaml:"packages" json:"packages,omitempty" doc:"Names or patterns with * and ?, with an optional version bound. Example: [\"tide-tables >= 2\"]"`
	Provides       []string `yaml:"provides" json:"provides,omitempty" doc:"Names, capabilities or paths of files. Of the packages that provide each, the candidate of the machines is taken. Example: [/usr/bin/sluicectl]"`
	Sections       []string `yaml:"sections" json:"sections,omitempty" doc:"Sections or categories whose packages are taken, or patterns. Example: [admin, \"net*\"]"`
	Groups         []string `yaml:"groups" json:"groups,omitempty" doc:"Sets of packages that the repositories name: groups, environments, tasks, priorities such as required, and essential"`
	BuiltFrom      []string `yaml:"built_from" json:"built_from,omitempty" doc:"Source packages whose binary packages are taken, or patterns"`
	Lists          []string `yaml:"lists" json:"lists,omitempty" names:"list" doc:"Lists of packages, by name. Of the list of an example machine, the names count, not the versions"`
	With           string   `yaml:"with" json:"with,omitempty" doc:"Which dependencies come along. Default: required" enum:"required,recommended,suggested"`
	Alternatives   string   `yaml:"alternatives" json:"alternatives,omitempty" doc:"Of several ways to satisfy a dependency: first, what a machine would install, or all. Default: first" enum:"first,all"`
	Versions       int      `yaml:"versions" json:"versions,omitempty" doc:"How many of the newest versions of each wanted package are taken. Default: 1" least:"1" most:"1000"`
	Streams        []string `yaml:"streams" json:"streams,omitempty" doc:"Module streams that machines have enabled, as NAME:STREAM. Example: [\"pump-panel:3\"]"`
	Except         []string `yaml:"except" json:"except,omitempty" doc:"Names or patterns that are never taken. Example: [\"*-dbg\"]"`
	SourcePackages bool     `yaml:"source_packages" json:"source_packages,omitempty" doc:"Also take the source packages of the taken packages (deb). Default: false"`
	Only           bool     `yaml:"only" json:"only,omitempty" doc:"The packages come from this source on purpose, even if another source of the mirror has newer ones. Default: false"`
}

// IsZero reports whether nothing is set: the essential packages are the baseline then.
func (f Baseline) IsZero() bool { return f.List == "" && len(f.Sources) == 0 }

// EveryAlternative is the word for taking every way to meet a need.
const EveryAlternative = "all"

// IsZero tells whether nothing is wanted.
func (w Want) IsZero() bool { return reflect.ValueOf(w).IsZero() }

// Names tells whether a want names packages in some way.
func (w Want) Names() bool {
	return len(w.Packages)+len(w.Provides)+len(w.Sections)+len(w.Groups)+len(w.BuiltFrom)+len(w.Lists) > 0
}

func (w *Want) fill() {
	if !w.Names() {
		return
	}
	if w.With == "" {
		w.With = Required
	}
	if w.Versions == 0 {
		w.Versions = 1
	}
}

// Lane is a name that machines follow.
type Lane struct {
	Mirror string `yaml:"mirror" json:"mirror" names:"mirror" doc:"The mirror whose editions the lane shows" need:"yes"`
}

// Group is a kind of machines.
type Group struct {
	Family        string              `yaml:"family" json:"family" names:"family" doc:"The repository format that the machines read" need:"yes"`
	Release       string              `yaml:"release" json:"release,omitempty" doc:"The release that the machines run"`
	Architectures []string            `yaml:"architectures" json:"architectures,omitempty" doc:"The architectures of the machines"`
	Foreign       []string            `yaml:"foreign" json:"foreign,omitempty" doc:"Further architectures whose packages the machines can install, if the family supports that. Example: [i386]"`
	Lane          string              `yaml:"lane" json:"lane" names:"lane" doc:"The lane that the machines follow" need:"yes"`
	Pins          []string            `yaml:"pins" json:"pins,omitempty" doc:"Versions that the machines of the group keep. Example: [\"tide-tables = 2.4.1-1\"]"`
	Roles         map[string][]string `yaml:"roles" json:"roles,omitempty" doc:"The packages of each role, by the name of the role. They are wanted, and proved to be installable side by side"`
	Baseline      Baseline            `yaml:"baseline" was:"footing" json:"baseline,omitzero" doc:"What counts as installed already when a proof is made for the group. Default: the baseline of the mirror"`
	ReportWithin  Age                 `yaml:"report_within" json:"report_within,omitempty" doc:"How long a machine may send no report before that is a finding. Default: no limit. Example: 4w"`
}

// Document is one YAML document.
type Document struct {
	Stockade    int                   `yaml:"stockade" json:"stockade" doc:"The version of the language: 1" need:"yes" least:"1" most:"1"`
	Keys        map[string]Key        `yaml:"keys" json:"keys,omitempty" doc:"Certificates, by a name of your own"`
	Defaults    Defaults              `yaml:"defaults" json:"-" doc:"Values for fields that sources of this document leave out"`
	Rules       map[string]Rule       `yaml:"rules" json:"rules,omitempty" doc:"Rules for sources, by their standing; or for site: all sources"`
	Authorities map[string]Authority  `yaml:"authorities" json:"authorities,omitempty" doc:"Certificate authorities for TLS, by a name of your own"`
	Credentials map[string]Credential `yaml:"credentials" json:"credentials,omitempty" doc:"Credentials for upstreams and proxies, by a name of your own. The secrets are not part of the definition"`
	Proxies     map[string]Proxy      `yaml:"proxies" json:"proxies,omitempty" doc:"Proxies, by name"`
	Sources     map[string]Source     `yaml:"sources" json:"sources,omitempty" doc:"Upstream repositories, by name"`
	Packages    map[string]Package    `yaml:"packages" json:"packages,omitempty" doc:"The packages of house sources; stockade package add writes them"`
	Lists       map[string]List       `yaml:"lists" json:"lists,omitempty" doc:"Lists of packages, wanted ones or those of an example machine, by a name of your own"`
	Mirrors     map[string]Mirror     `yaml:"mirrors" json:"mirrors,omitempty" doc:"Offline mirrors, by name"`
	Lanes       map[string]Lane       `yaml:"lanes" json:"lanes,omitempty" doc:"Names that machines follow"`
	Groups      map[string]Group      `yaml:"groups" json:"groups,omitempty" doc:"Groups of machines of one kind"`
}

// Set is all that is described, with where each value stood. Paths in Places
// are like "sources.tarn.upstreams.0.url".
type Set struct {
	Document
	Places map[string]finding.Place `json:"-"`
	// Words are what people wrote of objects, by "kind name": a document of the object alone,
	// with its comments and the order of its fields.
	Words map[string]string `json:"-"`
}

// NewSet gives an empty set.
func NewSet() *Set {
	return &Set{Places: map[string]finding.Place{}, Words: map[string]string{},
		Document: Document{Stockade: 1,
			Rules: map[string]Rule{}, Authorities: map[string]Authority{},
			Credentials: map[string]Credential{},
			Keys:        map[string]Key{}, Proxies: map[string]Proxy{}, Sources: map[string]Source{},
			Packages: map[string]Package{}, Lists: map[string]List{},
			Mirrors: map[string]Mirror{}, Lanes: map[string]Lane{}, Groups: map[string]Group{}}}
}

// Place finds the place of a path, or of the nearest thing around it.
func (s *Set) Place(path string) finding.Place {
	for path != "" {
		if p, ok := s.Places[path]; ok {
			return p
		}
		i := strings.LastIndexByte(path, '.')
		if i < 0 || i == strings.IndexByte(path, '.') && sections[path[:i]] {
			break
		}
		path = path[:i]
	}
	return finding.Place{}
}

// sections are the fields of a document below which things stand by name.
var sections = func() map[string]bool {
	out := map[string]bool{}
	for _, k := range kinds {
		out[k.field] = true
	}
	return out
}()

// Age is a length of time as people write it: "12h", "10d", "3w". Empty: none.
type Age string

// Duration gives the length; zero for the empty Age.
func (a Age) Duration() (time.Duration, error) {
	if a == "" {
		return 0, nil
	}
	units := map[byte]time.Duration{'m': time.Minute, 'h': time.Hour,
		'd': 24 * time.Hour, 'w': 7 * 24 * time.Hour}
	unit, ok := units[a[len(a)-1]]
	n, err := strconv.Atoi(string(a[:len(a)-1]))
	if !ok || err != nil || n < 1 || n > 10000 {
		return 0, fmt.Errorf("%q is not a duration such as 12h, 10d or 3w", string(a))
	}
	return time.Duration(n) * unit, nil
}

// Fill puts the defaults in, so that what is recorded says what holds.
func (s *Set) Fill() {
	for name, src := range s.Sources {
		if src.Priority == 0 {
			src.Priority = 50
		}
		if src.Standing == "" {
			src.Standing = Community
		}
		if src.SignedBy == nil {
			src.SignedBy = []string{}
		}
		if src.Languages == nil {
			src.Languages = []string{"en"}
		}
		s.Sources[name] = src
	}
	for name, m := range s.Mirrors {
		if m.Complete == "" {
			m.Complete = Strict
			if m.Copy == Faithful {
				m.Complete = Told // what upstream itself left unfit cannot be mended by a copy
			}
		}
		if m.Keep == 0 {
			m.Keep = 6
		}
		m.Want.fill()
		for i := range m.From {
			m.From[i].Want.fill()
		}
		s.Mirrors[name] = m
	}
}

// Archive gives what the family needs to know of a source.
func (src Source) Archive(name string) archive.Source {
	return archive.Source{Name: name, Family: src.Family, Release: src.Release, Components: src.Components,
		Architectures: src.Architectures, Languages: src.Languages}
}

// UsersOf gives the mirrors that take from a source.
func (s *Set) UsersOf(source string) (out []string) {
	for _, name := range slices.Sorted(maps.Keys(s.Mirrors)) {
		if slices.ContainsFunc(s.Mirrors[name].From, func(f From) bool { return f.Source == source }) {
			out = append(out, name)
		}
	}
	return out
}
