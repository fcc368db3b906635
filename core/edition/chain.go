package edition

import (
	"bytes"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/trust"
)

// Names of what an edition keeps of where it came from: the roots that upstreams signed,
// as they were, and the certificates that signed them.
const (
	rootsFolder   = "about/roots/"
	signersFolder = "about/signers/"
)

// RootPath is where a file of a source's root stands in an edition. A faithful copy has it
// where upstream does.
func (s Source) RootPath(path string) string {
	if s.Tailored {
		return rootsFolder + s.Name + "/" + path
	}
	return s.Name + "/" + path
}

// SignerPath is where a certificate that signed a root stands in an edition.
func SignerPath(fingerprint string) string { return signersFolder + fingerprint + ".asc" }

// Vouch is the decision that was in force when an edition was made: that a key may sign
// the source.
type Vouch struct {
	Evidence string    `json:"evidence"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
}

// State is how much was found out about a link of a chain.
type State string

// The states of a link.
const (
	Compared State = "compared" // now, from the stored bytes
	AsSealed State = "sealed"   // the edition says it, under its seal; the bytes were not compared now
	Broken   State = "broken"   // it does not hold
)

// Values lists them, for the API's description.
func (State) Values() []string { return []string{string(Compared), string(AsSealed), string(Broken)} }

// Link is one step of a chain: why the step before it is believed.
type Link struct {
	Kind        string    `json:"kind"` // package, index, root, signature, key, vouch, handed-in, list, manifest, seal
	State       State     `json:"state"`
	Text        string    `json:"text"`
	Why         string    `json:"why,omitempty"`    // why it was not compared, or does not hold
	SHA256      string    `json:"sha256,omitempty"` // of its bytes
	Path        string    `json:"path,omitempty"`   // of its bytes in the edition
	Fingerprint string    `json:"fingerprint,omitempty"`
	At          time.Time `json:"at,omitzero"`
	By          string    `json:"by,omitempty"`
}

// Chain is what stands behind one package of an edition. Both ways begin at the package
// file: up to who vouched for the key that signed its source, and to the seal, by which
// machines and other sites know the edition.
type Chain struct {
	Edition  string `json:"edition"`
	Package  Item   `json:"package"`
	Upstream []Link `json:"upstream"`
	Site     []Link `json:"site"`
}

// Holds tells whether no link is broken. Those that were not compared say so themselves.
func (c Chain) Holds() bool {
	return !slices.ContainsFunc(slices.Concat(c.Upstream, c.Site),
		func(l Link) bool { return l.State == Broken })
}

// Chain follows what stands behind a package, and compares each step with the stored bytes.
// An error tells that this machine could not read; what does not hold is told in the chain.
func (s *Sealed) Chain(it Item, known archive.Registry) (Chain, error) {
	c := Chain{Edition: s.Name(), Package: it}
	i := slices.IndexFunc(s.Sources, func(src Source) bool { return src.Name == it.Source })
	if i < 0 {
		return c, finding.New(finding.EditionDamaged, "edition "+s.Name(),
			"the edition has %s of the source %s, but its record does not list them",
			it.Name, it.Source)
	}
	f := &follower{s: s, it: it, src: s.Sources[i], family: known[s.Sources[i].Family]}
	first, err := f.file()
	if err != nil {
		return c, err
	}
	up, err := f.upstream()
	if err != nil {
		return c, err
	}
	site, err := f.site()
	c.Upstream, c.Site = append([]Link{first}, up...), append([]Link{first}, site...)
	return c, err
}

// follower follows one package.
type follower struct {
	s      *Sealed
	it     Item
	src    Source
	family archive.Family
}

// file compares the package itself with its digests.
func (f *follower) file() (Link, error) {
	l := Link{Kind: "package", State: Compared, SHA256: f.it.SHA256, Path: f.it.Path,
		Text: fmt.Sprintf("the file of %s %s (%d bytes) has this checksum", f.it.Name, f.it.Version,
			f.it.Size)}
	short, long := sha256.New(), sha512.New()
	n, err := f.read(f.it.SHA256, io.MultiWriter(short, long))
	switch {
	case errors.Is(err, pool.ErrMissing):
		return l.broken("the file is missing from the pool"), nil
	case err != nil:
		return l, finding.Doing(err, "read %s", f.it.Path)
	case n != f.it.Size || hex.EncodeToString(short.Sum(nil)) != f.it.SHA256 ||
		f.it.SHA512 != "" && hex.EncodeToString(long.Sum(nil)) != f.it.SHA512:
		return l.broken("the file was changed on disk"), nil
	}
	return l, nil
}

func (l Link) broken(why string) Link {
	l.State, l.Why = Broken, why
	return l
}

// unread is a link that the edition says, and that could not be compared.
func (l Link) unread(why string) Link {
	l.State, l.Why = AsSealed, why
	return l
}

// read copies a stored file.
func (f *follower) read(sum string, to io.Writer) (int64, error) {
	b, err := f.s.store.Open(sum)
	if err != nil {
		return 0, err
	}
	defer b.Close()
	return io.Copy(to, b)
}

// upstream follows the package up to who vouched for the key that signed its source.
func (f *follower) upstream() ([]Link, error) {
	if f.src.Upstream == "" || f.src.Signer.Fingerprint == f.s.SiteKey {
		return []Link{{Kind: "handed-in", State: AsSealed, Fingerprint: f.s.SiteKey,
				Text: "the package was added by hand to the house source " + f.src.Name +
					", which the site key signs"}},
			nil
	}
	if f.src.Unsigned != (Unsigned{}) {
		return f.unsigned()
	}
	root, links, err := f.root()
	if err != nil {
		return nil, err
	}
	index, err := f.index(root)
	if err != nil {
		return nil, err
	}
	key := Link{Kind: "key", State: Compared, Fingerprint: f.src.Signer.Fingerprint,
		Text: "the certificate of " + finding.Harmless(f.src.Signer.UserID),
		Path: SignerPath(f.src.Signer.Fingerprint)}
	if root == nil {
		key = key.unread("the signature was not compared")
		key.Path = ""
	}
	vouch := Link{Kind: "vouch", State: AsSealed, Fingerprint: f.src.Signer.Fingerprint, By: f.src.Vouched.By,
		At: f.src.Vouched.At, Why: "the decision is in the journal, not in a file",
		Text: "may sign " + f.src.Name + ": " + finding.Harmless(f.src.Vouched.Evidence)}
	if f.src.Vouched.By == "" {
		vouch.Text = "the warden who vouched for it for " + f.src.Name
		vouch.Why = "this edition was sealed before Stockade recorded that in editions"
	}
	return append([]Link{index}, append(links, key, vouch)...), nil
}

// root verifies the root anew, as it was when the edition was made. It is nil where that
// cannot be done; the links say why.
func (f *follower) root() (*archive.Root, []Link, error) {
	l := Link{Kind: "root", State: Compared, At: f.src.RootDate,
		Text: "the release metadata of " + f.src.Name + ", from " + f.src.Upstream}
	signed := Link{Kind: "signature", State: Compared, At: f.src.Signer.At,
		Fingerprint: f.src.Signer.Fingerprint,
		Text:        "a signature over the release metadata, by " + finding.Harmless(f.src.Signer.UserID)}
	none := func(why string, make func(Link, string) Link) (*archive.Root, []Link, error) {
		return nil, []Link{make(l, why), make(signed, why)}, nil
	}
	if len(f.src.Roots) == 0 || f.family == nil {
		return none("this edition was sealed before Stockade kept release metadata", Link.unread)
	}
	files, first, why, err := f.rootFiles()
	switch {
	case err != nil:
		return nil, nil, err
	case why != "":
		return none(why, Link.broken)
	}
	l.Path, l.SHA256 = f.src.RootPath(first.Path), first.SHA256
	raw, err := f.about(SignerPath(f.src.Signer.Fingerprint))
	if err != nil {
		if why, ok := gone(err); ok {
			return none(why, Link.broken)
		}
		return nil, nil, err
	}
	certs, err := trust.ReadCertificates(raw)
	if err != nil || len(certs) != 1 || certs[0].Fingerprint != f.src.Signer.Fingerprint {
		return none("the certificate beside the release metadata is not the signer's", Link.broken)
	}
	ring := trust.NewKeyring(f.src.Name, []trust.Known{{Certificate: certs[0],
		VouchedFor: []string{f.src.Name}}},
		func() time.Time { return f.s.Created })
	root, err := f.family.ReadRoot(f.src.Source, f.choice(files), files, ring)
	if err != nil {
		g, _ := finding.From(err)
		return none("the signature is not valid: "+g.Text, Link.broken)
	}
	return root, []Link{l, signed}, nil
}

// unsigned follows the package up to a root that nobody signed, and to who acknowledged that.
func (f *follower) unsigned() ([]Link, error) {
	u := f.src.Unsigned
	told := Link{Kind: "acknowledged", State: AsSealed, By: u.By, At: u.At,
		Why: "the decision is in the journal, not in a file",
		Text: "no one signs this source; it is accepted as unsigned until " +
			u.Until.AddDate(0, 0, -1).Format(time.DateOnly) +
			": " + finding.Harmless(u.Reason)}
	l := Link{Kind: "root", State: Compared, At: f.src.RootDate,
		Text: "the release metadata of " + f.src.Name + ", as " + f.src.Upstream +
			" served it, without a signature"}
	files, first, why, err := f.rootFiles()
	if err != nil {
		return nil, err
	}
	if why != "" || f.family == nil {
		index, err := f.index(nil)
		return []Link{index, l.broken(why), told}, err
	}
	l.Path, l.SHA256 = f.src.RootPath(first.Path), first.SHA256
	var choice archive.RootChoice
	for _, c := range archive.Unsigned(f.family.Roots(f.src.Source)) {
		if len(c) == len(files) && files[c[0].Path] != nil {
			choice = c
		}
	}
	var root *archive.Root
	if choice != nil {
		root, err = f.family.ReadRoot(f.src.Source, choice, files, asServed{f.src.Signer.At})
	}
	if g, ok := finding.From(err); ok || root == nil {
		l = l.broken("the file cannot be read: " + g.Text)
	}
	index, err := f.index(root)
	return []Link{index, l, told}, err
}

// asServed takes a root for what it is: nobody signed it.
type asServed struct{ at time.Time }

func (a asServed) Clearsigned([]byte) ([]byte, archive.Signer, error) {
	return nil, archive.Signer{}, errors.New("nobody signed it")
}
func (a asServed) Detached(_, _ []byte) (archive.Signer, error) { return archive.Signer{At: a.at}, nil }
func (a asServed) Streamed(io.ReadSeeker, []byte) (archive.Signer, error) {
	return archive.Signer{At: a.at}, nil
}

// rootFiles reads the files of the root that the edition was made from, and gives the first
// of them too. why tells what of them is damaged.
func (f *follower) rootFiles() (files map[string][]byte, first Index, why string, err error) {
	files = map[string][]byte{}
	for i, r := range f.src.Roots {
		data, err := f.about(f.src.RootPath(r.Path))
		if err != nil {
			if why, ok := gone(err); ok {
				return nil, first, why, nil
			}
			return nil, first, "", err
		}
		if files[r.Path] = data; i == 0 {
			first = r
		}
	}
	return files, first, "", nil
}

// choice finds the way in which the family got the root.
func (f *follower) choice(files map[string][]byte) archive.RootChoice {
	for _, c := range f.family.Roots(f.src.Source) {
		if len(c) == len(files) && !slices.ContainsFunc(c,
			func(r archive.RootFile) bool { return files[r.Path] == nil }) {
			return c
		}
	}
	return nil
}

// about reads a file of the edition, and compares it with its digest.
func (f *follower) about(path string) ([]byte, error) {
	line, ok, err := f.s.Find(path)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, finding.New(finding.EditionDamaged, "", "the edition has no %s", path)
	}
	var data bytes.Buffer
	if _, err := f.read(line.SHA256, &data); err != nil {
		return nil, pool.Gone(err, path)
	}
	if sum := sha256.Sum256(data.Bytes()); hex.EncodeToString(sum[:]) != line.SHA256 {
		return nil, finding.New(finding.EditionDamaged, "", "%s was changed on disk", path)
	}
	return data.Bytes(), nil
}

// gone tells what of an error is damage, which is told in the chain; a fault of this machine
// is none.
func gone(err error) (string, bool) {
	f, ok := finding.From(err)
	return f.Text, ok && f.Code != finding.FaultCode
}

// errFound ends the reading of an index.
var errFound = errors.New("found")

// index finds the list of packages in which the package stands with its digest, and that the
// root names that list with its own.
func (f *follower) index(root *archive.Root) (Link, error) {
	l := Link{Kind: "index", Text: "a package index of " + f.src.Name +
		" lists the file with this checksum"}
	if root == nil {
		return l.unread("the release metadata was not compared"), nil
	}
	choices, err := f.family.Indexes(f.src.Source, root)
	if err != nil {
		g, _ := finding.From(err)
		return l.broken("the release metadata lists no indexes: " + g.Text), nil
	}
	why, damaged := "this index is no longer in the pool", false
	for _, used := range f.src.Indexes {
		choice, file, ok := named(choices, used)
		if !ok {
			return l.broken("the release metadata does not list " + used.Path + " with the checksum that " +
				"was used"), nil
		}
		found, err := f.stands(choice, file, used)
		switch {
		case errors.Is(err, pool.ErrMissing):
			continue
		case err != nil:
			if g, ok := finding.From(err); ok && g.Code != finding.FaultCode {
				why, damaged = "an index of it can no longer be read: "+g.Text, true
				continue
			}
			return l, err
		case found:
			l.State, l.SHA256 = Compared, used.SHA256
			l.Text = fmt.Sprintf("%s lists the file with this checksum, and the release "+
				"metadata lists that index with this one", used.Path)
			return l, nil
		}
		if !damaged {
			why = "no index that is still in the pool lists it"
		}
	}
	return l.unread(why), nil
}

// named finds a list that was used among those that a root names, by path and digest.
func named(choices []archive.IndexChoice, used Index) (archive.IndexChoice, archive.IndexFile, bool) {
	for _, c := range choices {
		for _, file := range c.Files {
			if file.Path == used.Path && (file.SHA256 == used.SHA256 || file.SHA256 == "" &&
				file.SHA512 != "") {
				return c, file, true
			}
		}
	}
	return archive.IndexChoice{}, archive.IndexFile{}, false
}

// maxIndex bounds one list of packages, unpacked (bytes).
const maxIndex = 4 << 30

// stands tells whether a list names the package with its digest. The list is compared with
// its own.
func (f *follower) stands(choice archive.IndexChoice, file archive.IndexFile, used Index) (found bool,
	err error) {
	b, err := f.s.store.Open(used.SHA256)
	if err != nil {
		return false, err
	}
	defer b.Close()
	short, long := sha256.New(), sha512.New()
	packed := io.TeeReader(b, io.MultiWriter(short, long))
	plain, err := archive.Decompress(packed, file.Compression, maxIndex)
	if err != nil {
		return false, err
	}
	defer plain.Close()
	err = f.family.ReadIndex(f.src.Source, choice, plain, func(p *archive.Package, _ []byte) error {
		found = found || p.Name == f.it.Name && p.Version == f.it.Version && p.Arch == f.it.Arch &&
			(p.SHA256 == f.it.SHA256 || p.SHA256 == "" && p.SHA512 != "" && p.SHA512 == f.it.SHA512)
		return nil
	})
	if err != nil {
		return false, err
	}
	if _, err := io.Copy(io.Discard, packed); err != nil {
		return false, err
	}
	if hex.EncodeToString(short.Sum(nil)) != used.SHA256 ||
		file.SHA512 != "" && hex.EncodeToString(long.Sum(nil)) != file.SHA512 {
		return false, finding.New(finding.EditionDamaged, "", "%s was changed on disk", used.Path)
	}
	return found, nil
}

// site follows the package to the seal. That the seal holds was checked when the edition
// was opened.
func (f *follower) site() ([]Link, error) {
	list := Link{Kind: "list", State: Compared, Path: listsFolder + f.src.Name,
		Text: "the edition's list of the files of " + f.src.Name + " contains it with this " +
			"checksum"}
	line, ok, err := f.s.Find(f.it.Path)
	if err != nil {
		why, damage := gone(err)
		if !damage {
			return nil, err
		}
		list = list.broken(why)
	} else if !ok || line.SHA256 != f.it.SHA256 {
		list = list.broken("the list does not contain it, or has another checksum")
	}
	if f.s.Format == OneList {
		list.Path, list.Text = "", "the manifest contains it with this checksum"
	} else if l, ok := f.s.Manifest.Lines.Find(list.Path); ok {
		list.SHA256 = l.SHA256
	}
	return []Link{list,
		{Kind: "manifest", State: Compared, At: f.s.Created,
			Text: "the manifest contains that list with this checksum"},
		{Kind: "seal", State: Compared, At: f.s.Created, Fingerprint: f.s.SealedBy.Fingerprint,
			Text: "the seal over the manifest is valid, by the site key " +
				trust.Spaced(f.s.SealedBy.Fingerprint)}}, nil
}

// ItemsNamed gives the packages of a name, at most some; version and architecture narrow
// them down where they are not empty.
func (s *Sealed) ItemsNamed(name, version, arch string, most int) (out []Item, err error) {
	err = s.Items(func(it Item) error {
		if it.Name != name || version != "" && it.Version != version || arch != "" && it.Arch != arch {
			return nil
		}
		if out = append(out, it); len(out) == most {
			return errFound
		}
		return nil
	})
	if errors.Is(err, errFound) {
		err = nil
	}
	return out, err
}

// Near gives the name of a package of the edition that was most likely meant; "" if none.
func (s *Sealed) Near(name string, nearest func(word string, known []string) string) string {
	seen := map[string]bool{}
	var known []string
	s.Items(func(it Item) error {
		if !seen[it.Name] && strings.HasPrefix(it.Name, name[:min(1, len(name))]) {
			seen[it.Name] = true
			known = append(known, it.Name)
		}
		return nil
	})
	return nearest(name, known)
}
