package rpm

import (
	"crypto/md5"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"

	"stockade/core/archive"
	"stockade/core/archive/rpm/header"
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
	f, err := header.Open(file)
	if err != nil {
		return out, err
	}
	h := f.Header
	out.Identity = archive.Identity{Name: h.Text(header.TagName), Version: versionOf(h),
		Arch: h.Text(header.TagArch)}
	if out.Name == "" || h.Text(header.TagVersion) == "" || h.Text(header.TagRelease) == "" ||
		out.Arch == "" {
		return out, header.Malformed("its header lacks name, version, release or architecture")
	}
	bound, err := f.CheckDigests(file)
	if err != nil {
		return out, err
	}
	if v == nil {
		return out, nil
	}
	if over := f.HeaderSignatures(); len(over) > 0 {
		if out.Signer, err = v.Detached(h.Blob, over); err != nil {
			return out, insidePackage(err)
		}
		if bound {
			return out, nil
		}
	}
	whole := f.Signature.Bytes(header.SigPGP)
	if whole == nil {
		whole = f.Signature.Bytes(header.SigGPG)
	}
	if whole == nil {
		if !out.Signer.At.IsZero() {
			return out, finding.New(finding.ContentSignatureBad, "",
				"the signature covers only the header of the package, and the header has no "+
					"checksum of the payload").Because("header-alone")
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

// Endorse implements archive.Family: the headers' signatures are replaced by
// the site's; header and payload stay as they are.
func (Family) Endorse(file io.ReadSeeker, sign archive.SigningKey, to io.Writer) (bool, []byte, error) {
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return false, nil, err
	}
	f, err := header.Open(file)
	if err != nil {
		return false, nil, err
	}
	name := f.Header.Text(header.TagName) + "-" + f.Header.Text(header.TagVersion) + "-" +
		f.Header.Text(header.TagRelease)
	if _, err := file.Seek(f.Payload, io.SeekStart); err != nil {
		return false, nil, err
	}
	if !f.Header.Has(header.TagPayloadDigest) && !f.Header.Has(header.TagPayloadSHA512) {
		return false, nil, finding.New(finding.ContentMalformedPackage, "",
			"the header of the package has no checksum of its payload, so a signature over the "+
				"header would not protect it: build the package again with a newer rpmbuild")
	}
	md := md5.New()
	md.Write(f.Header.Blob)
	size, err := io.Copy(md, file)
	if err != nil {
		return false, nil, err
	}
	signature, err := header.Signatures(f.Header.Blob, size, md.Sum(nil), sign,
		f.Header.Number(header.TagFormat) == 6)
	if err != nil {
		return false, nil, err
	}
	if _, err := to.Write(append(header.Lead(name), signature...)); err != nil {
		return false, nil, err
	}
	if _, err := file.Seek(f.Start, io.SeekStart); err != nil {
		return false, nil, err
	}
	_, err = io.Copy(to, file)
	return true, nil, err
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
	f, err := header.Open(file)
	if err != nil {
		return archive.Examined{}, err
	}
	name := f.Header.Text(header.TagName)
	evr := f.Header.Text(header.TagVersion) + "-" + f.Header.Text(header.TagRelease)
	d := Description{
		File:   f,
		Path:   "packages/" + name + "-" + evr + "." + f.Header.Text(header.TagArch) + ".rpm",
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

// versionOf gives the version that a header says, as [EPOCH:]VERSION-RELEASE.
func versionOf(h *header.Header) string {
	epoch := ""
	if h.Has(header.TagEpoch) {
		epoch = itoa(h.Number(header.TagEpoch))
	}
	return joinEVR(epoch, h.Text(header.TagVersion), h.Text(header.TagRelease))
}

// Description writes what the lists of a repository say of a package file.
type Description struct {
	*header.File
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

func relationsOf(h *header.Header, nameTag, versionTag, flagsTag uint32) []relation {
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
	{"provides", header.TagProvideName, header.TagProvideVersion, header.TagProvideFlags},
	{"requires", header.TagRequireName, header.TagRequireVersion, header.TagRequireFlags},
	{"conflicts", header.TagConflictName, header.TagConflictVer, header.TagConflictFlags},
	{"obsoletes", header.TagObsoleteName, header.TagObsoleteVer, header.TagObsoleteFlags},
	{"recommends", header.TagRecommendName, header.TagRecommendName + 1, header.TagRecommendName + 2},
	{"suggests", header.TagSuggestName, header.TagSuggestName + 1, header.TagSuggestName + 2},
	{"supplements", header.TagSupplementName, header.TagSupplementName + 1, header.TagSupplementName + 2},
	{"enhances", header.TagEnhanceName, header.TagEnhanceName + 1, header.TagEnhanceName + 2},
}

var flagWords = map[int64]string{
	header.SenseLess:                        "LT",
	header.SenseGreater:                     "GT",
	header.SenseEqual:                       "EQ",
	header.SenseLess | header.SenseEqual:    "LE",
	header.SenseGreater | header.SenseEqual: "GE",
}

// primaryFile tells which files stand in the primary list: those that others
// most often need by name.
var primaryFile = regexp.MustCompile(`^/etc/|^/usr/lib/sendmail$|^.*bin/`)

const modeDir, modeKind = 0o040000, 0o170000

// files gives the paths that a header installs with their kinds: "" or dir.
func filesOf(h *header.Header) (paths, kinds []string) {
	dirs, indexes, modes := h.Strings(header.TagDirNames), h.Numbers(header.TagDirIndexes),
		h.Numbers(header.TagFileModes)
	for i, base := range h.Strings(header.TagBaseNames) {
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
	installed := h.Number(header.TagSize)
	if h.Has(header.TagLongSize) {
		installed = h.Number(header.TagLongSize)
	}
	fmt.Fprintf(&b, "<package type=\"rpm\">\n  <name>%s</name>\n  <arch>%s</arch>\n  <version%s/>\n",
		escape(h.Text(header.TagName)), escape(h.Text(header.TagArch)), versionAttributes(versionOf(h)))
	fmt.Fprintf(&b, "  <checksum type=\"sha256\" pkgid=\"YES\">%s</checksum>\n  <summary>%s</summary>\n  "+
		"<description>%s</description>\n", d.SHA256, escape(h.Text(header.TagSummary)),
		escape(h.Text(header.TagDescription)))
	base := ""
	if d.Base != "" {
		base = ` xml:base="` + escape(d.Base) + `"`
	}
	fmt.Fprintf(&b, "  <packager>%s</packager>\n  <url>%s</url>\n  <time file=\"%d\" build=\"%d\"/>\n  "+
		"<size package=\"%d\" installed=\"%d\" archive=\"%d\"/>\n  <location%s href=\"%s\"/>\n",
		escape(h.Text(header.TagPackager)), escape(h.Text(header.TagURL)), h.Number(header.TagBuildTime),
		h.Number(header.TagBuildTime),
		d.Size, installed, h.Number(header.TagArchiveSize), base, escape(d.Path))
	group := h.Text(header.TagGroup)
	if group == "" {
		group = "Unspecified"
	}
	fmt.Fprintf(&b, "  <format>\n    <rpm:license>%s</rpm:license>\n    <rpm:vendor>%s</rpm:vendor>\n    "+
		"<rpm:group>%s</rpm:group>\n    <rpm:buildhost>%s</rpm:buildhost>\n    "+
		"<rpm:sourcerpm>%s</rpm:sourcerpm>\n    <rpm:header-range start=\"%d\" end=\"%d\"/>\n",
		escape(h.Text(header.TagLicence)), escape(h.Text(header.TagVendor)), escape(group),
		escape(h.Text(header.TagBuildHost)),
		escape(h.Text(header.TagSourceRPM)), d.Start, d.Payload)
	for _, t := range relationTags {
		var lines strings.Builder
		seen := map[relation]bool{}
		for _, r := range relationsOf(h, t.name, t.version, t.flags) {
			if seen[r] || r.flags&header.SenseRPMLib != 0 || strings.HasPrefix(r.name, "rpmlib(") ||
				r.name == "" {
				continue
			}
			seen[r] = true
			fmt.Fprintf(&lines, "      <rpm:entry name=\"%s\"", escape(r.name))
			if word := flagWords[r.flags&(header.SenseLess|header.SenseGreater|header.SenseEqual)]; word !=
				"" && r.version != "" {
				fmt.Fprintf(&lines, " flags=\"%s\"%s", word, versionAttributes(r.version))
			}
			if t.element == "requires" && r.flags&header.SensePre != 0 {
				lines.WriteString(` pre="1"`)
			}
			lines.WriteString("/>\n")
		}
		if lines.Len() > 0 {
			fmt.Fprintf(&b, "    <rpm:%s>\n%s    </rpm:%s>\n", t.element, lines.String(), t.element)
		}
	}
	paths, kinds := filesOf(h)
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
		escape(h.Text(header.TagName)), escape(h.Text(header.TagArch)), versionAttributes(versionOf(h)))
}

// FileList writes the element of the "filelists" list.
func (d Description) FileList() string {
	var b strings.Builder
	b.WriteString(d.begin())
	paths, kinds := filesOf(d.Header)
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
	names, texts, times := d.Header.Strings(header.TagChangeName), d.Header.Strings(header.TagChangeText),
		d.Header.Numbers(header.TagChangeTime)
	for i := min(len(names), len(texts), len(times), 10) - 1; i >= 0; i-- {
		fmt.Fprintf(&b, "  <changelog author=\"%s\" date=\"%d\">%s</changelog>\n", escape(names[i]),
			times[i], escape(texts[i]))
	}
	b.WriteString("</package>")
	return b.String()
}
