package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/journal"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/store"
)

// ledger is what the entries of the journal made of keys and lanes. It is what
// is in force: a record that no entry explains was put there by somebody else,
// and does not count.
type ledger struct {
	mu        sync.Mutex
	signed    string // the head that it was read up to
	head      journal.Head
	decisions *trust.Decisions
	retired   map[string]bool // certificates that were put away
	history   map[string][]api.KeyStep
	steps     map[string][]store.Move // of lanes, oldest first
	broken    *journal.Broken
	tried     time.Time    // when it was last read
	entries   atomic.Int64 // how many were read; a write asks for it while it holds the records

	described string // digest over all that is described; empty: no entry says it
	accounts  map[string]entered
	secrets   map[string]string // of credentials: the digest of what was given
	site      siteRenewal
	unsigned  map[string]acknowledged // sources that nobody signs
	aside     map[asideKey]api.Aside  // findings that were set aside
	stated    map[string]time.Time    // by paired site: of the newest statement that was taken

	now *inForce // what counts, made when somebody asks for it after an entry; nil: not made yet
}

// acknowledged is who acknowledged something, and when.
type acknowledged struct {
	by string
	at time.Time
}

// entered is what entries say of an account. It is replaced, never changed: copies are read
// beside.
type entered struct {
	role     string            // empty: it was taken out
	sealed   bool              // entries carry the digests of its tokens, which the first did not
	tokens   map[string]string // by digest: when one ends
	password string            // digest of its record; empty: none
}

// decidedBy reads what an entry about a key decided; false where it decided nothing.
func decidedBy(e journal.Entry, key string) (trust.Decision, bool) {
	d := trust.Decision{Fingerprint: key, Source: e.Detail["source"], Why: e.Detail["reason"], By: e.By,
		At: e.At, ByHand: e.Detail["by_hand"] != ""}
	switch e.Action {
	case "key.vouch":
		d.Act, d.Why = trust.Vouch, e.Detail["evidence"]
	case "key.propose":
		d.Act, d.Why = trust.Propose, e.Detail["evidence"]
	case "key.confirm":
		d.Act, d.Why = trust.Confirm, e.Detail["evidence"]
	// the second is what entries said until November 2026
	case "key.withdraw", "key.unvouch":
		d.Act = trust.Withdraw
	case "key.bar":
		d.Act = trust.Bar
	default:
		return d, false
	}
	return d, true
}

// decide records a decision, with the entry that makes it.
func (ch *change) decide(tx *store.DB, d trust.Decision) error {
	d.By, d.At = ch.by, ch.now().UTC()
	if err := tx.AddDecision(d); err != nil {
		return err
	}
	word := "reason"
	if d.Act == trust.Vouch || d.Act == trust.Propose || d.Act == trust.Confirm {
		word = "evidence"
	}
	detail := map[string]string{word: d.Why}
	if d.Act != trust.Bar {
		detail["source"] = d.Source
	}
	if d.ByHand {
		detail["by_hand"] = "yes"
	}
	return ch.write(tx, "key."+string(d.Act), "key "+d.Fingerprint, detail)
}

// apply takes one entry.
func (l *ledger) apply(e journal.Entry) {
	key, isKey := strings.CutPrefix(e.Object, "key ")
	lane, isLane := strings.CutPrefix(e.Object, "lane ")
	account, isAccount := strings.CutPrefix(e.Object, "account ")
	credential, isCredential := strings.CutPrefix(e.Object, "credential ")
	if isKey {
		l.history[key] = append(l.history[key], api.KeyStep{At: e.At, By: e.By, Action: e.Action,
			Source: e.Detail["source"],
			Text: cmp.Or(e.Detail["evidence"], e.Detail["reason"],
				e.Detail["changed"], e.Detail["user_ids"])})
	}
	if d, ok := decidedBy(e, key); isKey && ok {
		l.decisions.Add(d)
	}
	switch {
	case isLane && (e.Action == "lane.move" || e.Action == "lane.back"):
		if to, err := edition.ParseID(e.Detail["to"], ""); err == nil {
			l.steps[lane] = append(l.steps[lane], store.Move{Lane: lane, Mirror: to.Mirror,
				Edition: to.Number, At: e.At, By: e.By,
				Reason: e.Detail["reason"], Back: e.Action == "lane.back"})
		}
	case isKey && e.Action == "key.retire":
		l.retired[key] = true
	case isKey && e.Action == "key.add":
		delete(l.retired, key)
	// the second is what entries said until November 2026
	case e.Action == "definition.record", e.Action == "definition.apply":
		l.described = e.Detail["described"]
	case isAccount && e.Action == "account.add":
		token := e.Detail["token"]
		l.accounts[account] = entered{role: e.Detail["role"], sealed: token != "",
			tokens: map[string]string{token: cmp.Or(e.Detail["ends"], "never")}}
	case isAccount && e.Action == "account.remove":
		l.accounts[account] = entered{sealed: true}
	case isAccount:
		known, recorded := l.accounts[account]
		if !recorded && account == "warden" { // from before the first warden's entry was written
			known.role = api.Warden
		}
		l.accounts[account] = known.after(e)
	case isCredential && e.Action == "credential.add":
		l.secrets[credential] = e.Detail["given"]
	case isCredential && e.Action == "credential.remove":
		delete(l.secrets, credential)
	case e.Action == "finding.set-aside":
		l.aside = maps.Clone(l.aside)
		if l.aside == nil {
			l.aside = map[asideKey]api.Aside{}
		}
		until, _ := time.Parse(time.RFC3339, e.Detail["until"])
		l.aside[asideOf(e)] = api.Aside{Until: until, Reason: e.Detail["reason"], By: e.By, At: e.At}
	case e.Action == "finding.take-up":
		l.aside = maps.Clone(l.aside)
		of := asideOf(e)
		maps.DeleteFunc(l.aside, func(k asideKey, _ api.Aside) bool {
			// until December 2026 an entry did not say which of those on the object
			if e.Detail["text"] == "" {
				of.about = k.about
			}
			return k == of
		})
	case e.Action == "source.acknowledge-unsigned":
		l.unsigned[strings.TrimPrefix(e.Object, "source ")] = acknowledged{e.By, e.At}
	case e.Action == "site.take-statement":
		l.stated[strings.TrimPrefix(e.Object, "site ")], _ = time.Parse(time.RFC3339, e.Detail["of"])
	case e.Action == "site.renew-key":
		until, _ := time.Parse(time.RFC3339, e.Detail["until"])
		l.site.next, l.site.since, l.site.until, l.site.by = e.Detail["new"], e.At, until, e.By
		l.site.why = e.Detail["reason"]
	case e.Action == "site.retire-key":
		l.site = siteRenewal{main: e.Detail["new"], retired: e.Detail["old"]}
	}
}

// inForce is what counts, after some entry. It is shared by all who ask until the next one is written, and
// is never changed.
type inForce struct {
	decisions *trust.Decisions
	steps     map[string][]store.Move
	broken    *journal.Broken

	retired   map[string]bool
	history   map[string][]api.KeyStep
	described string
	accounts  map[string]entered
	secrets   map[string]string
	site      siteRenewal
	unsigned  map[string]acknowledged
	aside     map[asideKey]api.Aside
	stated    map[string]time.Time
}

// hasAccount tells whether an account is one that an entry made, with that role.
// Data from before the first warden's entry was written has none for that one.
func (n *inForce) hasAccount(name, role string) bool {
	known, recorded := n.accounts[name]
	return recorded && known.role == role || !recorded && name == "warden" && role == api.Warden
}

// after is what an entry made of an account that there is.
func (a entered) after(e journal.Entry) entered {
	switch e.Action {
	case "account.role":
		a.role = e.Detail["role"]
		// until December 2026 the tokens of before stayed
		if token := e.Detail["token"]; token != "" {
			a.sealed, a.password, a.tokens = true, "", map[string]string{token: e.Detail["ends"]}
		}
	case "account.add-token":
		a.tokens = maps.Clone(a.tokens)
		if a.tokens == nil {
			a.tokens = map[string]string{}
		}
		a.tokens[e.Detail["token"]] = e.Detail["ends"]
	case "account.remove-token":
		a.tokens = maps.Clone(a.tokens)
		delete(a.tokens, e.Detail["token"])
	case "account.set-password", "account.remove-password":
		a.password = e.Detail["password"]
	}
	return a
}

// hasToken tells whether a token, by its digest, is one that an entry about its account
// says, with that end. Data from before entries carried digests leaves it to the record.
func (n *inForce) hasToken(account, digest string, ends *time.Time) bool {
	known := n.accounts[account]
	end, ok := known.tokens[digest]
	return ok && end == endText(ends) || !ok && !known.sealed
}

// hasPassword tells whether the record of a password, by its digest, is the one that an
// entry about its account says.
func (n *inForce) hasPassword(account, digest string) bool {
	return digest != "" && n.accounts[account].password == digest
}

// moves gives the steps of a lane, newest first, as entries tell them.
func (n *inForce) moves(lane string) []store.Move {
	out := slices.Clone(n.steps[lane])
	slices.Reverse(out)
	return out
}

// latest names the edition that steps, newest first, lead to.
func latest(moves []store.Move) string {
	if len(moves) == 0 {
		return "nothing"
	}
	return fmt.Sprintf("%s/%d", moves[0].Mirror, moves[0].Edition)
}

// moves gives the steps of a lane, newest first: those that an entry explains.
func (s *Service) moves(lane string) ([]store.Move, error) {
	l := &s.ledger
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := l.update(s.db, s.keys); err != nil {
		return nil, err
	}
	moves := slices.Clone(l.steps[lane])
	slices.Reverse(moves)
	if len(moves) == 0 && l.broken != nil {
		return nil, l.broken
	}
	return moves, nil
}

// read brings the ledger up to the newest entry and gives what counts. A journal
// that does not hold vouches for nothing: only bars go on counting.
func (l *ledger) read(db *store.DB, keys journal.Keys) (*inForce, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := l.update(db, keys); err != nil {
		return nil, err
	}
	if l.now != nil && l.now.broken == l.broken {
		return l.now, nil
	}
	out := &inForce{decisions: l.decisions.Clone(), steps: maps.Clone(l.steps), broken: l.broken,
		described: l.described, accounts: maps.Clone(l.accounts), secrets: maps.Clone(l.secrets),
		retired: maps.Clone(l.retired), site: l.site, unsigned: maps.Clone(l.unsigned),
		stated: maps.Clone(l.stated), aside: l.aside,
		history: maps.Clone(l.history)}
	if l.broken != nil {
		out.decisions = l.decisions.OnlyBars()
	}
	l.now = out
	return out, nil
}

// update brings the ledger up to the newest entry; the lock is held.
func (l *ledger) update(db *store.DB, keys journal.Keys) error {
	if l.decisions == nil {
		l.decisions, l.accounts = &trust.Decisions{}, map[string]entered{}
		l.retired, l.history = map[string]bool{}, map[string][]api.KeyStep{}
		l.steps, l.secrets = map[string][]store.Move{}, map[string]string{}
		l.unsigned, l.stated = map[string]acknowledged{}, map[string]time.Time{}
	}
	signed, err := db.Journal().Checkpoint()
	if err != nil {
		return err
	}
	// One that does not hold is not read anew for each of a thousand machines.
	again := l.broken == nil || time.Since(l.tried) > time.Second
	if again && (signed != l.signed || signed == "" || l.broken != nil) {
		l.broken, l.tried = nil, time.Now()
		var fresh []journal.Entry
		head, err := journal.Continue(db.Journal(), keys, l.head, func(e journal.Entry) {
			fresh = append(fresh, e)
		})
		switch {
		case errors.As(err, &l.broken):
		case err != nil:
			return err
		default:
			for _, e := range fresh {
				l.apply(e)
				l.now = nil
			}
			l.signed, l.head = signed, head
			l.entries.Store(head.Size)
		}
	}
	return nil
}

// contradictions tells what of the records no entry of the journal explains, and
// which heads that were kept elsewhere the journal contradicts.
func (s *Service) contradictions() (finding.List, error) {
	now, err := s.ledger.read(s.db, s.keys)
	if err != nil {
		return nil, err
	}
	var out finding.List
	add := func(format string, args ...any) {
		out = append(out, finding.New(finding.JournalBroken, "journal", format, args...))
	}
	if now.broken != nil {
		add("%s", now.broken.Text)
	}
	recorded, err := s.db.Decisions()
	if err != nil {
		return nil, err
	}
	for _, v := range recorded.Vouches() {
		if _, ok := now.decisions.Vouched(v.Fingerprint, v.Source); !ok && now.broken == nil {
			add("a record says that %s was vouched for, for %s, but the journal has no such "+
				"entry. The vouch does not count",
				v.Fingerprint, v.Source)
		}
	}
	for _, v := range now.decisions.Vouches() {
		if _, ok := recorded.Vouched(v.Fingerprint, v.Source); !ok {
			add("the record of the vouch for %s, for %s, is missing. The vouch counts, because "+
				"the journal has its entry",
				v.Fingerprint, v.Source)
		}
	}
	for _, b := range now.decisions.Bars() {
		if _, ok := recorded.Barred(b.Fingerprint); !ok {
			add("the record of the bar of %s is missing. The bar counts, because the journal "+
				"has its entry", b.Fingerprint)
		}
	}
	if broken, err := s.describedElsewhere(now); err != nil {
		return nil, err
	} else if broken != nil {
		add("%s", broken.Text)
	}
	accounts, err := s.db.Accounts()
	if err != nil {
		return nil, err
	}
	for _, a := range accounts {
		if now.broken == nil && !now.hasAccount(a.Name, a.Role) {
			add("a record has the account %s with the role %s, but the journal has no such "+
				"entry. The account does not count", a.Name, a.Role)
		}
		if now.broken == nil && a.Password != "" && !now.hasPassword(a.Name, passwordDigest(a.Password)) {
			add("a record has a password for the account %s, but the journal has no such "+
				"entry. The password does not count", a.Name)
		}
	}
	tokens, err := s.db.Tokens()
	if err != nil {
		return nil, err
	}
	for _, t := range tokens {
		if now.broken == nil && !now.hasToken(t.Account, t.Hash, t.Ends) {
			add("a record has a token for the account %s (%s, created %s), but the journal has "+
				"no such entry. The token does not count",
				t.Account, t.Label, t.Created.Format(time.DateOnly))
		}
	}
	secrets, err := s.db.Credentials()
	if err != nil {
		return nil, err
	}
	for _, c := range secrets {
		if now.broken == nil && now.secrets[c.Name] != c.Digest() {
			add("a record has a secret for the credential %s (for %s, by %s), but the journal "+
				"has no such entry. The secret does not count",
				c.Name, strings.Join(c.For(), ", "), c.By)
		}
	}
	set, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	for lane := range set.Lanes {
		moves, err := s.db.Moves(lane)
		if err != nil {
			return nil, err
		}
		says, shown := latest(moves), latest(now.moves(lane))
		if says != shown && now.broken == nil {
			add("a record says that the lane %s shows %s, but the journal says %s. The record "+
				"does not count",
				lane, says, shown)
		}
	}
	out = append(out, s.rolledBack()...)
	out = append(out, s.contradictsWitness()...)
	return out, nil
}

// describedElsewhere tells that what is described is not what the last change
// that was journalled made of it.
func (s *Service) describedElsewhere(now *inForce) (*journal.Broken, error) {
	digest, err := s.db.DescribedDigest()
	if err != nil || now.broken != nil || now.described == "" || digest == now.described {
		return nil, err
	}
	return &journal.Broken{First: -1,
		Text: "the definitions differ from what their last change recorded, so someone wrote " +
			"to the database. Restore a revision to correct that"}, nil
}

// explained refuses a change over a description that no entry explains: it would
// be signed for as if it were right. Restoring a revision is the way back.
func (s *Service) explained() error {
	now, err := s.ledger.read(s.db, s.keys)
	if err != nil {
		return err
	}
	broken, err := s.describedElsewhere(now)
	if err != nil {
		return err
	}
	if broken != nil {
		return broken
	}
	return nil
}

// told keeps what contradictions found for a while: pages ask every few seconds.
type told struct {
	comparing sync.Mutex // one comparison at a time
	mu        sync.Mutex
	at        time.Time
	found     finding.List
}

// toldFor is how long it is kept.
const toldFor = time.Minute

// contradicted is contradictions as of the last minute, or of the last time when
// nobody wrote. Only who asks first after the start waits for it.
func (s *Service) contradicted() (finding.List, error) {
	at, found := s.contradiction.last()
	if !at.IsZero() {
		return found, nil
	}
	if _, err := s.compareRecords(); err != nil {
		return nil, err
	}
	_, found = s.contradiction.last()
	return found, nil
}

// compareRecords compares the records with the entries, unless somebody writes: a change in between would
// look like one that no entry explains. It tells whether something else was found than before.
func (s *Service) compareRecords() (other bool, err error) {
	t := &s.contradiction
	t.comparing.Lock()
	defer t.comparing.Unlock()
	if !s.writing.TryLock() {
		return false, nil
	}
	defer s.writing.Unlock()
	now := time.Now()
	found, err := s.contradictions()
	if err != nil {
		return false, err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	other = !slices.Equal(found, t.found)
	t.at, t.found = now, found
	return other, nil
}

// last gives what was found last, and when; zero: nothing was compared yet.
func (t *told) last() (time.Time, finding.List) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.at, t.found
}

// watchRecords compares the records with the entries again and again, until ctx ends.
func (s *Service) watchRecords(ctx context.Context) {
	t := time.NewTicker(toldFor)
	defer t.Stop()
	for {
		other, err := s.compareRecords()
		if err != nil && ctx.Err() == nil {
			s.log.Warn("the records could not be compared with the journal", "error", err)
		}
		if other {
			s.models.outdated.Add(1)
			s.live.change(api.OfJournal, api.OfChecks)
		}
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
	}
}

// comparedAt is when contradicted last compared; zero: not since the start.
func (s *Service) comparedAt() time.Time {
	at, _ := s.contradiction.last()
	return at.UTC()
}

// rolledBack compares the journal with the heads that the seals of editions carry:
// a journal that was put back to an earlier state lacks what they saw.
func (s *Service) rolledBack() (out finding.List) {
	editions, err := s.db.Editions("")
	if err != nil {
		return nil
	}
	for _, e := range editions {
		if e.Retired {
			continue
		}
		open, err := s.editions.brief(s, e.Mirror, e.Number)
		if err != nil || open.Journal == "" {
			continue
		}
		if _, err := journal.Against(s.db.Journal(), s.keys, open.Journal); err != nil {
			var broken *journal.Broken
			if errors.As(err, &broken) {
				out = append(out, finding.New(finding.JournalBroken, "journal",
					"the journal contradicts the journal head in the seal of %s: %s",
					open.Name(), broken.Text))
			}
		}
	}
	return out
}

// verifyJournal proves that the journal is whole, that it contradicts no head
// that was kept (in seals, and perhaps one that is given: a head, or an edition),
// and that it explains what is in force.
func (s *Service) verifyJournal(against string) (journal.Report, error) {
	s.writing.Lock()
	defer s.writing.Unlock()
	r, err := journal.Verify(s.db.Journal(), s.keys)
	if err != nil || !r.Holds {
		return r, err
	}
	fail := func(text string) journal.Report {
		r.Holds, r.Text = false, text
		return r
	}
	if against != "" {
		head, what := against, "the head that was supplied"
		if id, err := edition.ParseID(against, ""); err == nil {
			open, _, err := s.standing(id.Mirror, id.Number)
			if err != nil {
				return r, err
			}
			if head, what = open.Journal, "the seal of "+open.Name(); head == "" {
				return r, finding.New(finding.DefineBadValue, "edition "+open.Name(),
					"its seal has no journal head: the edition was made before Stockade added "+
						"one")
			}
		}
		old, err := journal.Against(s.db.Journal(), s.keys, head)
		var broken *journal.Broken
		if errors.As(err, &broken) {
			return fail(what + " is contradicted by the journal: " + broken.Text), nil
		}
		if err != nil {
			return r, err
		}
		r.Text += fmt.Sprintf("; %s, over %d entries, matches", what, old.Size)
	}
	found, err := s.contradictions()
	if err != nil {
		return r, err
	}
	if len(found) > 0 {
		texts := make([]string, len(found))
		for i, f := range found {
			texts[i] = f.Text
		}
		return fail(strings.Join(texts, "; ")), nil
	}
	editions, err := s.db.Editions("")
	if err != nil {
		return r, err
	}
	sealed := 0
	for _, e := range editions {
		if open, err := s.editions.open(s, e.Mirror, e.Number); !e.Retired && err == nil &&
			open.Journal != "" {
			sealed++
		}
	}
	r.Text += "; matches the journal heads in " + finding.Count(sealed, "seal")
	return r, nil
}

func (s *Service) handleJournal(c *gin.Context) (any, error) {
	limit, cursor, err := paging(c)
	if err != nil {
		return nil, err
	}
	since := time.Time{}
	if text := c.Query("since"); text != "" {
		if since, err = time.Parse(time.RFC3339, text); err != nil {
			return nil, badQuery("since", text, "it must be a time in the format of RFC 3339")
		}
	}
	if as := c.Query("as"); as != "" {
		return nil, takenAway(c, as, "journal", func(yield func(journal.Entry) error) error {
			return s.eachEntry(c.Query("q"), since, yield)
		})
	}
	rows, err := s.db.JournalPage(cursor, limit, c.Query("q"), since)
	out := api.Page[journal.Entry]{Items: rows}
	if len(rows) == limit && rows[limit-1].Number > 0 {
		out.Next = strconv.FormatInt(rows[limit-1].Number, 10)
	}
	return out, err
}

// eachEntry gives the entries that have a text, back to a time, the newest first.
func (s *Service) eachEntry(q string, since time.Time, yield func(journal.Entry) error) error {
	for cursor := int64(-1); ; {
		rows, err := s.db.JournalPage(cursor, pageMost, q, since)
		for _, e := range rows {
			if err := yield(e); err != nil {
				return err
			}
			cursor = e.Number
		}
		if err != nil || len(rows) < pageMost || cursor == 0 {
			return err
		}
	}
}

func (s *Service) handleVerifyJournal(c *gin.Context) (any, error) {
	in, err := optional[api.Against](c)
	if err != nil {
		return nil, err
	}
	return s.verifyJournal(in.Against)
}
