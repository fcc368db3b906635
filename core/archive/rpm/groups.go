package rpm

import (
	"io"

	"stockade/core/archive"
	"stockade/core/finding"
)

// maxMemberships bounds the members of all groups of one list, those by way of environments
// among them.
const maxMemberships = 1 << 20

// GroupList implements archive.Grouped.
func (Family) GroupList(_ archive.Source, r *archive.Root) (archive.IndexFile, bool) {
	return fileOf(r, "group")
}

// ReadGroups implements archive.Grouped. What is mandatory or default in a group comes along; what
// is optional, and what is bound to another package, where that is asked for. An environment has
// what is in its groups; those of its options are optional.
func (Family) ReadGroups(plain io.Reader) (map[string][]archive.Membership, error) {
	data, err := io.ReadAll(plain)
	if err != nil {
		return nil, err
	}
	r := groupReader{members: map[string][]member{}}
	if err := walkPlaced(groupsType.ReplaceAll(data, nil), newPlaced(groupPlaces), r.open,
		r.shut); err != nil {
		return nil, err
	}
	return r.memberships()
}

// member is a package of a group, or a group of an environment.
type member struct {
	name     string
	optional bool
}

type groupReader struct {
	members      map[string][]member // of groups, by their ids
	environments []environment
	now          environment // that is being read, or the group
	optional     bool        // of the member that is being read
}

type environment struct {
	id      string
	members []member
}

func (r *groupReader) open(path []string, n *node) error {
	switch path[len(path)-1] {
	case "group", "environment":
		if len(path) == 2 {
			r.now = environment{}
		}
	case "packagereq":
		kind := n.attr("type")
		r.optional = kind != "mandatory" && kind != "default" && kind != ""
	case "groupid":
		r.optional = len(path) > 1 && path[len(path)-2] == "optionlist"
	}
	return nil
}

func (r *groupReader) shut(path []string, text []byte) error {
	if len(path) < 2 || path[1] != "group" && path[1] != "environment" {
		return nil
	}
	switch path[len(path)-1] {
	case "id":
		r.now.id = string(text)
	case "packagereq", "groupid":
		r.now.members = append(r.now.members, member{string(text), r.optional})
	case "group":
		r.members[r.now.id] = append(r.members[r.now.id], r.now.members...)
	case "environment":
		r.environments = append(r.environments, r.now)
	}
	return nil
}

// memberships turns it round.
func (r *groupReader) memberships() (map[string][]archive.Membership, error) {
	out := map[string][]archive.Membership{}
	n := 0
	put := func(name, group string, optional bool) error {
		if n++; n > maxMemberships {
			return finding.New(finding.ContentTooLarge, "", "the list of groups has more than %d members",
				maxMemberships)
		}
		for i, m := range out[name] {
			if m.Group == group {
				out[name][i].Optional = m.Optional && optional
				return nil
			}
		}
		out[name] = append(out[name], archive.Membership{Group: group, Optional: optional})
		return nil
	}
	for id, members := range r.members {
		for _, m := range members {
			if err := put(m.name, id, m.optional); err != nil {
				return nil, err
			}
		}
	}
	for _, e := range r.environments {
		for _, g := range e.members {
			for _, m := range r.members[g.name] {
				if err := put(m.name, e.id, m.optional || g.optional); err != nil {
					return nil, err
				}
			}
		}
	}
	return out, nil
}
