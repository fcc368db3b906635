package service

import (
	"errors"
	"maps"
	"net/url"
	"path"
	"slices"
	"strings"

	"stockade/core/definition"
	"stockade/core/mirror"
	"stockade/internal/store"
)

// A source that is taken out and described again, under this name or another, is
// the same repository: the root that was accepted of it last goes on guarding
// against older ones. identities are what it is known by: where it comes from,
// and the key, release and components that it has.
func identities(set *definition.Set, name string) (out []string) {
	src := set.Sources[name]
	for _, u := range src.Upstreams {
		address, _ := u.Address()
		if expanded, err := src.Expand(name, address); err == nil {
			out = append(out, strings.Join([]string{"at", src.Family, src.Release, plainAddress(expanded)},
				"|"))
		}
	}
	if src.Release != "" && len(src.Components) > 0 {
		for _, f := range named(set, name) {
			out = append(out,
				strings.Join([]string{"by", src.Family, src.Release,
					strings.Join(slices.Sorted(slices.Values(src.Components)), " "), f}, "|"))
		}
	}
	return out
}

// plainAddress writes an address as all spellings of it are written: without its
// scheme, user, default port and closing slash, the host in small letters.
func plainAddress(raw string) string {
	u, err := url.Parse(raw)
	if err != nil {
		return raw
	}
	host := strings.TrimSuffix(strings.ToLower(u.Hostname()), ".")
	if p := u.Port(); p != "" && !(u.Scheme == "http" && p == "80" || u.Scheme == "https" && p == "443") {
		host += ":" + p
	}
	return host + path.Clean("/"+u.Path)
}

// remember keeps what was accepted of a source that is taken out.
func (s *Service) remember(tx *store.DB, set *definition.Set, name string) error {
	var a mirror.Accepted
	if _, err := tx.Kept("accepted", name, &a); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		return err
	}
	for _, id := range identities(set, name) {
		if err := tx.Keep("remembered", id, a, s.now().UTC()); err != nil {
			return err
		}
	}
	return nil
}

// recall puts what was accepted of the same repository before in force for a
// source that is described anew.
func (s *Service) recall(tx *store.DB, set *definition.Set, name string) error {
	var newest *mirror.Accepted
	for _, id := range identities(set, name) {
		var a mirror.Accepted
		_, err := tx.Kept("remembered", id, &a)
		if err == nil && (newest == nil || a.Date.After(newest.Date)) {
			newest = &a
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	if newest == nil {
		return nil
	}
	newest.Source = name
	return tx.Keep("accepted", name, newest, s.now().UTC())
}

// endDecisions takes back the decisions for a source that is taken out: whoever
// describes it again needs a warden to decide again.
func (s *Service) endDecisions(tx *store.DB, t *trusted, source, by string, done map[decided]bool) error {
	for _, v := range t.vouches {
		id := decided{v.Fingerprint, v.Source}
		if v.Source != source || done[id] {
			continue
		}
		done[id] = true
		if err := tx.DropVouch(v.Fingerprint, v.Source); err != nil {
			return err
		}
		if err := s.write(tx, by, "key.withdraw", "key "+v.Fingerprint, map[string]string{"source": v.Source,
			"reason": "the source was taken out of the description"}); err != nil {
			return err
		}
	}
	return nil
}

// sourcesThat gives the names of the sources that a change adds or removes.
func sourcesThat(changes []definition.Change, action string) []string {
	names := map[string]bool{}
	for _, c := range changes {
		if c.Kind == "source" && c.Action == action {
			names[c.Name] = true
		}
	}
	return slices.Sorted(maps.Keys(names))
}
