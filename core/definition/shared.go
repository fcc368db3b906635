package definition

import (
	"maps"
	"net"
	"net/url"
	"slices"
	"strings"

	"stockade/core/finding"
)

// shared tells of keys that are vouched for, for sources of different owners: whoever holds
// such a key signs for all of them. An owner is told by standing and by the domain of servers,
// which is as near as a description comes to that.
func (c *checker) shared() {
	named := map[string][]string{} // sources, by the keys that they name
	for _, source := range slices.Sorted(maps.Keys(c.Sources)) {
		for _, name := range c.Sources[source].SignedBy {
			if all := named[name]; !c.Sources[source].Disabled && !slices.Contains(all, source) {
				named[name] = append(all, source)
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(c.Keys)) {
		by := slices.DeleteFunc(named[name], func(source string) bool { return !c.countsFor(name, source) })
		for i, one := range by {
			other := slices.IndexFunc(by[i+1:], func(source string) bool {
				return differ(c.Sources[one], c.Sources[source])
			})
			if other < 0 {
				continue
			}
			first, second := one, by[i+1+other]
			c.add(finding.KeyShared, "key "+name, "keys."+name,
				"the key is vouched for, for sources of different owners: %s (%s, %s) and %s "+
					"(%s, %s)", first,
				c.Sources[first].Standing, strings.Join(domains(c.Sources[first]), ", "), second,
				c.Sources[second].Standing, strings.Join(domains(c.Sources[second]), ", "))
			break
		}
	}
}

// countsFor tells whether a key was vouched for, for a source that names it.
func (c *checker) countsFor(name, source string) bool {
	if !slices.Contains(c.Sources[source].SignedBy, name) {
		return false
	}
	if c.around.Vouched == nil { // the words are all there is
		return slices.Contains(c.Keys[name].VouchedFor, source)
	}
	return slices.ContainsFunc(c.Keys[name].All(), func(f string) bool { return c.around.Vouched(f, source) })
}

// differ tells whether two sources are of different owners, as far as can be seen.
func differ(a, b Source) bool {
	if a.Standing != b.Standing {
		return true
	}
	ours, theirs := domains(a), domains(b)
	return len(ours) > 0 && len(theirs) > 0 &&
		!slices.ContainsFunc(ours, func(d string) bool { return slices.Contains(theirs, d) })
}

// domains gives the last two names of each server of a source; none of addresses.
func domains(s Source) (out []string) {
	for _, u := range s.Upstreams {
		address, _ := u.Address()
		parsed, err := url.Parse(address)
		if err != nil || parsed.Hostname() == "" || net.ParseIP(parsed.Hostname()) != nil {
			continue
		}
		names := strings.Split(strings.ToLower(strings.TrimSuffix(parsed.Hostname(), ".")), ".")
		domain := strings.Join(names[max(0, len(names)-2):], ".")
		if !slices.Contains(out, domain) {
			out = append(out, domain)
		}
	}
	return out
}
