package rpm

import (
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/archive/text"
)

// place is where an element belongs.
type place struct {
	depth   int      // 1: the root of what is walked
	parents []string // one of these is around it; none for the root
	once    bool     // below one parent
	holds   bool     // it has elements inside; the others have text alone
}

// places are the elements of one list that are read, by any reader. A client
// that looks for them elsewhere, or takes the other of two, would see something
// else than we do: an element that does not stand in its place is
// content.ambiguous. Elements that nobody knows are passed over.
type places map[string]place

// locals are the names without their prefixes, which some readers go by.
func (p places) locals() map[string]string {
	out := map[string]string{}
	for name := range p {
		out[local(name)] = name
	}
	return out
}

func local(name string) string { return name[strings.LastIndexByte(name, ':')+1:] }

// placed watches the elements of one walk.
type placed struct {
	places places
	local  map[string]string
	met    []string // the single elements that stood below the open ones, with a mark at each level
}

// check looks at the start of an element, before anything is read of it.
func (w *placed) check(path []string) error {
	name := path[len(path)-1]
	p, known := w.places[name]
	if !known {
		if other, like := w.local[local(name)]; like {
			return archive.Ambiguous("the element %q could be read as %q", text.Cut(name, 60), other)
		}
	} else if p.depth != len(path) || len(path) > 1 && !slices.Contains(p.parents, path[len(path)-2]) {
		return archive.Ambiguous("the element %q is below %s, where it is not allowed", name,
			strings.Join(path[:len(path)-1], "/"))
	}
	if len(path) > 1 {
		parent := path[len(path)-2]
		if around, ok := w.places[parent]; ok && !around.holds {
			return archive.Ambiguous("an element is inside %q, which contains only text", parent)
		}
	}
	if !known || !p.once {
		return nil
	}
	for i := len(w.met) - 1; i >= 0 && w.met[i] != ""; i-- {
		if w.met[i] == name {
			return archive.Ambiguous("the element %q occurs twice below %s", name,
				strings.Join(path[:len(path)-1], "/"))
		}
	}
	w.met = append(w.met, name)
	return nil
}

// walkPlaced is walk with every element looked at by where it stands.
func walkPlaced(data []byte, w *placed, open func(path []string, n *node) error,
	shut func(path []string, text []byte) error) error {
	w.met = w.met[:0]
	return walk(data, func(path []string, n *node) error {
		if err := w.check(path); err != nil {
			return err
		}
		w.met = append(w.met, "")
		if open == nil {
			return nil
		}
		return open(path, n)
	}, func(path []string, text []byte) error {
		w.met = w.met[:lastMark(w.met)]
		if shut == nil {
			return nil
		}
		return shut(path, text)
	})
}

// lastMark gives where the elements below the one that ends begin.
func lastMark(met []string) int {
	i := len(met) - 1
	for met[i] != "" {
		i--
	}
	return i
}

func newPlaced(p places) *placed { return &placed{places: p, local: p.locals()} }

// exact gives text that has no white space around it: some readers take it off,
// and others do not.
func exact(name string, text []byte) (string, error) {
	if s := string(text); s == strings.TrimSpace(s) {
		return s, nil
	}
	return "", archive.Ambiguous("the text of %q begins or ends with white space", name)
}

func single(depth int, parent string) place {
	return place{depth: depth, parents: []string{parent}, once: true}
}

func holder(depth int, once bool, parents ...string) place {
	return place{depth: depth, parents: parents, once: once, holds: true}
}

var relationLists = []string{"rpm:provides", "rpm:requires", "rpm:conflicts", "rpm:obsoletes",
	"rpm:recommends", "rpm:suggests", "rpm:supplements", "rpm:enhances"}

var primaryPlaces = func() places {
	p := places{"package": holder(1, false), "format": holder(2, true, "package"),
		"file": {depth: 3, parents: []string{"format"}}, "rpm:entry": {depth: 4, parents: relationLists}}
	for _, n := range strings.Fields(
		"name arch version checksum summary description packager url time size location") {
		p[n] = single(2, "package")
	}
	for _, n := range strings.Fields(
		"rpm:license rpm:vendor rpm:group rpm:buildhost rpm:sourcerpm rpm:header-range") {
		p[n] = single(3, "format")
	}
	for _, n := range relationLists {
		p[n] = holder(3, true, "format")
	}
	return p
}()

var rootPlaces = func() places {
	p := places{"repomd": holder(1, false), "tags": holder(2, true, "repomd"), "data": holder(2, false,
		"repomd"), "revision": single(2, "repomd"),
		"content": {depth: 3, parents: []string{"tags"}}, "repo": {depth: 3, parents: []string{"tags"}},
		"distro": {depth: 3, parents: []string{"tags"}}}
	for _, n := range strings.Fields(
		"checksum open-checksum header-checksum location timestamp size open-size header-size " +
			"database_version") {
		p[n] = single(3, "data")
	}
	return p
}()

var filesPlaces = places{
	"package": holder(1, false),
	"version": single(2, "package"),
	"file":    {depth: 2, parents: []string{"package"}},
}

var updatePlaces = func() places {
	p := places{"update": holder(1, false), "references": holder(2, true, "update"),
		"reference": {depth: 3, parents: []string{"references"}},
		"pkglist":   holder(2, true, "update"), "collection": holder(3, false, "pkglist"),
		"package": holder(4, false, "collection"),
		"module":  {depth: 4, parents: []string{"collection"}}, "filename": single(5, "package"),
		"sum": {depth: 5, parents: []string{"package"}}}
	for _, n := range strings.Fields(
		"id title issued updated severity release rights summary description solution") {
		p[n] = single(2, "update")
	}
	p["name"] = place{depth: 4, parents: []string{"collection"}, once: true}
	for _, n := range strings.Fields("reboot_suggested restart_suggested relogin_suggested") {
		p[n] = place{depth: 5, parents: []string{"package"}, once: true}
	}
	return p
}()

var groupPlaces = func() places {
	p := places{"comps": holder(1, false)}
	for _, n := range strings.Fields("group category environment") {
		p[n] = holder(2, false, "comps")
	}
	all := []string{"group", "category", "environment"}
	p["id"] = place{depth: 3, parents: all, once: true}
	p["packagelist"] = holder(3, true, "group")
	p["packagereq"] = place{depth: 4, parents: []string{"packagelist"}}
	p["grouplist"] = holder(3, true, "category", "environment")
	p["optionlist"] = holder(3, true, "environment")
	p["groupid"] = place{depth: 4, parents: []string{"grouplist", "optionlist"}}
	return p
}()
