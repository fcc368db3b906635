package e2e

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"github.com/chromedp/chromedp"
	"golang.org/x/crypto/argon2"
	"golang.org/x/sys/unix"

	"stockade/core/archive"
	"stockade/core/disk"
	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/journal"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/client"
	"stockade/internal/must"
	"stockade/internal/service"
	"stockade/internal/store"
)

// How large a large site is. Where LARGE is set it is larger than most tests need: see docs/testing.md.
const (
	largePackages = 65_000 // in each edition
	largeMirrors  = 40
	largeLanes    = 80
	largeGroups   = 300
	largeJobs     = 10_000
	largeOnEach   = 1_500 // packages that a machine has
)

var (
	largeSources  = larger(60, 300)
	largeKeys     = larger(1, 300) // source N is signed by key N modulo this
	largeEditions = larger(300, 500)
	largeMachines = larger(2_000, 10_000)
	largeEntries  = larger(1_000, 10_000) // of the journal, beside those of what is recorded
)

func larger(usual, where int) int {
	if os.Getenv("LARGE") != "" {
		return where
	}
	return usual
}

// largeKey makes the key of a source. It is one that is made in no time.
func largeKey(t *testing.T, n int) *trust.Certificate {
	t.Helper()
	e, err := openpgp.NewEntity(fmt.Sprintf("Depot %d archive", n), "", "",
		&packet.Config{Algorithm: packet.PubKeyAlgoEdDSA})
	must.Do(t, err)
	var b bytes.Buffer
	must.Do(t, e.Serialize(&b))
	all, err := trust.ReadCertificates(b.Bytes())
	must.Do(t, err)
	return all[0]
}

// largeSite is a service with records of a large site. Its editions are sealed and whole, and
// share the files of their packages.
func largeSite(t *testing.T) *site {
	t.Helper()
	s := newSite(t)
	if keep := os.Getenv("LARGE_AT"); keep != "" { // to be looked at
		s.configure = func(c *service.Config) { c.Listen = keep }
	}
	dir := filepath.Join(s.dir, "large")
	must.Do(t, os.MkdirAll(dir, 0o755))
	keys := make([]*trust.Certificate, largeKeys)
	for n := range keys {
		keys[n] = largeKey(t, n)
		must.Do(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("depot-%03d.asc", n)),
			[]byte(keys[n].Armoured()), 0o644))
	}
	must.Do(t, os.WriteFile(filepath.Join(dir, "large.yaml"), []byte(largeDescription(keys)), 0o644))
	s.cli(0, "record", dir, "--summary", "the depots")
	s.stop()
	s.fill(keys)
	s.start()
	s.compared()
	return s
}

// compared waits until what every machine reported is compared.
func (s *site) compared() {
	s.t.Helper()
	began := time.Now()
	for {
		m, err := client.Get[api.Machines](context.Background(), s.client, "/machines?limit=1")
		must.Do(s.t, err)
		compared, reported := 0, 0
		for _, g := range m.Groups {
			compared, reported = compared+g.Compared, reported+g.Reported
		}
		if compared == reported && reported > largeMachines*9/10 {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	s.t.Logf("%-20s %6d ms", "machines compared", time.Since(began).Milliseconds())
}

// largeList is what a machine has: packages of the first variant, of both, or of that and of none.
func largeList(n int) []byte {
	var b strings.Builder
	for i := range largeOnEach { // machines of a group have most in common
		of := n % largeGroups
		if i%100 == 99 {
			of = n
		}
		name, version := fmt.Sprintf("part-%05d", (of*977+i*31)%largePackages), "1.0-1"
		switch {
		case n%3 == 1 && i%2 == 0:
			version = "1.1-1"
		case n%3 == 2 && i < 7:
			name = "own-" + name
		}
		fmt.Fprintf(&b, "ii  %s %s amd64\n", name, version)
	}
	var packed bytes.Buffer
	z, _ := gzip.NewWriterLevel(&packed, gzip.BestSpeed)
	z.Write([]byte(b.String()))
	z.Close()
	return packed.Bytes()
}

// largeFleet records machines that reported; some never did.
func largeFleet(tx *store.DB, now time.Time, from, to int) error {
	for n := from; n < to; n++ {
		m := store.Machine{Name: fmt.Sprintf("pump-%04d", n), Group: fmt.Sprintf("hall-%03d", n%largeGroups),
			Enrolled: now, By: "mara", Heard: now.Unix()}
		if err := tx.AddMachine(m); err != nil {
			return err
		}
		if n%100 == 99 {
			continue
		}
		m.Reported, m.Given, m.GivenBy, m.Packages = &now, &now, "mara", largeOnEach
		if err := tx.GiveInventory(m, largeList(n)); err != nil {
			return err
		}
	}
	return nil
}

func largeDescription(keys []*trust.Certificate) string {
	var b strings.Builder
	b.WriteString("stockade: 1\nkeys:\n")
	for n, key := range keys {
		fmt.Fprintf(&b, "  depot-archive-%03d: {file: depot-%03d.asc, fingerprint: %s}\n", n, n,
			key.Fingerprint)
	}
	b.WriteString("sources:\n")
	for i := range largeSources {
		fmt.Fprintf(&b, "  depot-%02d: {family: deb, standing: community, upstreams: [{url: "+
			"\"https://depot-%02d.skerry-reach.example/depot\"}], release: heron, components: [core], "+
			"architectures: [amd64], signed_by: [depot-archive-%03d], priority: 50}\n", i, i, i%len(keys))
	}
	b.WriteString("mirrors:\n")
	for i := range largeMirrors {
		fmt.Fprintf(&b, "  store-%02d: {copy: tailored, from: [depot-%02d], want: everything}\n", i, i)
	}
	b.WriteString("lanes:\n")
	for i := range largeLanes {
		fmt.Fprintf(&b, "  lane-%02d: {mirror: store-%02d}\n", i, i/2)
	}
	b.WriteString("groups:\n")
	for i := range largeGroups {
		fmt.Fprintf(&b, "  hall-%03d: {family: deb, release: heron, architectures: [amd64], "+
			"lane: lane-%02d}\n", i, i%largeLanes)
	}
	return b.String()
}

// fill writes editions, jobs and entries into the data folder of a service that does not run.
func (s *site) fill(signers []*trust.Certificate) {
	t := s.t
	t.Helper()
	data := filepath.Join(s.dir, "data")
	phrase, err := os.ReadFile(filepath.Join(data, "site", "unlock"))
	must.Do(t, err)
	phrase = bytes.TrimSpace(phrase)
	locked, err := os.ReadFile(filepath.Join(data, "site", "key.pgp"))
	must.Do(t, err)
	site, err := trust.Unlock(locked, phrase, time.Now)
	must.Do(t, err)
	fingerprint := site.Certificate().Fingerprint
	keys, err := journal.NewKeys(argon2.IDKey(phrase, []byte("stockade journal "+fingerprint), 1, 64<<10,
		2, 32))
	must.Do(t, err)
	blobs, err := pool.Open(filepath.Join(data, "pool"), filepath.Join(data, "tmp"))
	must.Do(t, err)
	db, err := store.Open(filepath.Join(data, "stockade.db"))
	must.Do(t, err)
	defer db.Close()

	began := time.Now()
	phase := func(what string) {
		t.Logf("%-20s %6d ms", what, time.Since(began).Milliseconds())
		began = time.Now()
	}
	variants := []variant{largeVariant(t, blobs, 0), largeVariant(t, blobs, 1)}
	phase("lists")
	now := time.Now().UTC().Truncate(time.Second)
	put := func(data []byte) (string, error) { // the lists are there already
		for _, v := range variants {
			if len(data) == len(v.list) && bytes.Equal(data, v.list) {
				return v.digest, nil
			}
		}
		return blobs.Add(data)
	}
	for n := range largeEditions {
		v := variants[n/largeMirrors%2]
		e := &edition.Edition{Format: edition.ListBySource, Mirror: fmt.Sprintf("store-%02d",
			n%largeMirrors),
			Number: n/largeMirrors + 1, Created: now.Add(-time.Duration(largeEditions-n) * time.Hour),
			Copy: "tailored", SiteKey: fingerprint, Packages: largePackages, Findings: finding.List{},
			Sources: []edition.Source{{Source: archive.Source{Name: "depot", Family: "deb", Release: "heron",
				Components: []string{"core"}, Architectures: []string{"amd64"}}, Standing: "community",
				Priority: 50, Tailored: true, Codename: "heron", Keys: []string{fingerprint},
				RootDate: now, Packages: largePackages,
				Signer: archive.Signer{Fingerprint: signers[n%largeMirrors%len(signers)].Fingerprint}}}}
		files := edition.NewCollection()
		record, err := edition.About(e, []*trust.Certificate{site.Certificate()}, v.list, nil, nil, files,
			put)
		must.Do(t, err)
		m, err := files.Manifest(blobs.Add)
		must.Do(t, err)
		m.Parts, m.Lines = v.parts, append(m.Lines, v.lists...)
		slices.SortFunc(m.Lines, func(a, b edition.Line) int { return strings.Compare(a.Path, b.Path) })
		must.Do(t, edition.Seal(disk.OS, filepath.Join(data, "editions"), e, m, record, site))
		must.Do(t, db.SaveEdition(store.Edition{Mirror: e.Mirror, Number: e.Number, Created: e.Created,
			Files: m.Files(), Bytes: m.Bytes(), Packages: largePackages, Copy: e.Copy}))
	}
	must.Do(t, blobs.Flush())
	phase("editions")
	defer phase("entries and jobs")
	for from := 0; from < largeMachines; from += 200 {
		must.Do(t, db.Tx(func(tx *store.DB) error { return largeFleet(tx, now, from, from+200) }))
	}
	phase("machines")
	for from := 0; from < largeEntries; from += 200 {
		must.Do(t, db.Tx(func(tx *store.DB) error {
			for n := from; n < from+200; n++ {
				if err := journal.Write(tx.Journal(), keys, journal.Entry{At: now, By: "mara",
					Action: "edition.verify", Object: fmt.Sprintf("edition store-%02d/%d", n%largeMirrors,
						n%7+1)}); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	must.Do(t, db.Tx(func(tx *store.DB) error {
		for i := range largeLanes { // each was moved twice
			for step := range 2 {
				m := store.Move{Lane: fmt.Sprintf("lane-%02d", i), Mirror: fmt.Sprintf("store-%02d", i/2),
					Edition: 6 + step - i%2, At: now, By: "mara"}
				if err := tx.AddMove(m); err != nil {
					return err
				}
				if err := journal.Write(tx.Journal(), keys, journal.Entry{At: now, By: m.By,
					Action: "lane.move",
					Object: "lane " + m.Lane, Detail: map[string]string{"to": fmt.Sprintf("%s/%d", m.Mirror,
						m.Edition)}}); err != nil {
					return err
				}
			}
		}
		for n := range largeJobs {
			ended := now.Add(-time.Duration(largeJobs-n) * time.Minute)
			j := store.Job{Kind: "verify", Object: fmt.Sprintf("edition store-%02d/%d", n%largeMirrors,
				n%7+1),
				State: api.Done, By: "mara", Started: ended.Add(-time.Minute), Ended: &ended, Progress: "{}",
				Findings: "[]"}
			if err := tx.AddJob(&j); err != nil {
				return err
			}
		}
		return nil
	}))
}

// variant is what the packages of an edition can be.
type variant struct {
	list   []byte
	digest string // of the list
	parts  []edition.Part
	lists  edition.Lines // of the manifest, one for each part
}

func largeVariant(t *testing.T, blobs *pool.Dir, n int) variant {
	t.Helper()
	content := fmt.Appendf(nil, "what all packages of variant %d are\n", n)
	sum := sha256.Sum256(content)
	digest := hex.EncodeToString(sum[:])
	if _, err := blobs.Add(content); err != nil {
		t.Fatal(err)
	}
	var list bytes.Buffer
	out := json.NewEncoder(&list)
	files := edition.NewCollection()
	for i := range largePackages {
		version := fmt.Sprintf("1.%d-1", n)
		name := fmt.Sprintf("part-%05d", i)
		path := fmt.Sprintf("depot/pool/%s_%s_amd64.deb", name, version)
		must.Do(t, files.Add(edition.Line{Path: path, Size: int64(len(content)), SHA256: digest}))
		must.Do(t, out.Encode(edition.Item{Source: "depot", Name: name, Version: version, Arch: "amd64",
			Size: int64(len(content)), SHA256: digest, Path: path, Summary: "a part of the large depot"}))
	}
	m, err := files.Manifest(blobs.Add)
	must.Do(t, err)
	listed, err := blobs.Add(list.Bytes())
	must.Do(t, err)
	return variant{list.Bytes(), listed, m.Parts, m.Lines}
}

// Each page of a large site draws what is seen of it: so many rows, and nodes in proportion to
// the window and not to the site. What calls and pages took is told, not asserted.
func TestALargeSiteIsDrawnInParts(t *testing.T) {
	s := largeSite(t)
	b := signedIn(t, s, "/")
	for _, p := range []struct {
		path, see string
		rows      int // of the last table on the page
		nodes     int // at most
	}{
		{"/", fmt.Sprintf("%d alike", largeSources), 15, 1500},
		{"/sources", "depot-00", larger(largeSources, 0), 3000},
		{"/keys", fmt.Sprintf("40 of %d sources", largeSources), 0, larger(2500, 3000)},
		{"/mirrors", "store-39", 40, 2500},
		{"/mirrors/store-03", "store-03/8", larger(8, 13), 1500},
		{"/lanes", "lane-79", 0, 4000},
		{"/machines", "hall-000", 0, 6000},
		{"/machines?tab=1", "200 of " + thousands(largeMachines) + " are shown", 0, 6000},
		{"/machines?tab=1&state=stranded&in=hall-002", "pump-0002", 0, 3500},
		{"/machines/pump-0002", "1,500 packages installed", 0, 3500},
		{"/editions/store-03/8", "part-00000", 0, 2500},
		{"/editions/store-03/8?tab=1", "200 of 65,000 are shown", 0, 3500},
		{"/jobs", "Shows the newest 100", 100, 5000},
		{"/storage", "unused", 0, 3500},
		{"/journal", "Shows the newest 200", 0, 2500},
	} {
		start := time.Now()
		b.open(p.path)
		b.see(p.see)
		took := time.Since(start)
		var nodes, rows int
		b.run("count", chromedp.Evaluate(`document.querySelectorAll("*").length`, &nodes),
			chromedp.Evaluate(`[...document.querySelectorAll("main table")].at(-1)
				.querySelectorAll("tbody tr:not([aria-hidden])").length`, &rows))
		t.Logf("%-30s %5d nodes %4d rows, shown after %d ms", p.path, nodes, rows, took.Milliseconds())
		if nodes > p.nodes || p.rows != 0 && rows != p.rows || p.rows == 0 && rows > 100 {
			t.Errorf("%s has %d nodes and %d rows", p.path, nodes, rows)
		}
	}
	b.open("/sources/depot-00?tab=1") // what is told of the other 59 is not told here
	b.press("Findings 1")
	b.see("no one has vouched for")
	if largeEditions == 300 {
		b.open("/lanes")
		b.click("Move to newest")
		b.see("65,000 newer")
		b.press("Show")
		b.see("part-00000")
		b.see("Shows the 200 most important changes")
	}
	code, body, _ := get(t, s.service.APIURL()+api.Base+
		"/editions/store-03/8/diff?kind=newer&q=part-649&as=csv", "Authorization", "Bearer "+s.token)
	if lines := strings.Count(body, "\r\n"); code != 200 || lines != 101 {
		t.Errorf("taken away: %d, %d lines", code, lines)
	}
	s.answers()
}

func milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// processorTime is what this process, the service in it, has used.
func processorTime() time.Duration {
	var used unix.Rusage
	_ = unix.Getrusage(unix.RUSAGE_SELF, &used)
	return time.Duration(used.Utime.Nano() + used.Stime.Nano())
}

func thousands(n int) string { return fmt.Sprintf("%d,%03d", n/1000, n%1000) }

// answers tells what the calls that pages make take, on a large site.
func (s *site) answers() {
	t := s.t
	for i, path := range []string{"/whoami", "/overview", "/sources", "/keys", "/mirrors",
		"/mirrors/store-03", "/editions", "/editions/store-03/8", "/editions/store-03/8/packages",
		"/editions/store-03/8/packages?q=part-64999", "/editions/store-03/8/diff", "/lanes", "/groups",
		"/groups/hall-007/files", "/machines", "/machines?state=stranded&limit=200", "/machines/pump-0002",
		"/machines?as=csv", "/search?q=pump-01", "/jobs", "/journal", "/revisions",
		"/lanes/lane-06/difference?to=store-03/5", "/accounts", "/credentials", "/pool"} {
		if os.Getenv("LARGE") != "" { // the first answer is one after a change
			s.cli(0, append([]string{"source"}, [][]string{{"disable", "depot-50", "--yes"},
				{"enable", "depot-50"}}[i%2]...)...)
		}
		first, least, spent, size := time.Duration(0), time.Hour, time.Hour, 0
		for n := range 5 {
			start, before := time.Now(), processorTime()
			code, body, _ := get(t, s.service.APIURL()+api.Base+path, "Authorization", "Bearer "+s.token)
			if code != 200 {
				t.Errorf("%s: %d %s", path, code, body)
			}
			took := time.Since(start)
			if n == 0 {
				first = took
			}
			least, spent, size = min(least, took), min(spent, processorTime()-before), len(body)
		}
		t.Logf("%-50s %8d bytes, first %6.1f ms, then %6.1f ms, %6.1f ms of processor time", path, size,
			milliseconds(first), milliseconds(least), milliseconds(spent))
	}
	s.stop()
	start := time.Now()
	s.start()
	opened := time.Since(start)
	code, _, _ := get(t, s.service.PackagesURL()+"/lane/lane-06/depot/pool/part-00001_1.1-1_amd64.deb")
	t.Logf("started after %.0f ms, first file (%d) after %.0f ms", milliseconds(opened), code,
		milliseconds(time.Since(start)))
	if at := os.Getenv("LARGE_AT"); at != "" {
		t.Logf("it stays at %s, token %s", at, s.token)
		must.Do(s.t, os.WriteFile("/tmp/large.env",
			[]byte("export STOCKADE_SERVER=http://"+at+" STOCKADE_TOKEN="+s.token+"\n"), 0o600))
		time.Sleep(2 * time.Hour)
	}
}
