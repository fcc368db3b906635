package rpm

import (
	"bytes"
	"crypto/md5"
	"crypto/sha256"
	"fmt"
	"path"
	"strconv"
	"strings"
	"sync"

	"stockade/core/archive"
)

// Made is a package of a made-up upstream; the demonstration and the tests make
// theirs with it. Relations are written "name >= version".
type Made struct {
	Name, Version, Arch, Summary  string // version: [EPOCH:]VERSION-RELEASE
	Licence                       string
	Provides, Requires, Conflicts []string
	Obsoletes, Recommends         []string
	Suggests, Supplements         []string
	Enhances                      []string
	Files                         []MadeFile
	Packing                       string // gz (if empty), xz, zst
	Change                        string // text of a change
	Time                          int64  // seconds since 1970
	Format                        int    // 4 (if zero) or 6
	Base                          string // URL that the index says the package lies below; usually none
}

// MadeFile is a file that a made package installs.
type MadeFile struct {
	Path string
	Mode int64
	Data []byte
}

// FileName is how the file of the package is called.
func (m Made) FileName() string {
	_, version, release := splitEVR(m.Version)
	return m.Name + "-" + version + "-" + release + "." + m.Arch + ".rpm"
}

func splitRelation(s string) relation {
	if f := strings.Fields(s); len(f) == 3 && !strings.HasPrefix(s, "(") {
		for flags, word := range map[int64]string{
			senseLess:                 "<",
			senseGreater:              ">",
			senseEqual:                "=",
			senseLess | senseEqual:    "<=",
			senseGreater | senseEqual: ">=",
		} {
			if f[1] == word {
				return relation{f[0], f[2], flags}
			}
		}
	}
	return relation{name: s}
}

// Build makes a package file of format 4. sign may be nil: then nobody signed
// it. The result depends on its arguments alone.
func (m Made) Build(sign archive.SigningKey) ([]byte, error) {
	epoch, version, release := splitEVR(m.Version)
	packing := m.Packing
	if packing == "" {
		packing = "gz"
	}
	var cpio bytes.Buffer
	var bases, dirs, digests, empty, users []string
	var indexes, sizes, modes, mtimes, zeros, inodes, devices, verify []int64
	seen := map[string]int64{}
	total := int64(0)
	for i, f := range m.Files {
		dir, base := path.Split(f.Path)
		n, ok := seen[dir]
		if !ok {
			n = int64(len(dirs))
			seen[dir] = n
			dirs = append(dirs, dir)
		}
		bases, indexes = append(bases, base), append(indexes, n)
		sizes, modes, mtimes = append(sizes, int64(len(f.Data))), append(modes, 0o100000|f.Mode),
			append(mtimes, m.Time)
		digests, empty, users = append(digests, sumOf(sha256.New(), f.Data)),
			append(empty, ""), append(users, "root")
		zeros, inodes, devices, verify = append(zeros, 0), append(inodes, int64(i+1)),
			append(devices, 1), append(verify, -1)
		total += int64(len(f.Data))
		cpioFile(&cpio, "."+f.Path, int64(i+1), 0o100000|f.Mode, m.Time, f.Data)
	}
	cpioFile(&cpio, "TRAILER!!!", 0, 0, 0, nil)
	payload, err := packed(cpio.Bytes(), packing)
	if err != nil {
		return nil, err
	}
	w := &headerWriter{region: tagImmutable}
	w.texts(tagI18NTable, []string{"C"})
	w.text(tagName, m.Name)
	w.text(tagVersion, version)
	w.text(tagRelease, release)
	if epoch != "0" {
		n, _ := strconv.ParseInt(epoch, 10, 64)
		w.int32s(tagEpoch, n)
	}
	w.i18n(tagSummary, m.Summary)
	w.i18n(tagDescription, m.Summary)
	w.int32s(tagBuildTime, m.Time)
	w.text(tagBuildHost, "workshop.example")
	w.int32s(tagSize, total)
	w.text(tagLicence, first(m.Licence, "MIT"))
	w.i18n(tagGroup, "Unspecified")
	w.text(tagOS, "linux")
	w.text(tagArch, m.Arch)
	w.int32s(tagFileSizes, sizes...)
	w.int16s(tagFileModes, modes...)
	w.int16s(tagFileRDevs, zeros...)
	w.int32s(tagFileMTimes, mtimes...)
	w.texts(tagFileDigests, digests)
	w.texts(tagFileLinkTos, empty)
	w.int32s(tagFileFlags, zeros...)
	w.texts(tagFileUser, users)
	w.texts(tagFileGroup, users)
	w.text(tagSourceRPM, m.Name+"-"+version+"-"+release+".src.rpm")
	w.int32s(tagFileVerify, verify...)
	relations := map[string][]relation{"provides": {{m.Name, m.Version, senseEqual}},
		"requires": {{"rpmlib(CompressedFileNames)", "3.0.4-1", senseRPMLib | senseLess | senseEqual}, {
			"rpmlib(FileDigests)", "4.6.0-1", senseRPMLib | senseLess | senseEqual},
			{"rpmlib(PayloadFilesHavePrefix)", "4.0-1", senseRPMLib | senseLess | senseEqual}}}
	if packing == "zst" {
		relations["requires"] = append(relations["requires"], relation{"rpmlib(PayloadIsZstd)", "5.4.18-1",
			senseRPMLib | senseLess | senseEqual})
	}
	if packing == "xz" {
		relations["requires"] = append(relations["requires"], relation{"rpmlib(PayloadIsXz)", "5.2-1",
			senseRPMLib | senseLess | senseEqual})
	}
	for element, list := range map[string][]string{"provides": m.Provides, "requires": m.Requires,
		"conflicts": m.Conflicts, "obsoletes": m.Obsoletes,
		"recommends": m.Recommends, "suggests": m.Suggests, "supplements": m.Supplements,
		"enhances": m.Enhances} {
		for _, r := range list {
			relations[element] = append(relations[element], splitRelation(r))
		}
	}
	names := func(e string) (n, v []string, f []int64) {
		for _, r := range relations[e] {
			n, v, f = append(n, r.name), append(v, r.version), append(f, r.flags)
		}
		return n, v, f
	}
	pn, pv, pf := names("provides")
	rn, rv, rf := names("requires")
	cn, cv, cf := names("conflicts")
	on, ov, of := names("obsoletes")
	w.texts(tagProvideName, pn)
	w.int32s(tagRequireFlags, rf...)
	w.texts(tagRequireName, rn)
	w.texts(tagRequireVersion, rv)
	w.int32s(tagConflictFlags, cf...)
	w.texts(tagConflictName, cn)
	w.texts(tagConflictVer, cv)
	w.text(tagRPMVersion, "4.18.0")
	if m.Change != "" {
		w.int32s(tagChangeTime, m.Time)
		w.texts(tagChangeName, []string{"Release desk <desk@brine.example> - " + m.Version})
		w.texts(tagChangeText, []string{"- " + m.Change})
	}
	w.texts(tagObsoleteName, on)
	w.int32s(tagFileDevices, devices...)
	w.int32s(tagFileInodes, inodes...)
	w.texts(tagFileLangs, empty)
	w.int32s(tagProvideFlags, pf...)
	w.texts(tagProvideVersion, pv)
	w.int32s(tagObsoleteFlags, of...)
	w.texts(tagObsoleteVer, ov)
	w.int32s(tagDirIndexes, indexes...)
	w.texts(tagBaseNames, bases)
	w.texts(tagDirNames, dirs)
	w.text(tagPayloadFormat, "cpio")
	w.text(tagPayloadPacker, map[string]string{"gz": "gzip", "xz": "xz", "zst": "zstd"}[packing])
	w.text(tagPayloadFlags, "9")
	w.int32s(tagDigestAlgo, 8)
	for _, t := range relationTags[4:] {
		n, v, f := names(t.element)
		w.texts(t.name, n)
		w.texts(t.version, v)
		w.int32s(t.flags, f...)
	}
	w.text(tagEncoding, "utf-8")
	w.texts(tagPayloadDigest, []string{sumOf(sha256.New(), payload)})
	w.int32s(tagPayloadAlgo, 8)
	if m.Format == 6 {
		w.int32s(tagFormat, 6)
	}
	header := w.bytes()
	md := md5.New()
	md.Write(header)
	md.Write(payload)
	signature, err := signatureHeader(header, int64(len(payload)), md.Sum(nil), sign, m.Format == 6)
	if err != nil {
		return nil, err
	}
	out := append(lead(m.Name+"-"+version+"-"+release), signature...)
	return append(append(out, header...), payload...), nil
}

// before has the payloads that were packed, by what is in them: many repositories are
// published with the same packages.
var before sync.Map

// packed compresses a payload, once.
func packed(payload []byte, packing string) ([]byte, error) {
	key := sha256.Sum256(append([]byte(packing+" "), payload...))
	if data, ok := before.Load(key); ok {
		return data.([]byte), nil
	}
	data, err := archive.Compress(payload, packing)
	if err == nil {
		before.Store(key, data)
	}
	return data, err
}

func first(s ...string) string {
	for _, v := range s {
		if v != "" {
			return v
		}
	}
	return ""
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
