package service

import (
	"database/sql"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/journal"
	"stockade/internal/api"
	"stockade/internal/must"
)

// Passwords that come at once are counted before one of them is looked at.
func TestPasswordsThatComeAtOnceAreCounted(t *testing.T) {
	d := newDesk(t)
	var all sync.WaitGroup
	var mu sync.Mutex
	codes := map[int]int{}
	for i := range guessesMost + 6 {
		all.Go(func() {
			w := d.ask("", "POST", "/session", api.SignIn{Account: "a-operator",
				Password: fmt.Sprintf("not this one, no %d", i)})
			mu.Lock()
			defer mu.Unlock()
			codes[w.Code]++
		})
	}
	all.Wait()
	if looked := codes[http.StatusUnauthorized]; looked > guessesMost {
		t.Errorf("%d passwords of %d at once were looked at: %v", looked, guessesMost+6, codes)
	}
	// A right one does not count as a guess.
	g := newGuesses(d.s.now)
	for range 3 * guessesMost {
		if wait := g.begin("somewhere"); wait > 0 {
			t.Fatal("right passwords lead to a wait")
		}
		g.right("somewhere")
	}
}

// The lock of the data folder holds whatever happens to the file of that name.
func TestASecondServiceDoesNotGetTheFolder(t *testing.T) {
	data := t.TempDir()
	s, err := Open(starting(data))
	must.Do(t, err)
	defer s.Close()
	must.Do(t, os.Remove(filepath.Join(data, "lock")))
	second, err := Open(starting(data))
	if err == nil {
		second.Close()
		t.Fatal("two services have one data folder")
	}
	if !strings.Contains(err.Error(), "is in use by another Stockade") {
		t.Error(err)
	}
}

// An export of a list that fails in the middle ends as an answer that was cut, and so does any other.
func TestAnAnswerThatFailsInTheMiddleIsCut(t *testing.T) {
	d := newDesk(t)
	gin.SetMode(gin.ReleaseMode)
	g := gin.New()
	g.Use(d.s.logged)
	for _, as := range []string{"json", "csv"} {
		g.GET("/"+as, func(c *gin.Context) {
			takenAway(c, as, "jobs", func(yield func(api.Job) error) error {
				for n := range 5000 {
					if err := yield(api.Job{ID: int64(n), Kind: "build",
						Object: "mirror barrage"}); err != nil {
						return err
					}
				}
				return io.ErrUnexpectedEOF
			})
		})
	}
	server := httptest.NewServer(g)
	defer server.Close()
	for _, as := range []string{"json", "csv"} {
		res, err := http.Get(server.URL + "/" + as)
		must.Do(t, err)
		data, err := io.ReadAll(res.Body)
		res.Body.Close()
		if err == nil || len(data) == 0 {
			t.Errorf("%s: %d bytes end as if they were all", as, len(data))
		}
	}
}

// A damaged entry of the journal is listed as such, and the list goes on behind it.
func TestADamagedEntryDoesNotEndTheList(t *testing.T) {
	d := newDesk(t)
	for i := range 20 {
		must.Do(t, d.s.record(itself("stockade"), "mirror.refused", "mirror barrage",
			map[string]string{"text": fmt.Sprint(i)}))
	}
	db, err := sql.Open("sqlite", d.s.recordsFile())
	must.Do(t, err)
	defer db.Close()
	_, err = db.Exec("UPDATE journal_entries SET text = 'rubbish' WHERE number = 12")
	must.Do(t, err)
	var page api.Page[journal.Entry]
	seen := map[int64]bool{}
	for cursor, more := "", true; more; cursor = "&cursor=" + page.Next {
		page = api.Page[journal.Entry]{}
		d.must(d.ask(api.Viewer, "GET", "/journal?limit=10"+cursor, nil), 200, &page)
		for _, e := range page.Items {
			seen[e.Number] = true
			if e.Number == 12 && (e.Detail["damaged"] == "" || e.Action != "mirror.refused") {
				t.Errorf("the damaged one: %+v", e)
			}
		}
		more = page.Next != ""
	}
	size, err := d.s.db.Journal().Size()
	if err != nil || int64(len(seen)) != size {
		t.Errorf("got %d entries of %d, %v", len(seen), size, err)
	}
}

// The site signs files for machines that find packages elsewhere when somebody who decides about lanes
// says so, and the journal tells of it.
func TestWhoHasTheSiteSign(t *testing.T) {
	d := newDesk(t)
	own := api.Files{Group: "gatehouse", Edition: "barrage/1", At: d.s.PackagesURL() + "/lane/steady"}
	other := own
	other.At = "http://elsewhere.example/lane/steady"
	for name, c := range map[string]struct {
		role  string
		files api.Files
		want  bool
	}{
		"a viewer, for the site":     {api.Viewer, own, true},
		"a viewer, for elsewhere":    {api.Viewer, other, false},
		"an operator, for elsewhere": {api.Operator, other, true},
		"a viewer, for what begins so": {api.Viewer, api.Files{At: d.s.PackagesURL() + ".evil.example/x"},
			false},
	} {
		known, ok, err := d.s.byToken(d.tokens[c.role])
		if err != nil || !ok {
			t.Fatal(ok, err)
		}
		by := actor{name: known.account.Name, known: known, least: api.Viewer}
		if err := d.s.signsFor(by, c.files); (err == nil) != c.want {
			t.Errorf("%s: %v", name, err)
		}
	}
	rows, err := d.s.db.JournalPage(-1, 10, "group.sign-files", time.Time{})
	if err != nil || len(rows) != 1 || rows[0].By != "a-operator" || rows[0].Detail["at"] != other.At {
		t.Errorf("the journal: %+v %v", rows, err)
	}
}
