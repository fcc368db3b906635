package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/trust"
)

// What a data folder holds that cannot be made again: the records, and the site's
// secret key. One without the other is a loss, not a first start.

func (s *Service) recordsFile() string { return filepath.Join(s.cfg.Data, "stockade.db") }
func (s *Service) publicFile() string  { return filepath.Join(s.cfg.Data, "site", "key.asc") }

// whole refuses a folder in which one of the two is gone. A start that was killed
// before it was through leaves records with no account in them; that is none.
func (s *Service) whole() error {
	records, err := isThere(s.recordsFile())
	if err != nil {
		return err
	}
	key, err := isThere(s.siteKeyFile())
	if err != nil {
		return err
	}
	editions, err := filepath.Glob(filepath.Join(s.cfg.Data, "editions", "*", "*"))
	if err != nil {
		return err
	}
	switch {
	case !records && (key || len(editions) > 0):
		return s.lost("the records", s.recordsFile(), "the site key and the editions")
	case records && !key && len(editions) > 0:
		return s.lost("the site key", s.siteKeyFile(), "the records and the editions")
	}
	return nil
}

// known is whole once the records are open: with accounts in them, a key was made.
func (s *Service) known() error {
	if key, err := isThere(s.siteKeyFile()); key || err != nil {
		return err
	}
	accounts, err := s.db.Accounts()
	if err != nil || len(accounts) == 0 {
		return err
	}
	return s.lost("the site key", s.siteKeyFile(), "the records")
}

func (s *Service) lost(what, file, there string) error {
	f := finding.New(finding.SiteLost, "data folder "+s.cfg.Data,
		"%s (%s): missing, although %s exist. Nothing was changed", what, file, there)
	way := "restore the file from your last backup of the folder, together with the files " +
		"beside it"
	if old := s.oldFingerprint(); old != "" {
		way += "; or move everything aside and start over with a new site key, which all " +
			"machines must then be told of: --begin-anew FINGERPRINT, with the whole " +
			"fingerprint of the old key, " + trust.Spaced(old)
	} else {
		way += "; or move the folder away, and start with a new one"
	}
	return f.Do("%s", way)
}

func isThere(path string) (bool, error) {
	_, err := os.Stat(path)
	if errors.Is(err, os.ErrNotExist) {
		return false, nil
	}
	return err == nil, finding.Doing(err, "look for %s", path)
}

// oldFingerprint is that of the site key, as what is left in the folder tells it.
func (s *Service) oldFingerprint() string {
	if raw, err := os.ReadFile(s.publicFile()); err == nil {
		if certs, err := trust.ReadCertificates(raw); err == nil && len(certs) == 1 {
			return certs[0].Fingerprint
		}
	}
	editions, _ := filepath.Glob(filepath.Join(s.cfg.Data, "editions", "*", "*", "edition.json"))
	for _, path := range editions {
		var e edition.Edition
		if raw, err := os.ReadFile(path); err == nil && json.Unmarshal(raw, &e) == nil && e.SiteKey != "" {
			return e.SiteKey
		}
	}
	return ""
}

// keepPublic leaves the site's certificate beside its secret key.
func (s *Service) keepPublic() error {
	text := s.site.Load().main.Certificate().Armoured()
	if raw, err := os.ReadFile(s.publicFile()); err == nil && string(raw) == text {
		return nil
	}
	return finding.Doing(writeSecret(s.publicFile(), text), "keep the site's certificate")
}

// beginAnew sets what is left aside, for the start after it to be a first one. The
// pool stays: its files are named by what they are.
func (s *Service) beginAnew() error {
	records, err := isThere(s.recordsFile())
	if err != nil {
		return err
	}
	key, err := isThere(s.siteKeyFile())
	if err != nil {
		return err
	}
	if records && key {
		return finding.New(finding.DefineBadValue, "data folder "+s.cfg.Data,
			"the records and the site key both exist, so nothing is lost. Nothing was changed").
			Do("start the service without --begin-anew")
	}
	old := s.oldFingerprint()
	typed, err := trust.ParseFingerprint(s.cfg.BeginAnew)
	if err != nil {
		return err
	}
	if old == "" || typed != old {
		return finding.New(finding.KeyFingerprintMismatch, "data folder "+s.cfg.Data,
			"%s is not the fingerprint of the site key that was used here. Nothing was changed",
			trust.Spaced(typed))
	}
	aside := filepath.Join(s.cfg.Data, "before-"+s.now().UTC().Format("20060102T150405Z"))
	if err := os.Mkdir(aside, 0o700); err != nil {
		return finding.Doing(err, "move the rest aside")
	}
	names := []string{"site", "editions", "warden.token"}
	beside, err := filepath.Glob(s.recordsFile() + "*")
	if err != nil {
		return err
	}
	for _, b := range beside {
		names = append(names, filepath.Base(b))
	}
	var moved []string
	for _, name := range names {
		err := os.Rename(filepath.Join(s.cfg.Data, name), filepath.Join(aside, name))
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("move %s aside, after %s: %w", name, strings.Join(moved, ", "), err)
		}
		if err == nil {
			moved = append(moved, name)
		}
	}
	slices.Sort(moved)
	s.log.Warn("the service starts over; the earlier files were moved aside", "folder", aside, "moved", moved)
	for _, d := range []string{"editions", "site"} {
		if err := os.MkdirAll(filepath.Join(s.cfg.Data, d), 0o700); err != nil {
			return finding.Doing(err, "open the data folder")
		}
	}
	return nil
}
