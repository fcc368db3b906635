// Package service is the long-running Stockade: it holds the records, does the
// work as jobs, answers the API and the console on one listener and machines
// on another.
//
// Who is trusted for what: a token decides what an account may do (api.Routes
// has the role of every call); machines need none and reach only sealed
// editions. Decisions about keys are made by wardens alone.
package service

import (
	"context"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/chacha20poly1305"
	"golang.org/x/sys/unix"

	"stockade/core/definition"
	"stockade/core/disk"
	"stockade/core/families"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/journal"
	"stockade/core/mirror"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/api"
	"stockade/internal/store"
)

// Config is how a service is started.
type Config struct {
	Data      string        // the data folder
	Listen    string        // API and console; 127.0.0.1:8440 if empty
	Packages  string        // for machines; 127.0.0.1:8441 if empty
	PublicURL string        // how machines reach the packages listener; from its address if empty
	Unlock    string        // file with the passphrase of the site key; DATA/site/unlock if empty
	CertFile  string        // TLS for both listeners
	KeyFile   string        //
	Grace     time.Duration // how long files of a lane's former edition stay reachable; 24 h if zero
	Limit     int64         // bytes a second for downloads; none if zero
	Machines  int           // connections of machines at once; by the limit of open files if zero
	JobTime   time.Duration // how long one job may take; 24 h if zero
	Jobs      int           // builds, proofs and previews at once; by the processors if zero
	JobMemory int64         // bytes of memory that jobs may make the service take; 4 GiB if zero
	Hosts     []string      // further names by which API and console are reached
	// the fingerprint of a site key that was lost: set aside what is left, and begin anew
	LiftRules bool   // take all rules away, such as that two wardens vouch
	NewWarden string // account of a warden to be made, with its token in DATA/NAME.token
	BeginAnew string
	Witness   string // a file that keeps the newest head of the journal; empty: none
	Version   string
	Log       *slog.Logger
	Now       func() time.Time
	// NewKey makes the site's key at the first start; trust.NewKey if nil.
	NewKey func(name, comment, address string, now func() time.Time) (*trust.SiteKey, error)
	Fetch  fetch.Options
}

// Service is a running Stockade.
type Service struct {
	cfg     Config
	log     *slog.Logger
	now     func() time.Time
	db      *store.DB
	pool    *pool.Dir
	proven  *pool.Proven          // of the same files, for machines
	free    func() (int64, error) // bytes that the pool can still store
	heads   heads
	checked judgement
	fetch   *fetch.Client
	site    atomic.Pointer[siteKeys]
	keys    journal.Keys
	vault   cipher.AEAD // seals secrets of credentials
	// sessions are bound to it; see bound
	sessionKey    []byte
	used          usedAt
	live          live
	comparing     comparing
	diffs         differences
	ending        chan struct{} // closed when Run ends
	drafting      sync.Mutex    // one draft is kept at a time
	hashing       chan struct{} // who works a password out
	unlocked      []byte        // the passphrase of the site key
	jobs          *jobs
	editions      editionCache
	guesses       *guesses
	usage         usage
	ledger        ledger
	computing     computing
	bodies        bodies
	parsed        certificates
	lacking       lacking
	contradiction told
	models        models
	searching     searching
	behind        sync.Mutex // held by whoever reads whole lists in the background: see inBackground

	writing    sync.Mutex // one change of the description, a lane or the journal at a time
	publishing sync.Mutex // one publication of house sources at a time
	sweeping   sweeping

	api, packages net.Listener
	servers       []*http.Server
	stop          context.CancelFunc
	done          sync.WaitGroup
	lock, folder  *os.File
}

// Open opens the data folder, makes what a first start needs, and listens. Run
// must follow.
func Open(cfg Config) (*Service, error) {
	if cfg.Now == nil {
		cfg.Now = time.Now
	}
	if cfg.Log == nil {
		cfg.Log = slog.New(slog.DiscardHandler)
	}
	if cfg.Listen == "" {
		cfg.Listen = "127.0.0.1:8440"
	}
	if cfg.Packages == "" {
		cfg.Packages = "127.0.0.1:8441"
	}
	if cfg.Grace == 0 {
		cfg.Grace = 24 * time.Hour
	}
	if cfg.JobTime == 0 {
		cfg.JobTime = 24 * time.Hour
	}
	if cfg.Jobs == 0 {
		cfg.Jobs = max(runtime.NumCPU(), 2)
	}
	if cfg.JobMemory == 0 {
		cfg.JobMemory = 4 << 30
	}
	if cfg.Unlock == "" {
		cfg.Unlock = filepath.Join(cfg.Data, "site", "unlock")
	}
	s := &Service{cfg: cfg, log: cfg.Log, now: cfg.Now, guesses: newGuesses(cfg.Now),
		hashing: make(chan struct{}, 1), ending: make(chan struct{}),
		comparing: comparing{nudged: make(chan struct{}, 1)},
		lacking:   lacking{nudged: make(chan struct{}, 1)},
		searching: searching{nudged: make(chan struct{}, 1)}}
	_, before := os.Stat(cfg.Data)
	err := s.listen()
	if err == nil {
		err = s.open()
	}
	if err != nil {
		s.Close()
		if errors.Is(before, os.ErrNotExist) { // what was begun for a start that failed
			err = errors.Join(err, os.RemoveAll(cfg.Data))
		}
		return nil, err
	}
	return s, nil
}

// listen takes the addresses, and looks whether the certificate for them can be used,
// before anything is written.
func (s *Service) listen() (err error) {
	if s.cfg.CertFile != "" {
		if _, err := tls.LoadX509KeyPair(s.cfg.CertFile, s.cfg.KeyFile); err != nil {
			return fmt.Errorf("use the certificate of --tls-cert and --tls-key: %w", err)
		}
	}
	if err := s.cfg.machinesAddress(); err != nil {
		return err
	}
	if s.api, err = listenAt("--listen", s.cfg.Listen); err != nil {
		return err
	}
	s.packages, err = listenAt("--packages", s.cfg.Packages)
	return err
}

// machinesAddress tells why machines could not use the address that their files would have.
func (c *Config) machinesAddress() error {
	host, port, err := net.SplitHostPort(c.Packages)
	if err != nil {
		return nil // listening says what is wrong with it
	}
	if ip := net.ParseIP(host); c.PublicURL == "" && (host == "" || ip != nil && ip.IsUnspecified()) {
		return fmt.Errorf("--packages %s listens on every address of this machine, but the "+
			"machines' files need one address that machines can reach: add --packages-url, "+
			"such as http://stores.reach.example:%s", c.Packages, port)
	}
	if c.PublicURL == "" {
		return nil
	}
	u, err := url.Parse(c.PublicURL)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "" || u.User != nil ||
		u.RawQuery != "" || u.Fragment != "" {
		return fmt.Errorf("--packages-url %s is not an address that machines can use: enter "+
			"one such as https://stores.reach.example:8441", fetch.Shown(c.PublicURL))
	}
	return nil
}

func listenAt(option, address string) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if errors.Is(err, unix.EADDRINUSE) {
		return nil, fmt.Errorf("%s %s is in use by another program: stop that program, or "+
			"choose another address (port 0 takes a free one)", option, address)
	}
	if err != nil {
		return nil, fmt.Errorf("listen at %s %s: %w", option, address, err)
	}
	return l, nil
}

func (s *Service) open() error {
	data := s.cfg.Data
	for _, d := range []string{"", "editions", "tmp", "pool", "site"} {
		if err := os.MkdirAll(filepath.Join(data, d), 0o700); err != nil {
			return finding.Doing(err, "open the data folder")
		}
	}
	// Records hold who may do what: nobody else on this machine reads them, also
	// where the folder was made by an earlier version or by hand.
	if err := os.Chmod(data, 0o700); err != nil {
		return finding.Doing(err, "lock the data folder")
	}
	lock, err := os.OpenFile(filepath.Join(data, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("open the data folder: %w", err)
	}
	s.lock = lock
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return fmt.Errorf(
			"the data folder %s is in use by another Stockade: stop it, or choose another "+
				"folder with --data", data)
	}
	// The file can be taken away while its lock is held, and the folder cannot: both are locked.
	if s.folder, err = os.Open(data); err != nil {
		return fmt.Errorf("open the data folder: %w", err)
	}
	if err := unix.Flock(int(s.folder.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return fmt.Errorf(
			"the data folder %s is in use by another Stockade: stop it, or choose another "+
				"folder with --data", data)
	}
	if s.cfg.BeginAnew != "" {
		if err := s.beginAnew(); err != nil {
			return err
		}
	}
	if err := s.whole(); err != nil {
		return err
	}
	if s.db, err = store.Open(s.recordsFile()); err != nil {
		return err
	}
	if err := s.known(); err != nil {
		return err
	}
	if err := s.openIndex(); err != nil {
		return err
	}
	if s.pool, err = pool.Open(filepath.Join(data, "pool"), filepath.Join(data, "tmp")); err != nil {
		return err
	}
	s.proven = pool.NewProven(s.pool)
	s.free = s.pool.Free
	// by a service that was killed; downloads are gone on with
	for _, left := range []string{"upload-*", "house-*", "examine*"} {
		files, _ := filepath.Glob(filepath.Join(data, "tmp", left))
		for _, f := range files {
			os.RemoveAll(f)
		}
	}
	s.fetch = fetch.New(withLimit(s.cfg.Fetch, s.cfg))
	passphrase, err := s.passphrase()
	if err != nil {
		return err
	}
	if err := s.openSiteKeys(passphrase); err != nil {
		return err
	}
	fingerprint := s.site.Load().first()
	seed := argon2.IDKey(passphrase, []byte("stockade journal "+fingerprint), 1, 64<<10, 2, 32)
	if s.keys, err = journal.NewKeys(seed); err != nil {
		return fmt.Errorf("open the journal: %w", err)
	}
	sealing := argon2.IDKey(passphrase, []byte("stockade credentials "+fingerprint), 1, 64<<10, 2,
		chacha20poly1305.KeySize)
	if s.vault, err = chacha20poly1305.NewX(sealing); err != nil {
		return fmt.Errorf("open the secrets of credentials: %w", err)
	}
	if s.sessionKey, err = hkdf.Expand(sha256.New, sealing, "stockade sessions", 32); err != nil {
		return fmt.Errorf("open the sessions: %w", err)
	}
	s.unlocked = passphrase
	if err := s.settleSiteKeys(); err != nil {
		return err
	}
	if err := s.keepPublic(); err != nil {
		return err
	}
	if err := s.firstWarden(); err != nil {
		return err
	}
	if err := s.newWarden(); err != nil {
		return err
	}
	if err := s.liftRules(); err != nil {
		return err
	}
	if n, err := s.db.Interrupt(s.now().UTC()); err != nil {
		return err
	} else if n > 0 {
		s.log.Warn("jobs were interrupted when the service ended", "jobs", n)
	}
	s.jobs = newJobs(s.db, s.now, s.cfg.JobTime, s.cfg.JobMemory, s.cfg.Jobs, s.log)
	s.jobs.tell = s.live.tell
	s.db.OnChange(func(parts []store.Part) {
		s.live.change(subjectsOf(parts)...)
		if slices.ContainsFunc(parts, func(p store.Part) bool { return !slices.Contains(restless, p) }) {
			s.comparing.nudge()
		}
		if slices.ContainsFunc(parts, func(p store.Part) bool { return slices.Contains(searched, p) }) {
			s.searching.nudge()
		}
	})
	return nil
}

func withLimit(o fetch.Options, cfg Config) fetch.Options {
	o.Limit, o.Agent = cfg.Limit, "stockade/"+cfg.Version
	return o
}

// passphrase reads what opens the site key. At the first start it is made.
func (s *Service) passphrase() ([]byte, error) {
	data, err := os.ReadFile(s.cfg.Unlock)
	if err == nil {
		p := strings.TrimSpace(string(data))
		if len(p) < 8 {
			return nil, fmt.Errorf("the passphrase in %s is shorter than 8 characters", s.cfg.Unlock)
		}
		return []byte(p), nil
	}
	if !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("read the passphrase of the site key: %w", err)
	}
	if _, err := os.Stat(s.siteKeyFile()); err == nil {
		return nil, fmt.Errorf(
			"the site key is locked, and %s contains no passphrase: name the file with --unlock",
			s.cfg.Unlock)
	}
	p := secret()
	if err := writeSecret(s.cfg.Unlock, p); err != nil {
		return nil, fmt.Errorf("save the passphrase of the site key: %w", err)
	}
	s.log.Warn("a passphrase for the site key was created; move it off this disk and name it "+
		"with --unlock",
		"file", s.cfg.Unlock)
	return []byte(p), nil
}

func secret() string {
	var raw [32]byte
	rand.Read(raw[:])
	return hex.EncodeToString(raw[:])
}

// writeSecret writes a file that only the account of the service may read.
func writeSecret(path, text string) error { return disk.Replace(disk.OS, path, []byte(text), 0o600) }

// WardenToken is where the token of the warden lies who was made at this start, or at the first; empty
// where it was taken away since.
func (s *Service) WardenToken() string {
	file := s.tokenFile("warden")
	if s.cfg.NewWarden != "" {
		file = s.tokenFile(s.cfg.NewWarden)
	}
	if _, err := os.Stat(file); err != nil {
		return ""
	}
	return file
}

func (s *Service) tokenFile(warden string) string { return filepath.Join(s.cfg.Data, warden+".token") }

// firstWarden makes the account that a first start needs.
func (s *Service) firstWarden() error {
	all, err := s.db.Accounts()
	if err != nil || len(all) > 0 {
		return err
	}
	return s.addWarden("warden", s.tokenFile("warden"), "first start")
}

// newWarden makes a warden whom --new-warden names: the way back where every warden's
// token is lost. Who may start the service over its data folder holds its key and its
// records already.
func (s *Service) newWarden() error {
	name := s.cfg.NewWarden
	if name == "" {
		return nil
	}
	if !definition.IsName(name) {
		return finding.New(finding.DefineBadValue, "account", "the name %q is not valid",
			name).
			Do("use lower-case letters, digits, dots and hyphens")
	}
	_, err := s.db.AccountBy(name)
	if err == nil {
		return finding.New(finding.DefineDuplicateName, "account "+name,
			"an account of this name already exists").
			Do("choose another name for --new-warden")
	}
	if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return s.addWarden(name, s.tokenFile(name), "--new-warden")
}

// addWarden makes a warden's account, and writes its token to a file.
func (s *Service) addWarden(name, file, by string) error {
	token := secret()
	if err := writeSecret(file, token+"\n"); err != nil {
		return fmt.Errorf("save the token of %s: %w", name, err)
	}
	ch, err := s.begin(itself(by))
	if err != nil {
		return err
	}
	defer ch.end()
	return s.db.Tx(func(tx *store.DB) error {
		now := s.now().UTC()
		if err := tx.SaveAccount(store.Account{Name: name, Role: api.Warden, Created: now}); err != nil {
			return err
		}
		if err := tx.AddToken(store.Token{Hash: tokenHash(token), Account: name, Label: by,
			Created: now}); err != nil {
			return err
		}
		return ch.write(tx, "account.add", "account "+name,
			map[string]string{"role": api.Warden, "token": tokenHash(token)})
	})
}

func tokenHash(token string) string {
	sum := sha256.Sum256([]byte("stockade token " + token))
	return hex.EncodeToString(sum[:])
}

// APIURL is where API and console are.
func (s *Service) APIURL() string { return s.scheme() + "://" + s.api.Addr().String() }

// PackagesURL is where machines find packages.
func (s *Service) PackagesURL() string {
	if s.cfg.PublicURL != "" {
		return strings.TrimRight(s.cfg.PublicURL, "/")
	}
	return s.scheme() + "://" + s.packages.Addr().String()
}

func (s *Service) scheme() string {
	if s.cfg.CertFile != "" {
		return "https"
	}
	return "http"
}

// lastAnswers is how long requests that run when the service ends may take. A client whose download is cut
// goes on from there later.
const lastAnswers = time.Second

// machinesFirst is how long after the start what reads whole lists begins in the background.
const machinesFirst = time.Second

// Run serves until ctx ends, then lets running requests finish.
func (s *Service) Run(ctx context.Context) error {
	ctx, s.stop = context.WithCancel(ctx)
	s.jobs.begin(ctx)
	forAPI, forMachines := budgets()
	if s.cfg.Machines > 0 {
		forMachines = s.cfg.Machines
	}
	gates := []*gate{newGate(s.api, forAPI, strangerTime), newGate(s.packages, forMachines, 0)}
	s.servers = []*http.Server{s.server(timed(s.handler()), gates[0]),
		s.server(s.loggedToMachines(s.packagesHandler()), gates[1])}
	failed := make(chan error, 2)
	for i, l := range gates {
		srv := s.servers[i]
		srv.ErrorLog = slog.NewLogLogger(s.log.Handler(), slog.LevelDebug)
		go func() {
			var err error
			if s.cfg.CertFile != "" {
				err = srv.ServeTLS(l, s.cfg.CertFile, s.cfg.KeyFile)
			} else {
				err = srv.Serve(l)
			}
			if !errors.Is(err, http.ErrServerClosed) {
				failed <- err
			}
		}()
	}
	s.log.Info("service started", "version", s.cfg.Version, "data", s.cfg.Data,
		"api", s.APIURL(), "packages", s.PackagesURL(), "site_key",
		s.site.Load().main.Certificate().Fingerprint)
	s.done.Go(func() { s.schedule(ctx) })
	s.done.Go(func() { s.jobs.watch(ctx) })
	s.done.Go(func() { s.keepUsed(ctx) })
	s.done.Go(func() { s.compareMachines(ctx) })
	s.done.Go(func() { s.watchRecords(ctx) })
	s.done.Go(func() { // machines are served first
		select {
		case <-ctx.Done():
			return
		case <-time.After(machinesFirst):
		}
		s.done.Go(func() { s.watchPool(ctx) })
		s.done.Go(func() { s.fillIndex(ctx) })
	})
	if s.cfg.Witness != "" {
		s.done.Go(func() { s.witness(ctx) })
	}
	var err error
	select {
	case <-ctx.Done():
	case err = <-failed:
	}
	why := "it was asked to"
	if err != nil {
		why = err.Error()
	} else if cause := context.Cause(ctx); cause != nil {
		why = cause.Error()
	}
	s.log.Info("service stopped", "why", why)
	close(s.ending)
	s.stop()
	s.jobs.end()
	quiet, cancel := context.WithTimeout(context.Background(), lastAnswers)
	defer cancel()
	for _, srv := range s.servers {
		if srv.Shutdown(quiet) != nil {
			srv.Close()
		}
	}
	s.done.Wait()
	return errors.Join(err, s.Close())
}

// Close releases the data folder of a service that does not run.
func (s *Service) Close() error {
	var err error
	for _, l := range []net.Listener{s.api, s.packages} {
		if l != nil {
			l.Close()
		}
	}
	if s.db != nil {
		err = s.db.Close()
		s.db = nil
	}
	if x := s.searching.index; x != nil {
		err = errors.Join(err, x.Close())
	}
	for _, held := range []**os.File{&s.lock, &s.folder} {
		if *held != nil {
			(*held).Close()
			*held = nil
		}
	}
	return err
}

// reader reads what upstreams serve, into the pool of the service.
func (s *Service) reader(sink func(upstream.Event)) *upstream.Reader {
	return &upstream.Reader{Pool: s.pool, Fetch: s.fetch, Families: families.All, Now: s.now, Log: s.log,
		Sink: sink}
}

func (s *Service) builder(sink func(upstream.Event)) *mirror.Builder {
	return &mirror.Builder{Reader: *s.reader(sink), Site: s.site.Load().signing(),
		Editions: filepath.Join(s.cfg.Data, "editions")}
}
