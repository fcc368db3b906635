package machine

import (
	"archive/tar"
	"bytes"
	_ "embed"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"text/template"
	"time"

	"github.com/klauspost/compress/gzip"

	"stockade/core/archive"
	"stockade/core/finding"
)

// Kit is the files that a machine needs as one archive that brings them there by itself: with
// their check sums, a script that applies them, and one that leads back.
type Kit struct {
	Group   string
	Edition string // MIRROR/N
	At      string // where the packages are found
	Made    time.Time
	Family  archive.Family
	Files   []archive.ClientFile
	// Sign makes a detached signature over the check sums; nil: none.
	Sign func(sums []byte) ([]byte, error)
	Site string // fingerprint of the key that signs
	Key  []byte // its certificate, binary, for gpgv(1)
}

// EditionFile is where a machine keeps, below its root, which edition it was set up for by a kit.
const EditionFile = "var/lib/stockade/edition"

//go:embed kit/apply.sh
var applyScript string

//go:embed kit/back.sh
var backScript string

//go:embed kit/README
var kitReadme string

// Name is what the folder in the archive, and so the archive, is called.
func (k Kit) Name() string {
	return "stockade-" + k.Group + "-" + strings.ReplaceAll(k.Edition, "/", "-")
}

// Write writes the archive, a gzip-compressed tar (POSIX.1-2001): the same kit is the same bytes.
// A path that would not stay in its folder is refused.
func (k Kit) Write(w io.Writer) error {
	members, err := k.members()
	if err != nil {
		return err
	}
	z := gzip.NewWriter(w)
	t := tar.NewWriter(z)
	for _, m := range members {
		if err := t.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: k.Name() + "/" + m.Path,
			Mode: int64(m.Mode), Size: int64(len(m.Data)), ModTime: k.Made.UTC().Truncate(time.Second),
			Format: tar.FormatPAX}); err != nil {
			return err
		}
		if _, err := t.Write(m.Data); err != nil {
			return err
		}
	}
	if err := t.Close(); err != nil {
		return err
	}
	return z.Close()
}

// members gives what is in the kit, the files themselves below root/.
func (k Kit) members() ([]archive.ClientFile, error) {
	var out []archive.ClientFile
	for _, f := range k.Files {
		if err := archive.CheckPath(f.Path); err != nil {
			return nil, err
		}
		if strings.ContainsAny(f.Path, " \t\n'\"\\$`*?[]") { // the scripts read lists of paths
			return nil, finding.New(finding.ContentUnsafePath, "group "+k.Group,
				"the file %q cannot be part of a kit", f.Path)
		}
		out = append(out, archive.ClientFile{Path: "root/" + f.Path, Mode: f.Mode, Data: f.Data})
	}
	for _, s := range []struct {
		name, text string
		mode       uint32
	}{{"apply", applyScript, 0o755}, {"back", backScript, 0o755}, {"README", kitReadme, 0o644}} {
		data, err := k.filled(s.name, s.text)
		if err != nil {
			return nil, err
		}
		out = append(out, archive.ClientFile{Path: s.name, Mode: s.mode, Data: data})
	}
	if k.Sign != nil {
		out = append(out, archive.ClientFile{Path: "site-key.gpg", Mode: 0o644, Data: k.Key})
	}
	slices.SortFunc(out, func(a, b archive.ClientFile) int { return strings.Compare(a.Path, b.Path) })
	var sums bytes.Buffer
	for _, m := range out {
		fmt.Fprintf(&sums, "%s  %s\n", digest(m.Data), m.Path)
	}
	out = append(out, archive.ClientFile{Path: "SHA256SUMS", Mode: 0o644, Data: sums.Bytes()})
	if k.Sign != nil {
		signature, err := k.Sign(sums.Bytes())
		if err != nil {
			return nil, err
		}
		out = append(out, archive.ClientFile{Path: "SHA256SUMS.asc", Mode: 0o644, Data: signature})
	}
	return out, nil
}

// filled fills a text of the kit in. What stands in scripts are names and paths that were
// checked, and nothing that a person wrote freely.
func (k Kit) filled(name, text string) ([]byte, error) {
	t, err := template.New(name).Parse(text)
	if err != nil {
		panic("machine: the kit's " + name + ": " + err.Error())
	}
	var paths, modes []string
	setup := ""
	for _, f := range k.Files {
		paths = append(paths, f.Path)
		modes = append(modes, fmt.Sprintf("%04o %s", f.Mode&0o777, f.Path))
		if path.Base(f.Path) == archive.SetupName {
			setup = f.Path
		}
	}
	slices.Sort(modes)
	mirror, number, _ := strings.Cut(k.Edition, "/")
	var b bytes.Buffer
	err = t.Execute(&b, map[string]any{"Group": k.Group, "Edition": k.Edition, "At": k.At, "Site": k.Site,
		"Made": k.Made.UTC().Format("2006-01-02 15:04 MST"), "Touched": k.Family.Touched(), "Modes": modes,
		"Setup": setup, "Mirror": mirror, "Number": number, "Signed": k.Sign != nil, "Of": EditionFile,
		"Written": Written, "Paths": paths, "BeneathRoot": archive.BeneathRoot,
		"Name": k.Name(), "Files": len(paths)})
	return b.Bytes(), err
}
