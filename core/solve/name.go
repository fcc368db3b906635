package solve

import (
	"stockade/core/archive"
)

// name is one name, held once, with what goes by it.
type name struct {
	text     string
	real     []offer     // the packages that are called so
	provided []provision // those that provide it
}

// name gives the one of that text, made if there was none.
func (u *Universe) name(text string) *name {
	n := u.names[text]
	if n == nil {
		n = &name{text: text}
		u.names[text] = n
	}
	return n
}

// called gives the packages of a name.
func (u *Universe) called(text string) []offer {
	if n := u.names[text]; n != nil {
		return n.real
	}
	return nil
}

// relation is one relation, held once whoever has it, without its Not.
type relation struct {
	archive.Relation
	name   *name
	offers *offersOf // what meets it; nil: not worked out
	as     int       // the universe's state when that was worked out
}

// relationKey is all of a relation that decides what meets it.
type relationKey struct {
	name               *name
	qualifier, version string
	op                 archive.Op
	real               bool
	also               string
}

// relation gives the one relation that is like r, whether it is negated or not.
func (u *Universe) relation(r archive.Relation) *relation {
	r.Not = false
	key := relationKey{
		name: u.name(r.Name), qualifier: r.Qualifier, version: r.Version, op: r.Op, real: r.Real,
	}
	if len(r.Also) > 0 {
		u.key = u.key[:0]
		for _, a := range r.Also {
			u.key = append(appendKey(append(u.key, '('), a), ')')
		}
		key.also = string(u.key)
	}
	have := u.relations[key]
	if have == nil {
		have = &relation{Relation: r, name: key.name}
		u.relations[key] = have
	}
	return have
}

// appendKey writes all of a relation that decides what meets it.
func appendKey(to []byte, r archive.Relation) []byte {
	flags := byte('0')
	if r.Not {
		flags |= 1
	}
	if r.Real {
		flags |= 2
	}
	to = append(to, flags)
	for _, part := range []string{r.Name, r.Qualifier, string(r.Op), r.Version} {
		to = append(append(to, part...), 0)
	}
	for _, a := range r.Also {
		to = append(appendKey(append(to, '('), a), ')')
	}
	return to
}

// term is a relation, or that nothing meets it.
type term struct {
	*relation
	not bool
}

// needs are what a package asks of others.
type needs struct {
	requires, recommends, suggests [][]term
	conflicts, replaces            []*relation
	supplements, enhances          [][][]term
	err                            error // they cannot be read
}

// needsOf reads them, once for all views.
func (u *Universe) needsOf(p *archive.Package) *needs {
	if have := u.needs[p]; have != nil {
		return have
	}
	n := &needs{}
	u.needs[p] = n
	if p.Needs == nil {
		return n
	}
	rel, err := p.Needs.Relations()
	if err != nil {
		n.err = err
		return n
	}
	n.requires = u.terms(rel.Requires)
	n.recommends, n.suggests = u.terms(rel.Recommends), u.terms(rel.Suggests)
	for _, r := range rel.Conflicts {
		n.conflicts = append(n.conflicts, u.relation(r))
	}
	for _, r := range rel.Replaces {
		n.replaces = append(n.replaces, u.relation(r))
	}
	for _, all := range rel.Supplements {
		n.supplements = append(n.supplements, u.terms(all))
	}
	for _, all := range rel.Enhances {
		n.enhances = append(n.enhances, u.terms(all))
	}
	return n
}

func (u *Universe) terms(all []archive.Clause) [][]term {
	if len(all) == 0 {
		return nil
	}
	out := make([][]term, len(all))
	for i, c := range all {
		out[i] = make([]term, len(c))
		for k, r := range c {
			out[i][k] = term{u.relation(r), r.Not}
		}
	}
	return out
}
