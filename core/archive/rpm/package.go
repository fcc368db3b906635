package rpm

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"regexp"
	"strconv"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

// Inspect implements archive.Family. The digests over header and payload that
// the package carries are compared; a signature must come from v. A signature
// over the header alone counts for the payload by the payload's digest in that
// header; where there is none, one over both must be there.
func (Family) Inspect(file archive.PackageFile, v archive.Verifier) (archive.Inspected, error) {
	var out archive.Inspected
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return out, err
	}
	f, err := Open(file)
	if err != nil {
		return out, err
	}
	h := f.Header
	out.Identity = archive.Identity{Name: h.Text(tagName), Version: h.EVR(), Arch: h.Text(tagArch)}
	if out.Name == "" || h.Text(tagVersion) == "" || h.Text(tagRelease) == "" || out.Arch == "" {
		return out, badPackage("its header lacks name, version, release or architecture")
	}
	bound, err := f.checkDigests(file)
	if err != nil {
		return out, err
	}
	if v == nil {
		return out, nil
	}
	if over := f.headerSignatures(); len(over) > 0 {
		if out.Signer, err = v.Detached(h.Blob, over); err != nil {
			return out, insidePackage(err)
		}
		if bound {
			return out, nil
		}
	}
	whole := f.Signature.Bytes(sigPGP)
	if whole == nil {
		whole = f.Signature.Bytes(sigGPG)
	}
	if whole == nil {
		if !out.Signer.At.IsZero() {
			return out, finding.New("content.signature-bad", "",
				"the package's signature is over its header alone, and the header says nothing of "+
					"the payload")
		}
		return out, nil
	}
	if _, err := file.Seek(f.Start, io.SeekStart); err != nil {
		return out, err
	}
	if out.Signer, err = v.Streamed(file, whole); err != nil {
		return out, insidePackage(err)
	}
	return out, nil
}

func insidePackage(err error) error {
	if f, ok := finding.From(err); ok {
		f.Text = "the package itself: " + f.Text
		return f
	}
	return err
}

// headerSignatures gives the signatures over the header, as packets one behind
// the other.
func (f *File) headerSignatures() []byte {
	var out []byte
	for _, s := range f.Signature.Strings(sigOpenPGP) {
		raw, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(s), ""))
		if err != nil {
			raw = []byte(s) // no signature, and none that was left out: it is to be refused
		}
		out = append(out, raw...)
	}
	if len(out) > 0 {
		return out
	}
	for _, tag := range []uint32{sigRSAHeader, sigDSAHeader} {
		out = append(out, f.Signature.Bytes(tag)...)
	}
	return out
}

// checkDigests compares the digests that the package carries with what it is,
// and tells whether the header binds the payload.
func (f *File) checkDigests(file io.ReadSeeker) (bound bool, err error) {
	changed := func(what string) error {
		return finding.New("content.digest-mismatch", "", "the package's %s is not what its own digest says",
			what)
	}
	if want := f.Signature.Text(sigSHA256Header); want != "" && want != sumOf(sha256.New(), f.Header.Blob) {
		return false, changed("header")
	}
	if want := f.Signature.Text(sigSHA1Header); want != "" && want != sumOf(sha1.New(), f.Header.Blob) {
		return false, changed("header")
	}
	type check struct {
		want string
		hash.Hash
	}
	var checks []check
	if want := f.Header.Text(tagPayloadDigest); want != "" {
		switch algo := f.Header.Number(tagPayloadAlgo); algo {
		case 0, 8:
			checks = append(checks, check{want, sha256.New()})
		case 10:
			checks = append(checks, check{want, sha512.New()})
		}
	}
	if want := f.Header.Text(tagPayloadSHA512); want != "" {
		checks = append(checks, check{want, sha512.New()})
	}
	if len(checks) == 0 {
		return false, nil
	}
	if _, err := file.Seek(f.Payload, io.SeekStart); err != nil {
		return false, err
	}
	var all []io.Writer
	for _, c := range checks {
		all = append(all, c)
	}
	if _, err := io.Copy(io.MultiWriter(all...), file); err != nil {
		return false, err
	}
	for _, c := range checks {
		if hex.EncodeToString(c.Sum(nil)) != strings.ToLower(c.want) {
			return false, changed("payload")
		}
	}
	return true, nil
}

func sumOf(h hash.Hash, data []byte) string {
	h.Write(data)
	return hex.EncodeToString(h.Sum(nil))
}

// Endorse implements archive.Family: the headers' signatures are replaced by
// the site's; header and payload stay as they are.
func (Family) Endorse(file io.ReadSeeker, sign archive.SigningKey, to io.Writer) (bool, []byte, error) {
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return false, nil, err
	}
	f, err := Open(file)
	if err != nil {
		return false, nil, err
	}
	name := f.Header.Text(tagName) + "-" + f.Header.Text(tagVersion) + "-" + f.Header.Text(tagRelease)
	if _, err := file.Seek(f.Payload, io.SeekStart); err != nil {
		return false, nil, err
	}
	if !f.Header.Has(tagPayloadDigest) && !f.Header.Has(tagPayloadSHA512) {
		return false, nil, finding.New("content.malformed-package", "",
			"the package's header has no digest of its payload, so a signature over the header would not "+
				"hold it: build it anew with a newer rpmbuild")
	}
	md := md5.New()
	md.Write(f.Header.Blob)
	size, err := io.Copy(md, file)
	if err != nil {
		return false, nil, err
	}
	signature, err := signatureHeader(f.Header.Blob, size, md.Sum(nil), sign, f.Header.Number(tagFormat) == 6)
	if err != nil {
		return false, nil, err
	}
	if _, err := to.Write(append(lead(name), signature...)); err != nil {
		return false, nil, err
	}
	if _, err := file.Seek(f.Start, io.SeekStart); err != nil {
		return false, nil, err
	}
	_, err = io.Copy(to, file)
	return true, nil, err
}

func lead(name string) []byte {
	b := make([]byte, leadSize)
	copy(b, []byte{0xed, 0xab, 0xee, 0xdb, 3, 0, 0, 0, 0, 1})
	copy(b[10:75], name)
	b[77] = 1 // operating system
	b[79] = 5 // kind of signature: in headers
	return b
}

// signatureHeader writes the header of digests and signatures, padded. sign may
// be nil. Format 6 has its signatures as texts, and none of the old digests.
func signatureHeader(header []byte, payload int64, md []byte, sign archive.SigningKey,
	six bool) ([]byte, error) {
	w := &headerWriter{region: tagSignatures}
	if six {
		w.text(sigSHA256Header, sumOf(sha256.New(), header))
		if sign != nil {
			raw, err := sign.DetachSign(header, false)
			if err != nil {
				return nil, err
			}
			w.texts(sigOpenPGP, []string{base64.StdEncoding.EncodeToString(raw)})
		}
		return padded(w.bytes()), nil
	}
	if sign != nil {
		raw, err := sign.DetachSign(header, false)
		if err != nil {
			return nil, err
		}
		w.binary(sigRSAHeader, raw)
	}
	w.text(sigSHA1Header, sumOf(sha1.New(), header))
	w.text(sigSHA256Header, sumOf(sha256.New(), header))
	if total := int64(len(header)) + payload; total < 1<<32 {
		w.int32s(sigSize, total)
	}
	w.binary(sigMD5, md)
	return padded(w.bytes()), nil
}

func padded(b []byte) []byte {
	for len(b)%8 != 0 {
		b = append(b, 0)
	}
	return b
}

// Examine implements archive.Family.
func (Family) Examine(s archive.Source, file io.ReadSeeker) (archive.Examined, error) {
	size, err := file.Seek(0, io.SeekEnd)
	if err != nil {
		return archive.Examined{}, err
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return archive.Examined{}, err
	}
	digest := sha256.New()
	if _, err := io.Copy(digest, file); err != nil {
		return archive.Examined{}, err
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return archive.Examined{}, err
	}
	f, err := Open(file)
	if err != nil {
		return archive.Examined{}, err
	}
	name := f.Header.Text(tagName)
	evr := f.Header.Text(tagVersion) + "-" + f.Header.Text(tagRelease)
	d := Description{
		File:   f,
		Path:   "packages/" + name + "-" + evr + "." + f.Header.Text(tagArch) + ".rpm",
		SHA256: hex.EncodeToString(digest.Sum(nil)),
		Size:   size,
	}
	if err := archive.CheckPath(d.Path); err != nil {
		return archive.Examined{}, err
	}
	raw := []byte(d.Primary())
	p, err := newPrimaryReader().read(raw)
	if err != nil {
		return archive.Examined{}, err
	}
	if _, err := p.Needs.Relations(); err != nil {
		return archive.Examined{}, err
	}
	return archive.Examined{Package: p, Raw: raw}, nil
}

// Description writes what the lists of a repository say of a package file.
type Description struct {
	*File
	Path   string // relative to the repository, or to Base
	Base   string // URL of a folder elsewhere; usually none
	SHA256 string
	Size   int64 // bytes
}

func versionAttributes(evr string) string {
	epoch, version, release := splitEVR(evr)
	s := ` epoch="` + escape(epoch) + `" ver="` + escape(version) + `"`
	if release != "" {
		s += ` rel="` + escape(release) + `"`
	}
	return s
}

// relation is one as a header says it.
type relation struct {
	name, version string
	flags         int64
}

func (h *Header) relations(nameTag, versionTag, flagsTag uint32) []relation {
	names, versions, flags := h.Strings(nameTag), h.Strings(versionTag), h.Numbers(flagsTag)
	var out []relation
	for i, n := range names {
		r := relation{name: n}
		if i < len(versions) {
			r.version = versions[i]
		}
		if i < len(flags) {
			r.flags = flags[i]
		}
		out = append(out, r)
	}
	return out
}

var relationTags = []struct {
	element              string
	name, version, flags uint32
}{
	{"provides", tagProvideName, tagProvideVersion, tagProvideFlags},
	{"requires", tagRequireName, tagRequireVersion, tagRequireFlags},
	{"conflicts", tagConflictName, tagConflictVer, tagConflictFlags},
	{"obsoletes", tagObsoleteName, tagObsoleteVer, tagObsoleteFlags},
	{"recommends", tagRecommendName, tagRecommendName + 1, tagRecommendName + 2},
	{"suggests", tagSuggestName, tagSuggestName + 1, tagSuggestName + 2},
	{"supplements", tagSupplementName, tagSupplementName + 1, tagSupplementName + 2},
	{"enhances", tagEnhanceName, tagEnhanceName + 1, tagEnhanceName + 2},
}

var flagWords = map[int64]string{
	senseLess:                 "LT",
	senseGreater:              "GT",
	senseEqual:                "EQ",
	senseLess | senseEqual:    "LE",
	senseGreater | senseEqual: "GE",
}

// primaryFile tells which files stand in the primary list: those that others
// most often need by name.
var primaryFile = regexp.MustCompile(`^/etc/|^/usr/lib/sendmail$|^.*bin/`)

const modeDir, modeKind = 0o040000, 0o170000

// files gives the paths that a header installs with their kinds: "" or dir.
func (h *Header) files() (paths, kinds []string) {
	dirs, indexes, modes := h.Strings(tagDirNames), h.Numbers(tagDirIndexes), h.Numbers(tagFileModes)
	for i, base := range h.Strings(tagBaseNames) {
		dir := "/"
		if i < len(indexes) && int(indexes[i]) < len(dirs) {
			dir = dirs[indexes[i]]
		}
		paths = append(paths, dir+base)
		kind := ""
		if i < len(modes) && modes[i]&modeKind == modeDir {
			kind = "dir"
		}
		kinds = append(kinds, kind)
	}
	return paths, kinds
}

// Primary writes the element of the "primary" list.
func (d Description) Primary() string {
	h := d.Header
	var b strings.Builder
	installed := h.Number(tagSize)
	if h.Has(tagLongSize) {
		installed = h.Number(tagLongSize)
	}
	fmt.Fprintf(&b, "<package type=\"rpm\">\n  <name>%s</name>\n  <arch>%s</arch>\n  <version%s/>\n",
		escape(h.Text(tagName)), escape(h.Text(tagArch)), versionAttributes(h.EVR()))
	fmt.Fprintf(&b, "  <checksum type=\"sha256\" pkgid=\"YES\">%s</checksum>\n  <summary>%s</summary>\n  "+
		"<description>%s</description>\n", d.SHA256, escape(h.Text(tagSummary)),
		escape(h.Text(tagDescription)))
	base := ""
	if d.Base != "" {
		base = ` xml:base="` + escape(d.Base) + `"`
	}
	fmt.Fprintf(&b, "  <packager>%s</packager>\n  <url>%s</url>\n  <time file=\"%d\" build=\"%d\"/>\n  "+
		"<size package=\"%d\" installed=\"%d\" archive=\"%d\"/>\n  <location%s href=\"%s\"/>\n",
		escape(h.Text(tagPackager)), escape(h.Text(tagURL)), h.Number(tagBuildTime), h.Number(tagBuildTime),
		d.Size, installed, h.Number(tagArchiveSize), base, escape(d.Path))
	group := h.Text(tagGroup)
	if group == "" {
		group = "Unspecified"
	}
	fmt.Fprintf(&b, "  <format>\n    <rpm:license>%s</rpm:license>\n    <rpm:vendor>%s</rpm:vendor>\n    "+
		"<rpm:group>%s</rpm:group>\n    <rpm:buildhost>%s</rpm:buildhost>\n    "+
		"<rpm:sourcerpm>%s</rpm:sourcerpm>\n    <rpm:header-range start=\"%d\" end=\"%d\"/>\n",
		escape(h.Text(tagLicence)), escape(h.Text(tagVendor)), escape(group), escape(h.Text(tagBuildHost)),
		escape(h.Text(tagSourceRPM)), d.Start, d.Payload)
	for _, t := range relationTags {
		var lines strings.Builder
		seen := map[relation]bool{}
		for _, r := range h.relations(t.name, t.version, t.flags) {
			if seen[r] || r.flags&senseRPMLib != 0 || strings.HasPrefix(r.name, "rpmlib(") || r.name == "" {
				continue
			}
			seen[r] = true
			fmt.Fprintf(&lines, "      <rpm:entry name=\"%s\"", escape(r.name))
			if word := flagWords[r.flags&(senseLess|senseGreater|senseEqual)]; word != "" && r.version != "" {
				fmt.Fprintf(&lines, " flags=\"%s\"%s", word, versionAttributes(r.version))
			}
			if t.element == "requires" && r.flags&sensePre != 0 {
				lines.WriteString(` pre="1"`)
			}
			lines.WriteString("/>\n")
		}
		if lines.Len() > 0 {
			fmt.Fprintf(&b, "    <rpm:%s>\n%s    </rpm:%s>\n", t.element, lines.String(), t.element)
		}
	}
	paths, kinds := h.files()
	for i, p := range paths {
		if primaryFile.MatchString(p) {
			b.WriteString(fileElement(p, kinds[i]))
		}
	}
	b.WriteString("  </format>\n</package>")
	return b.String()
}

// fileElement writes a file of a package; kind is "", dir or ghost.
func fileElement(p, kind string) string {
	if kind != "" {
		return "    <file type=\"" + kind + "\">" + escape(p) + "</file>\n"
	}
	return "    <file>" + escape(p) + "</file>\n"
}

func (d Description) begin() string {
	h := d.Header
	return fmt.Sprintf("<package pkgid=\"%s\" name=\"%s\" arch=\"%s\">\n  <version%s/>\n", d.SHA256,
		escape(h.Text(tagName)), escape(h.Text(tagArch)), versionAttributes(h.EVR()))
}

// FileList writes the element of the "filelists" list.
func (d Description) FileList() string {
	var b strings.Builder
	b.WriteString(d.begin())
	paths, kinds := d.Header.files()
	for i, p := range paths {
		b.WriteString(fileElement(p, kinds[i]))
	}
	b.WriteString("</package>")
	return b.String()
}

// Other writes the element of the "other" list: the last ten changes.
func (d Description) Other() string {
	var b strings.Builder
	b.WriteString(d.begin())
	names, texts, times := d.Header.Strings(tagChangeName), d.Header.Strings(tagChangeText),
		d.Header.Numbers(tagChangeTime)
	for i := min(len(names), len(texts), len(times), 10) - 1; i >= 0; i-- {
		fmt.Fprintf(&b, "  <changelog author=\"%s\" date=\"%d\">%s</changelog>\n", escape(names[i]),
			times[i], escape(texts[i]))
	}
	b.WriteString("</package>")
	return b.String()
}
