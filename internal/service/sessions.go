package service

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/crypto/argon2"

	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/store"
)

// How long a session of the console lasts.
const (
	sessionIdle = 12 * time.Hour     // after it was last used
	sessionMost = 7 * 24 * time.Hour // after it began
	sessionsOf  = 20                 // of one account; the oldest ends for a new one
)

// credentialOf is what an account was known by: a token, or a password; directly or by a
// session that began with it.
type credentialOf struct {
	account store.Account
	session string     // digest of the session; empty: a token came with the call itself
	of      string     // digest of the token or of the password's record
	byWord  bool       // it is a password
	ends    *time.Time // when the token ends
}

// usedAt remembers when tokens and sessions were used, until it is written down.
type usedAt struct {
	mu               sync.Mutex
	tokens, sessions map[string]time.Time
}

func (u *usedAt) token(hash string, at time.Time) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.tokens == nil {
		u.tokens = map[string]time.Time{}
	}
	u.tokens[hash] = at
}

func (u *usedAt) session(hash string, at time.Time) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.sessions == nil {
		u.sessions = map[string]time.Time{}
	}
	u.sessions[hash] = at
}

// of gives when a session was last used, where that is not written down yet.
func (u *usedAt) of(session string, recorded time.Time) time.Time {
	u.mu.Lock()
	defer u.mu.Unlock()
	if at, ok := u.sessions[session]; ok {
		return at
	}
	return recorded
}

func (u *usedAt) ofToken(hash string, recorded *time.Time) *time.Time {
	u.mu.Lock()
	defer u.mu.Unlock()
	if at, ok := u.tokens[hash]; ok {
		return &at
	}
	return recorded
}

// keepUsed writes down once a minute what was used, and forgets sessions that ended.
func (s *Service) keepUsed(ctx context.Context) {
	t := time.NewTicker(time.Minute)
	defer t.Stop()
	for open := true; open; {
		select {
		case <-ctx.Done():
			open = false
		case <-t.C:
		}
		s.used.mu.Lock()
		tokens, sessions := maps.Clone(s.used.tokens), maps.Clone(s.used.sessions)
		s.used.mu.Unlock()
		if err := s.db.Used(tokens, sessions); err != nil {
			s.log.Warn("the times at which tokens and sessions were used could not be saved", "error", err)
			continue
		}
		s.used.mu.Lock()
		forgetWritten(s.used.tokens, tokens)
		forgetWritten(s.used.sessions, sessions)
		s.used.mu.Unlock()
		now := s.now().UTC()
		if err := s.db.EndSessions(now.Add(-sessionIdle), now.Add(-sessionMost)); err != nil {
			s.log.Warn("expired sessions could not be removed", "error", err)
		}
	}
}

// forgetWritten takes out what was written, but for what was used again since.
func forgetWritten(now, written map[string]time.Time) {
	for hash, at := range written {
		if now[hash].Equal(at) {
			delete(now, hash)
		}
	}
}

// unlessAbsent is err where a record could not be read, and nil where there is none: nobody is known by
// that then.
func unlessAbsent(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return finding.Doing(err, "look up who asks")
}

// byToken finds whose a token is, and whether it counts now. That the records could not be read
// says nothing of the token.
func (s *Service) byToken(token string) (credentialOf, bool, error) {
	hash := tokenHash(token)
	t, err := s.db.TokenBy(hash)
	if err != nil || subtle.ConstantTimeCompare([]byte(t.Hash), []byte(hash)) != 1 {
		return credentialOf{}, false, unlessAbsent(err)
	}
	got, ok, err := s.counts(credentialOf{of: hash, ends: t.Ends}, t.Account)
	if ok {
		s.used.token(hash, s.now().UTC().Truncate(time.Second))
	}
	return got, ok, err
}

// counts tells whether what an account is known by is in force: an entry of the journal
// made it, and it did not end.
func (s *Service) counts(c credentialOf, account string) (credentialOf, bool, error) {
	a, err := s.db.AccountBy(account)
	if err != nil {
		return c, false, unlessAbsent(err)
	}
	now, err := s.ledger.read(s.db, s.keys)
	if err != nil {
		return c, false, err
	}
	c.account = a
	switch {
	case now.broken != nil: // somebody has to put it right; nothing is written
		return c, c.ends == nil || s.now().Before(*c.ends), nil
	case !now.hasAccount(a.Name, a.Role):
		return c, false, nil
	case c.byWord:
		return c, now.hasPassword(a.Name, c.of) && passwordDigest(a.Password) == c.of, nil
	}
	return c, now.hasToken(a.Name, c.of, c.ends) && (c.ends == nil || s.now().Before(*c.ends)), nil
}

// bySession finds whose a session is. What it began with has to count still.
func (s *Service) bySession(cookie string) (credentialOf, bool, error) {
	hash := tokenHash(cookie)
	row, err := s.db.SessionBy(hash)
	if err != nil || subtle.ConstantTimeCompare([]byte(row.Mac), []byte(s.bound(row))) != 1 {
		return credentialOf{}, false, unlessAbsent(err)
	}
	now := s.now()
	if now.Sub(row.Created) > sessionMost || now.Sub(s.used.of(hash, row.Used)) > sessionIdle {
		return credentialOf{}, false, nil
	}
	c := credentialOf{session: hash, of: row.Of, byWord: row.By == "password"}
	if !c.byWord {
		t, err := s.db.TokenBy(row.Of)
		if err != nil || t.Account != row.Account {
			return credentialOf{}, false, unlessAbsent(err)
		}
		c.ends = t.Ends
	}
	c, ok, err := s.counts(c, row.Account)
	if ok {
		s.used.session(hash, now.UTC().Truncate(time.Second))
	}
	return c, ok, err
}

// bound is the code that ties a session's record to the service's secret: who writes the
// records cannot make a session, nor lead one to another account.
func (s *Service) bound(row store.Session) string {
	m := hmac.New(sha256.New, s.sessionKey)
	fmt.Fprintf(m, "%s\n%s\n%s\n%s\n%d", row.Hash, row.Account, row.By, row.Of, row.Created.Unix())
	return hex.EncodeToString(m.Sum(nil))
}

// cookieName has the port in it: browsers keep the cookies of one host together, whatever
// the port, and two services may run on one machine.
func (s *Service) cookieName() string {
	_, port, _ := net.SplitHostPort(s.api.Addr().String())
	return "stockade-session-" + port
}

func (s *Service) setCookie(c *gin.Context, value string, age time.Duration) {
	http.SetCookie(c.Writer, &http.Cookie{Name: s.cookieName(), Value: value, Path: "/",
		MaxAge: int(age / time.Second), HttpOnly: true, SameSite: http.SameSiteStrictMode,
		Secure: s.cfg.CertFile != ""})
}

// handleSignIn begins a session.
func (s *Service) handleSignIn(c *gin.Context) (any, error) {
	in, err := body[api.SignIn](c)
	if err != nil {
		return nil, err
	}
	from := address(c.Request)
	got, known := credentialOf{}, false
	if in.Token != "" {
		got, known, err = s.byToken(strings.TrimSpace(in.Token))
	} else {
		// A password can be guessed: after too many wrong ones none is looked at for a while.
		// It counts as wrong until it is known to be right: many may come at once.
		if wait := s.guesses.begin(from); wait > 0 {
			return nil, tooManyGuesses(c, wait)
		}
		got, known, err = s.byPassword(c.Request.Context(), in.Account, in.Password)
		if known || err != nil {
			s.guesses.right(from)
		}
	}
	if err != nil {
		return nil, err
	}
	if !known {
		if in.Token != "" {
			s.guesses.wrong(from)
		}
		s.log.Warn("sign-in failed", "from", from, "account", finding.Harmless(in.Account))
		if wait := s.guesses.wait(from); wait > 0 {
			time.Sleep(guessDelay)
			return nil, tooManyGuesses(c, wait)
		}
		p := &api.Problem{Title: "Not signed in", Status: 401, Type: "urn:stockade:token",
			Detail: "no account has this token, or it has expired",
			WayOut: "check that the token was copied completely. A warden can create another " +
				"one"}
		if in.Token == "" {
			p.Detail, p.WayOut = "the account or the password is wrong",
				"a token of the account works as well. After signing in with it you can set a "+
					"new password"
		}
		return nil, p
	}
	value := secret()
	now := s.now().UTC().Truncate(time.Second)
	row := store.Session{Hash: tokenHash(value), Account: got.account.Name, By: "token", Of: got.of,
		Created: now, Used: now, From: from, Agent: brief(c.GetHeader("User-Agent"), 200)}
	if got.byWord {
		row.By = "password"
	}
	row.Mac = s.bound(row)
	if err := s.roomForSession(row.Account); err != nil {
		return nil, err
	}
	if err := s.db.AddSession(row); err != nil {
		return nil, err
	}
	s.log.Info("signed in", "account", row.Account, "by", row.By, "from", from)
	s.setCookie(c, value, sessionMost)
	return s.whoIs(got.account)
}

// roomForSession ends the oldest sessions of an account that has too many.
func (s *Service) roomForSession(account string) error {
	rows, err := s.db.Sessions(account)
	for i := sessionsOf - 1; err == nil && i < len(rows); i++ {
		err = s.db.EndSession(rows[i].Hash)
	}
	return err
}

// brief is a text made harmless and not longer than so many bytes.
func brief(text string, most int) string {
	return finding.Harmless(strings.ToValidUTF8(text[:min(len(text), most)], ""))
}

func tooManyGuesses(c *gin.Context, wait time.Duration) error {
	c.Header("Retry-After", strconv.Itoa(int(wait.Seconds())+1))
	return &api.Problem{Title: "Not signed in", Status: 429, Type: "urn:stockade:guessing",
		Detail: "this is wrong, or was not checked, because too many wrong ones came from this " +
			"address",
		WayOut: "wait a minute. A valid token works immediately"}
}

// handleSignOut ends the session that asks; a call with a token has none to end.
func (s *Service) handleSignOut(c *gin.Context) (any, error) {
	by := knownBy(c)
	if by.session != "" {
		if err := s.db.EndSession(by.session); err != nil {
			return nil, err
		}
		s.setCookie(c, "", -time.Second)
	}
	return s.whoIs(by.account)
}

// Passwords are kept as argon2id (RFC 9106), with the second of the choices that it
// recommends. One is looked at at a time: each takes 64 MiB while it is worked out.
const (
	wordTime    = 3
	wordMemory  = 64 << 10 // KiB
	wordThreads = 4
	wordLeast   = 12   // characters
	wordMost    = 1024 // bytes
)

func hashPassword(word string, salt []byte) []byte {
	return argon2.IDKey([]byte(word), salt, wordTime, wordMemory, wordThreads, 32)
}

// passwordRecord is a password as it is kept, in the form that PHC strings have.
func passwordRecord(word string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	b := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, wordMemory, wordTime,
		wordThreads, b.EncodeToString(salt), b.EncodeToString(hashPassword(word, salt)))
}

// passwordDigest stands for a record in the journal; empty for none.
func passwordDigest(record string) string {
	if record == "" {
		return ""
	}
	sum := sha256.Sum256([]byte("stockade password " + record))
	return hex.EncodeToString(sum[:])
}

// noPassword is compared with where there is none, so that the time tells nothing.
var noPassword = "$argon2id$v=19$m=65536,t=3,p=4$" + strings.Repeat("A", 22) + "$" + strings.Repeat("A", 43)

// isPassword compares a password with a record.
func isPassword(word, record string) bool {
	parts := strings.Split(record, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false
	}
	want, err := base64.RawStdEncoding.DecodeString(parts[5])
	return err == nil && subtle.ConstantTimeCompare(hashPassword(word, salt), want) == 1
}

// byPassword finds an account by its name and password.
func (s *Service) byPassword(ctx context.Context, name, word string) (credentialOf, bool, error) {
	select {
	case s.hashing <- struct{}{}:
		defer func() { <-s.hashing }()
	case <-ctx.Done():
		return credentialOf{}, false, ctx.Err()
	}
	a, err := s.db.AccountBy(name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return credentialOf{}, false, err
	}
	record := a.Password
	if record == "" {
		record = noPassword
	}
	right := len(word) <= wordMost && isPassword(word, record)
	if !right || a.Password == "" {
		return credentialOf{}, false, nil
	}
	return s.counts(credentialOf{of: passwordDigest(a.Password), byWord: true}, a.Name)
}
