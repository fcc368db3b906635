package finding

import "strings"

// Way is what can be done about a finding by a call of the service, where it is one thing: a
// console shows it as a button. Of is the object that it is done to.
type Way struct {
	Does     string `json:"does"`               // Vouch, Build, …
	Of       string `json:"of"`                 // such as "mirror barrage"
	Upstream string `json:"upstream,omitempty"` // of Last: its address
	Source   string `json:"source,omitempty"`   // of Add: its name
}

// What can be done.
const (
	Vouch   = "vouch"   // compare the fingerprint of a key that a source names, and vouch for it
	Last    = "last"    // put an upstream behind the others of its source
	Refresh = "refresh" // ask the upstreams of a source
	Probe   = "probe"   // measure them
	Build   = "build"   // build a mirror
	Sweep   = "sweep"   // free space in the pool
	Add     = "add"     // describe a mirror as one that takes from a source, too
)

// ways are what is done about codes, of objects of a kind.
var ways = map[Code]struct{ does, kind string }{
	// key.unvouched of a package is no reason to vouch for the key: only what a source names is
	SourceNeverAccepted: {Refresh, "source"},
	SourceStale:         {Refresh, "source"},
	SourceExpiredIndex:  {Refresh, "source"},
	MirrorWillNotFit:    {Sweep, "mirror"},
}

// wayOf gives what is done about a code; nothing where that is not one thing.
func wayOf(code Code, object string) Way {
	w, ok := ways[code]
	if kind, _, _ := strings.Cut(object, " "); !ok || kind != w.kind {
		return Way{}
	}
	if w.does == Sweep {
		object = "pool"
	}
	return Way{Does: w.does, Of: object}
}

// By returns f with what can be done about it.
func (f Finding) By(does, of string) Finding { f.Way = Way{Does: does, Of: of}; return f }

// Adding returns f with a source that a mirror can take from, too.
func (f Finding) Adding(source, mirror string) Finding {
	f.Way = Way{Does: Add, Of: mirror, Source: source}
	return f
}

// OfUpstream returns f as one about an upstream of its source, which can be put last.
func (f Finding) OfUpstream(address string) Finding {
	f.Way = Way{Does: Last, Of: f.Object, Upstream: address}
	return f
}
