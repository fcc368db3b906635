package made

import (
	"bytes"
	"cmp"
	"crypto/md5"
	"crypto/sha256"
	"fmt"
	"path"
	"strconv"
	"strings"
	"sync"

	"stockade/core/archive"
	"stockade/core/archive/rpm/header"
)

// RPM is a package of a made-up upstream of the rpm family. Relations are written
// "name >= version".
type RPM struct {
	Name, Version, Arch, Summary  string // version: [EPOCH:]VERSION-RELEASE
	Licence                       string
	Provides, Requires, Conflicts []string
	Obsoletes, Recommends         []string
	Suggests, Supplements         []string
	Enhances                      []string
	Files                         []File
	Packing                       string // gz (if empty), xz, zst
	Change                        string // text of a change
	Time                          int64  // seconds since 1970
	Format                        int    // 4 (if zero) or 6
	Base                          string // URL that the index says the package lies below; usually none
}

// evr gives the three parts of the version; an epoch that is not written is "0".
func (m RPM) evr() (epoch, version, release string) {
	epoch, rest, found := strings.Cut(m.Version, ":")
	if !found {
		epoch, rest = "0", m.Version
	}
	version, release, _ = strings.Cut(rest, "-")
	return epoch, version, release
}

// nvr is name, version and release, as lead and source name it.
func (m RPM) nvr() string {
	_, version, release := m.evr()
	return m.Name + "-" + version + "-" + release
}

// FileName is how the file of the package is called.
func (m RPM) FileName() string { return m.nvr() + "." + m.Arch + ".rpm" }

// rpmRelations are the relations of one kind, as a header has them: three lists side by side.
type rpmRelations struct {
	names, versions []string
	flags           []int64
}

func (r *rpmRelations) add(name, version string, flags int64) {
	r.names, r.versions, r.flags = append(r.names, name), append(r.versions, version), append(r.flags, flags)
}

var rpmSenses = map[string]int64{
	"<":  header.SenseLess,
	">":  header.SenseGreater,
	"=":  header.SenseEqual,
	"<=": header.SenseLess | header.SenseEqual,
	">=": header.SenseGreater | header.SenseEqual,
}

// written adds relations as people write them. What is no "name operator version" is a name,
// or a rich relation.
func (r rpmRelations) written(all []string) rpmRelations {
	for _, s := range all {
		f := strings.Fields(s)
		if len(f) == 3 && !strings.HasPrefix(s, "(") && rpmSenses[f[1]] != 0 {
			r.add(f[0], f[2], rpmSenses[f[1]])
			continue
		}
		r.add(s, "", 0)
	}
	return r
}

// needs gives the requirements, with those on the package manager itself.
func (m RPM) needs() (r rpmRelations) {
	const flags = header.SenseRPMLib | header.SenseLess | header.SenseEqual
	r.add("rpmlib(CompressedFileNames)", "3.0.4-1", flags)
	r.add("rpmlib(FileDigests)", "4.6.0-1", flags)
	r.add("rpmlib(PayloadFilesHavePrefix)", "4.0-1", flags)
	switch m.Packing {
	case "zst":
		r.add("rpmlib(PayloadIsZstd)", "5.4.18-1", flags)
	case "xz":
		r.add("rpmlib(PayloadIsXz)", "5.2-1", flags)
	}
	return r.written(m.Requires)
}

func (m RPM) provides() (r rpmRelations) {
	r.add(m.Name, m.Version, header.SenseEqual)
	return r.written(m.Provides)
}

// rpmFiles are the files of a package as its header has them, and the archive of them.
type rpmFiles struct {
	bases, dirs, digests, empty, users []string
	indexes, sizes, modes, times       []int64
	zeros, inodes, devices, verify     []int64
	total                              int64
	cpio                               bytes.Buffer
}

func (m RPM) files() *rpmFiles {
	t := &rpmFiles{}
	seen := map[string]int64{}
	for i, f := range m.Files {
		dir, base := path.Split(f.Path)
		n, ok := seen[dir]
		if !ok {
			n = int64(len(t.dirs))
			seen[dir] = n
			t.dirs = append(t.dirs, dir)
		}
		t.bases, t.indexes = append(t.bases, base), append(t.indexes, n)
		t.sizes, t.total = append(t.sizes, int64(len(f.Data))), t.total+int64(len(f.Data))
		t.modes, t.times = append(t.modes, 0o100000|f.Mode), append(t.times, m.Time)
		t.digests = append(t.digests, sha256Hex(f.Data))
		t.empty, t.users = append(t.empty, ""), append(t.users, "root")
		t.zeros, t.inodes = append(t.zeros, 0), append(t.inodes, int64(i+1))
		t.devices, t.verify = append(t.devices, 1), append(t.verify, -1)
		cpioFile(&t.cpio, "."+f.Path, int64(i+1), 0o100000|f.Mode, m.Time, f.Data)
	}
	cpioFile(&t.cpio, "TRAILER!!!", 0, 0, 0, nil)
	return t
}

// Build makes a package file of format 4 or 6. sign may be nil: then nobody signed
// it. The result depends on its arguments alone.
func (m RPM) Build(sign archive.SigningKey) ([]byte, error) {
	m.Packing = cmp.Or(m.Packing, "gz")
	files := m.files()
	payload, err := packed(files.cpio.Bytes(), m.Packing)
	if err != nil {
		return nil, err
	}
	head, err := m.header(files, payload)
	if err != nil {
		return nil, err
	}
	md := md5.New()
	md.Write(head)
	md.Write(payload)
	signature, err := header.Signatures(head, int64(len(payload)), md.Sum(nil), sign, m.Format == 6)
	if err != nil {
		return nil, err
	}
	out := append(header.Lead(m.nvr()), signature...)
	return append(append(out, head...), payload...), nil
}

// header writes the header of the package, its tags in order.
func (m RPM) header(files *rpmFiles, payload []byte) ([]byte, error) {
	w := header.NewWriter(header.TagImmutable)
	if err := m.describe(w, files); err != nil {
		return nil, err
	}
	provides, needs := m.provides(), m.needs()
	conflicts, obsoletes := rpmRelations{}.written(m.Conflicts), rpmRelations{}.written(m.Obsoletes)
	w.Texts(header.TagProvideName, provides.names)
	w.Int32s(header.TagRequireFlags, needs.flags...)
	w.Texts(header.TagRequireName, needs.names)
	w.Texts(header.TagRequireVersion, needs.versions)
	w.Int32s(header.TagConflictFlags, conflicts.flags...)
	w.Texts(header.TagConflictName, conflicts.names)
	w.Texts(header.TagConflictVer, conflicts.versions)
	w.Text(header.TagRPMVersion, "4.18.0")
	if m.Change != "" {
		w.Int32s(header.TagChangeTime, m.Time)
		w.Texts(header.TagChangeName, []string{"Release desk <desk@brine.example> - " + m.Version})
		w.Texts(header.TagChangeText, []string{"- " + m.Change})
	}
	w.Texts(header.TagObsoleteName, obsoletes.names)
	w.Int32s(header.TagFileDevices, files.devices...)
	w.Int32s(header.TagFileInodes, files.inodes...)
	w.Texts(header.TagFileLangs, files.empty)
	w.Int32s(header.TagProvideFlags, provides.flags...)
	w.Texts(header.TagProvideVersion, provides.versions)
	w.Int32s(header.TagObsoleteFlags, obsoletes.flags...)
	w.Texts(header.TagObsoleteVer, obsoletes.versions)
	w.Int32s(header.TagDirIndexes, files.indexes...)
	w.Texts(header.TagBaseNames, files.bases)
	w.Texts(header.TagDirNames, files.dirs)
	w.Text(header.TagPayloadFormat, "cpio")
	w.Text(header.TagPayloadPacker, map[string]string{"gz": "gzip", "xz": "xz", "zst": "zstd"}[m.Packing])
	w.Text(header.TagPayloadFlags, "9")
	w.Int32s(header.TagDigestAlgo, 8)
	for _, weak := range []struct {
		tag       uint32 // of the names; versions and flags follow
		relations []string
	}{
		{header.TagRecommendName, m.Recommends},
		{header.TagSuggestName, m.Suggests},
		{header.TagSupplementName, m.Supplements},
		{header.TagEnhanceName, m.Enhances},
	} {
		r := rpmRelations{}.written(weak.relations)
		w.Texts(weak.tag, r.names)
		w.Texts(weak.tag+1, r.versions)
		w.Int32s(weak.tag+2, r.flags...)
	}
	w.Text(header.TagEncoding, "utf-8")
	w.Texts(header.TagPayloadDigest, []string{sha256Hex(payload)})
	w.Int32s(header.TagPayloadAlgo, 8)
	if m.Format == 6 {
		w.Int32s(header.TagFormat, 6)
	}
	return w.Bytes(), nil
}

// describe writes what the package says of itself and of its files, up to its relations.
func (m RPM) describe(w *header.Writer, files *rpmFiles) error {
	epoch, version, release := m.evr()
	w.Texts(header.TagI18NTable, []string{"C"})
	w.Text(header.TagName, m.Name)
	w.Text(header.TagVersion, version)
	w.Text(header.TagRelease, release)
	if epoch != "0" {
		n, err := strconv.ParseInt(epoch, 10, 32)
		if err != nil {
			return err
		}
		w.Int32s(header.TagEpoch, n)
	}
	w.I18n(header.TagSummary, m.Summary)
	w.I18n(header.TagDescription, m.Summary)
	w.Int32s(header.TagBuildTime, m.Time)
	w.Text(header.TagBuildHost, "workshop.example")
	w.Int32s(header.TagSize, files.total)
	w.Text(header.TagLicence, cmp.Or(m.Licence, "MIT"))
	w.I18n(header.TagGroup, "Unspecified")
	w.Text(header.TagOS, "linux")
	w.Text(header.TagArch, m.Arch)
	w.Int32s(header.TagFileSizes, files.sizes...)
	w.Int16s(header.TagFileModes, files.modes...)
	w.Int16s(header.TagFileRDevs, files.zeros...)
	w.Int32s(header.TagFileMTimes, files.times...)
	w.Texts(header.TagFileDigests, files.digests)
	w.Texts(header.TagFileLinkTos, files.empty)
	w.Int32s(header.TagFileFlags, files.zeros...)
	w.Texts(header.TagFileUser, files.users)
	w.Texts(header.TagFileGroup, files.users)
	w.Text(header.TagSourceRPM, m.nvr()+".src.rpm")
	w.Int32s(header.TagFileVerify, files.verify...)
	return nil
}

// payloads has those that were packed, by what is in them: many repositories are
// published with the same packages.
var payloads sync.Map

// packed compresses a payload, once.
func packed(payload []byte, packing string) ([]byte, error) {
	key := sha256.Sum256(append([]byte(packing+" "), payload...))
	if data, ok := payloads.Load(key); ok {
		return data.([]byte), nil
	}
	data, err := archive.Compress(payload, packing)
	if err == nil {
		payloads.Store(key, data)
	}
	return data, err
}

// cpioFile writes one member of a cpio archive in the "newc" form.
func cpioFile(b *bytes.Buffer, name string, inode, mode, mtime int64, data []byte) {
	links := 1
	fmt.Fprintf(b, "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x", inode, mode, 0, 0, links,
		mtime, len(data), 0, 0, 0, 0, len(name)+1, 0)
	b.WriteString(name)
	b.WriteByte(0)
	for b.Len()%4 != 0 {
		b.WriteByte(0)
	}
	b.Write(data)
	for b.Len()%4 != 0 {
		b.WriteByte(0)
	}
}
