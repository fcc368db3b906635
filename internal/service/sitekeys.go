package service

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"stockade/core/disk"
	"stockade/core/finding"
	"stockade/core/trust"
)

// The keys of a site. It has one; while it is being renewed it has two, of which the
// older one, in site/key.pgp, signs first, and the newer one, in site/next.pgp, beside
// it. Retiring the older one removes its secret part: its certificate stays under
// site/former/, numbered in their order.

// siteKeys is what the site signs with now, and did before.
type siteKeys struct {
	main   *trust.SiteKey // without the other
	next   *trust.SiteKey // nil: it is not being renewed
	former []*trust.Certificate
}

// signing gives the key that signs as the site, with the next one beside it.
func (k *siteKeys) signing() *trust.SiteKey {
	if k.next == nil {
		return k.main
	}
	return k.main.Beside(k.next)
}

// now gives the certificates whose signatures are the site's, the one that signs first
// before the other.
func (k *siteKeys) now() []*trust.Certificate {
	out := []*trust.Certificate{k.main.Certificate()}
	if k.next != nil {
		out = append(out, k.next.Certificate())
	}
	return out
}

// all gives those of now and those of before.
func (k *siteKeys) all() []*trust.Certificate { return slices.Concat(k.now(), k.former) }

// by gives a key of the site, of now or before.
func (k *siteKeys) by(fingerprint string) *trust.Certificate {
	for _, c := range k.all() {
		if c.Fingerprint == fingerprint {
			return c
		}
	}
	return nil
}

// armoured gives a key of the site in ASCII; one that signs now with the signature of the key
// before it, so that whoever knows that one can tell that this one follows it.
func (k *siteKeys) armoured(fingerprint string) (string, bool) {
	for _, s := range []*trust.SiteKey{k.main, k.next} {
		if s != nil && s.Certificate().Fingerprint == fingerprint {
			return s.Certified(), true
		}
	}
	if c := k.by(fingerprint); c != nil {
		return c.Armoured(), true
	}
	return "", false
}

// isNow tells whether a key is one that signs now.
func (k *siteKeys) isNow(fingerprint string) bool {
	return slices.Contains(fingerprints(k.now()), fingerprint)
}

// first is the fingerprint of the key that the site began with: what opens the journal
// and the secrets of credentials is drawn from it, and does not change with the key.
func (k *siteKeys) first() string {
	if len(k.former) > 0 {
		return k.former[0].Fingerprint
	}
	return k.main.Certificate().Fingerprint
}

// renewed names the keys in the order in which they sign, where the site has not the one
// alone that it began with; else "". It is an input of what they sign.
func (k *siteKeys) renewed() string {
	if k.next == nil && len(k.former) == 0 {
		return ""
	}
	return strings.Join(fingerprints(k.now()), " ")
}

func fingerprints(certs []*trust.Certificate) (out []string) {
	for _, c := range certs {
		out = append(out, c.Fingerprint)
	}
	return out
}

func (s *Service) siteKeyFile() string { return filepath.Join(s.cfg.Data, "site", "key.pgp") }
func (s *Service) nextKeyFile() string { return filepath.Join(s.cfg.Data, "site", "next.pgp") }
func (s *Service) formerKeys() string  { return filepath.Join(s.cfg.Data, "site", "former") }

// openSiteKeys reads the keys of the site. At the first start one is made.
func (s *Service) openSiteKeys(passphrase []byte) error {
	main, err := s.unlockKey(s.siteKeyFile(), passphrase)
	if errors.Is(err, os.ErrNotExist) {
		host, _ := os.Hostname()
		main, err = s.makeSiteKey(s.siteKeyFile(), host, passphrase, nil)
	}
	if err != nil {
		return err
	}
	keys := &siteKeys{main: main}
	if keys.next, err = s.unlockKey(s.nextKeyFile(), passphrase); err != nil &&
		!errors.Is(err, os.ErrNotExist) {
		return err
	}
	if keys.former, err = s.readFormer(); err != nil {
		return err
	}
	s.site.Store(keys)
	return nil
}

func (s *Service) unlockKey(file string, passphrase []byte) (*trust.SiteKey, error) {
	locked, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("read the site key: %w", err)
	}
	k, err := trust.Unlock(locked, passphrase, s.now)
	if err != nil {
		return nil, fmt.Errorf("open the site key %s with %s: %w", file, s.cfg.Unlock, err)
	}
	return k, nil
}

// makeSiteKey makes a key, and keeps it locked in a file. Where there is one that it
// follows, that one certifies it.
func (s *Service) makeSiteKey(file, comment string, passphrase []byte,
	before *trust.SiteKey) (*trust.SiteKey, error) {
	newKey := s.cfg.NewKey
	if newKey == nil {
		newKey = trust.NewKey
	}
	k, err := newKey("Stockade site key", comment, "", s.now)
	if err == nil && before != nil {
		err = before.Certify(k)
	}
	if err != nil {
		return nil, err
	}
	locked, err := k.Locked(passphrase)
	if err != nil {
		return nil, fmt.Errorf("lock the site key: %w", err)
	}
	if err := writeSecret(file, string(locked)); err != nil {
		return nil, fmt.Errorf("keep the site key: %w", err)
	}
	return k, nil
}

// readFormer reads the certificates of the keys that were retired, oldest first.
func (s *Service) readFormer() ([]*trust.Certificate, error) {
	names, err := filepath.Glob(filepath.Join(s.formerKeys(), "*.asc"))
	if err != nil {
		return nil, err
	}
	number := func(name string) int {
		n, _, _ := strings.Cut(filepath.Base(name), "-")
		i, _ := strconv.Atoi(n)
		return i
	}
	slices.SortFunc(names, func(a, b string) int { return number(a) - number(b) })
	var out []*trust.Certificate
	for _, name := range names {
		raw, err := os.ReadFile(name)
		if err != nil {
			return nil, finding.Doing(err, "read a former site key")
		}
		certs, err := trust.ReadCertificates(raw)
		if err != nil || len(certs) != 1 {
			return nil, finding.New(finding.SiteLost, "data folder "+s.cfg.Data,
				"the certificate of a former site key, %s, cannot be read: %v", name, err).
				Do("restore the file from your last backup of the folder")
		}
		out = append(out, certs[0])
	}
	return out, nil
}

// keepFormer keeps the certificate of the key that is about to be retired.
func (s *Service) keepFormer(c *trust.Certificate, number int) error {
	folder := s.formerKeys()
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return finding.Doing(err, "keep the certificate of the old site key")
	}
	name := filepath.Join(folder, fmt.Sprintf("%d-%s.asc", number, c.Fingerprint))
	if err := disk.Replace(disk.OS, name, []byte(c.Armoured()), 0o600); err != nil {
		return finding.Doing(err, "keep the certificate of the old site key")
	}
	return finding.Doing(disk.Sync(disk.OS, filepath.Dir(folder)),
		"keep the certificate of the old site key")
}

// settleSiteKeys makes the files of the keys what the journal says of them: a renewal or
// a retirement that was cut short is gone through with, or was none.
func (s *Service) settleSiteKeys() error {
	keys := s.site.Load()
	now, err := s.ledger.read(s.db, s.keys)
	if err != nil || now.broken != nil {
		return err
	}
	main := keys.main.Certificate()
	settled := *keys
	// A certificate that was kept for a retirement that no entry tells.
	if n := len(keys.former); n > 0 && keys.former[n-1].Fingerprint == main.Fingerprint &&
		now.site.retired != main.Fingerprint {
		settled.former = keys.former[:n-1]
	}
	if keys.next != nil {
		next := keys.next.Certificate().Fingerprint
		switch {
		case now.site.next == next:
		case now.site.retired == main.Fingerprint && now.site.main == next:
			if err := s.dropOldKey(); err != nil {
				return err
			}
			settled.main, settled.next = keys.next, nil
		default:
			s.log.Warn("an unfinished renewal of the site key was discarded",
				"key", next)
			if err := os.Remove(s.nextKeyFile()); err != nil {
				return finding.Doing(err, "remove the files of an unfinished renewal")
			}
			settled.next = nil
		}
	}
	s.site.Store(&settled)
	return s.sealByAll()
}

// dropOldKey puts the next key in the place of the one that is retired.
func (s *Service) dropOldKey() error {
	err := os.Rename(s.nextKeyFile(), s.siteKeyFile())
	if err == nil {
		err = disk.Sync(disk.OS, filepath.Dir(s.siteKeyFile()))
	}
	return finding.Doing(err, "replace the site key with the new one")
}
