// Package api is what goes over the wire between the service and its clients:
// the types of requests and answers, and the one table of routes from which the
// service registers, the OpenAPI document is written and the tests walk.
package api

import (
	"encoding/json"
	"time"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/journal"
	"stockade/core/machine"
	"stockade/core/mirror"
	"stockade/core/trust"
	"stockade/core/upstream"
)

// Roles, each of which may do what those before it may.
const (
	Open     = "" // no token needed
	Viewer   = "viewer"
	Operator = "operator"
	Warden   = "warden"
)

// Titles of problems that have no title of their own: what is wrong is in the detail.
const (
	NotFound = "Not found"
	Rejected = "Rejected"
	Broken   = "Failed"
)

// Problem is an error answer (RFC 9457).
type Problem struct {
	Type     string       `json:"type"`   // urn:stockade:CODE
	Title    string       `json:"title"`  // what failed
	Status   int          `json:"status"` //
	Detail   string       `json:"detail"` // the cause, in one sentence
	Object   string       `json:"object,omitempty"`
	WayOut   string       `json:"way_out,omitempty"`
	Findings finding.List `json:"findings,omitempty"`
}

func (p *Problem) Error() string {
	s := p.Title
	if p.Detail != "" {
		s += ": " + p.Detail
	}
	return s
}

// About tells what service answers.
type About struct {
	Version    string `json:"version"`
	SiteKey    string `json:"site_key"`     // fingerprint
	Packages   string `json:"packages_url"` // where machines find packages
	Definition int    `json:"definition"`   // version of the definition language
}

// Site tells of the site and its keys.
type Site struct {
	Version  string    `json:"version"`
	Packages string    `json:"packages_url"` // where machines find packages
	Keys     []SiteKey `json:"keys"`         // the one that signs first before the others
	Renewal  *Renewal  `json:"renewal,omitempty"`
	// Resting are the lanes whose edition machines can check with the older key alone.
	Resting       []Resting    `json:"resting"`
	HousePackages int          `json:"house_packages"` // of house sources
	Paired        []Paired     `json:"paired"`
	TwoPersons    []string     `json:"two_persons"` // standings for which two wardens vouch; site: all
	Findings      finding.List `json:"findings"`
}

// Paired is another site, whose statements about keys can be taken for evidence.
type Paired struct {
	Name        string    `json:"name"`
	Fingerprint string    `json:"fingerprint"` // of its key
	UserID      string    `json:"user_id"`
	Evidence    string    `json:"evidence"`
	By          string    `json:"by"`
	At          time.Time `json:"at"`
	Waiting     bool      `json:"waiting"`          // for a second warden
	Barred      string    `json:"barred,omitempty"` // why
	// Stated is the date of the newest statement of it that was taken.
	Stated time.Time `json:"stated,omitzero"`
}

// Pair pairs another site.
type Pair struct {
	Name string `json:"name"`
	// Data is its key, or a statement that it made; base64 on the wire.
	Data        []byte `json:"data"`
	Fingerprint string `json:"fingerprint"` // of its key: the whole one, as its wardens told it
	Evidence    string `json:"evidence"`
}

// StatementTaken asks what a statement of a paired site would come to, or takes it.
type StatementTaken struct {
	Data []byte `json:"data"` // base64 on the wire
	Look bool   `json:"look,omitempty"`
	// Sources are those that are vouched for; all that can be if none is named.
	Sources []string `json:"sources,omitempty"`
}

// Statement is what a statement of a paired site comes to here.
type Statement struct {
	Site        string             `json:"site"` // its name here
	Fingerprint string             `json:"fingerprint"`
	At          time.Time          `json:"at"`
	Vouches     []trust.Considered `json:"vouches"`
	Bars        []trust.StatedBar  `json:"bars"`
	Findings    finding.List       `json:"findings"`
}

// SiteKey is one of the keys of the site.
type SiteKey struct {
	Fingerprint string    `json:"fingerprint"`
	UserID      string    `json:"user_id"`
	Created     time.Time `json:"created"`
	State       string    `json:"state" enum:"signs,follows,former"`
}

// The states of a site key.
const (
	SiteKeySigns  = "signs"
	SiteKeyNext   = "follows" // signs beside the older one, until that is retired
	SiteKeyFormer = "former"
)

// Renewal tells since when, and until when, the site signs with two keys.
type Renewal struct {
	Since  time.Time `json:"since"`
	Until  time.Time `json:"until"`
	By     string    `json:"by"`
	Reason string    `json:"reason"`
}

// Resting is a lane whose edition has sources that the older key alone signed.
type Resting struct {
	Lane    string   `json:"lane"`
	Edition string   `json:"edition"`
	Sources []string `json:"sources"`
	Groups  []string `json:"groups"` // that follow the lane
}

// Renew asks for a new site key.
type Renew struct {
	For    string `json:"for,omitempty"` // how long both sign, such as 90d; 90d if left out
	Reason string `json:"reason"`
}

// Retire asks for the end of the older site key.
type Retire struct {
	Fingerprint string `json:"fingerprint"` // of the key to be retired, whole
	Reason      string `json:"reason"`
}

// Who tells whose token was given.
type Who struct {
	Account string `json:"account"`
	Role    string `json:"role"`
	// Needs has the calls that are not this account's to make, with the role that each needs.
	Needs map[string]string `json:"needs"`
	// Journal is what contradicts the journal, as of the last minute: every page shows it.
	Journal finding.List `json:"journal"`
}

// Documents are definitions to be checked, compared or recorded.
type Documents struct {
	Documents []definition.Text `json:"documents"`
	Files     map[string][]byte `json:"files,omitempty"` // key files by path, base64
	// the documents are all there is: what they lack is removed
	Whole   bool   `json:"whole,omitempty"`
	Summary string `json:"summary,omitempty"`
}

// Ordering says how the upstreams of a source shall stand after its last probe.
type Ordering struct {
	upstream.Ordering
	// Last puts this upstream behind the others, and leaves these as they are; no probe is needed.
	Last string `json:"last,omitempty"`
	Look bool   `json:"look,omitempty"` // only say what it would change
}

// Probing are the further servers that a probe measures beside those that are described.
type Probing struct {
	// Candidates is a file that names them, base64: a Metalink, a list in the form of the family's
	// clients, or an address on each line with its region behind it.
	Candidates []byte `json:"candidates,omitempty"`
}

// AmendAsked asks for one change to a mirror or a group.
type AmendAsked struct {
	definition.Amendment
	Look bool `json:"look,omitempty"` // only say what it would change
}

// RenameAsked asks to give what is described another name.
type RenameAsked struct {
	Kind string `json:"kind"`
	Name string `json:"name"`
	To   string `json:"to"`
	Look bool   `json:"look,omitempty"` // only say what it would change
}

// Begun are documents that somebody is writing, and the revision at which they began.
type Begun struct {
	Documents
	Since int64 `json:"since"` // the number that the ETag of the description had; 0: before the first
	// Choices say for objects ("source tarn") what the documents should say of them: theirs, or
	// merged.
	Choices map[string]Choice `json:"choices,omitempty"`
}

// Choice is what becomes of an object that two people changed.
type Choice string

// The choices.
const (
	Mine   Choice = "mine"
	Theirs Choice = "theirs"
	Merged Choice = "merged"
)

// Values lists the choices, for the document of the API.
func (Choice) Values() []string { return []string{string(Mine), string(Theirs), string(Merged)} }

// Crossed is what others recorded meanwhile.
type Crossed struct {
	ETag      string                `json:"etag"` // of the description now
	Revisions []Revision            `json:"revisions"`
	Objects   []definition.Crossing `json:"objects"`
	Documents []definition.Text     `json:"documents"` // as they were, with what was chosen
}

// Judgement is what a check, a comparison or a recording came to.
type Judgement struct {
	Findings finding.List        `json:"findings"`
	Changes  []definition.Change `json:"changes"`
	// Recordable tells that there is something to record, and that no finding keeps it from
	// being recorded. Whether the account may is another matter.
	Recordable bool       `json:"recordable"`
	Vouches    []Vouching `json:"vouches"` // decisions about keys that it contains
	// Losses are the things that it takes away or out of use, with what stands on each.
	Losses []definition.Loss `json:"losses"`
	// certificates that are there, and that its files say more of
	Renewed  []Renewed `json:"renewed"`
	Revision int64     `json:"revision,omitempty"`
}

// Restore says what of a revision is restored.
type Restore struct {
	Object string `json:"object,omitempty"` // KIND/NAME; everything if empty
}

// Renewed is what a certificate gets from a new copy of it.
type Renewed struct {
	Key         string   `json:"key"` // its name in the definition
	Fingerprint string   `json:"fingerprint"`
	Changes     []string `json:"changes"`
}

// Vouching is a decision for a key.
type Vouching struct {
	Fingerprint string `json:"fingerprint"`
	Source      string `json:"source"`
	Evidence    string `json:"evidence"`
}

// Text is a document as text.
type Text struct {
	Text string `json:"text"`
}

// Names are the names that a definition can use, by the kind of what they name: those of
// definition.Kinds, and family.
type Names struct {
	Names map[string][]string `json:"names"`
}

// Source is a source with what is known of it.
type Source struct {
	Name string `json:"name"`
	definition.Source
	// Managed tells that it has no upstreams: it holds what is added to it by hand.
	Managed  bool                   `json:"managed"`
	Accepted *upstream.Accepted     `json:"accepted,omitempty"`
	Checked  time.Time              `json:"checked,omitzero"` // last asked
	Probes   []upstream.ProbeResult `json:"probes,omitempty"`
	Findings finding.List           `json:"findings"`
	Mirrors  []string               `json:"mirrors"`
	Text     string                 `json:"text,omitempty"` // the definition as a document
}

// Dependents is what stands on something that is described.
type Dependents struct {
	Kind string `json:"kind"`
	Name string `json:"name"`
	definition.Dependents
	Editions []string `json:"editions"` // have something of it, MIRROR/N, and stay as they are
	Unread   []string `json:"unread"`   // editions that cannot be read, so that nobody knows
}

// Signed is what a key has signed here, and what would stop without it.
type Signed struct {
	Fingerprint string           `json:"fingerprint"`
	Roots       []SignedRoot     `json:"roots"`
	Packages    []SignedPackages `json:"packages"` // in editions that stand
	Unread      []string         `json:"unread"`   // editions that cannot be read, so that nobody knows
	// Stops is what stands on sources for which no other key counts.
	Stops definition.Dependents `json:"stops"`
}

// SignedRoot is a root of a source.
type SignedRoot struct {
	Source  string    `json:"source"`
	Edition string    `json:"edition,omitempty"` // that was made from it; empty: the one accepted last
	Date    time.Time `json:"date"`              // as the root says it
	At      time.Time `json:"at"`                // when it was signed
}

// SignedPackages counts packages that carry a signature of their own.
type SignedPackages struct {
	Edition  string `json:"edition"`
	Source   string `json:"source"`
	Packages int    `json:"packages"`
}

// Octets is a request whose body is a file as it is.
type Octets []byte

// NewPackage is what is said about a package that is added by hand.
type NewPackage struct {
	From, Why string
	Signature []byte // detached, that came with the file
}

// HousePackage is a package of a house source.
type HousePackage struct {
	ID string `json:"id"`
	definition.Package
	Findings finding.List `json:"findings"` // when it is added
	Revision int64        `json:"revision,omitempty"`
}

// EditionAdvisory is an advisory about packages of an edition.
type EditionAdvisory = edition.Advisory

// Key is a certificate with the decisions about it.
type Key struct {
	trust.Certificate
	Names    []string     `json:"names"`            // in definitions
	Site     bool         `json:"site"`             // the site's own
	Former   bool         `json:"former,omitempty"` // the site's own, until it was renewed
	Added    time.Time    `json:"added,omitzero"`
	AddedBy  string       `json:"added_by,omitempty"`
	Vouched  []Vouched    `json:"vouched"`
	Waiting  []Vouched    `json:"waiting"` // that a first warden made, and that count when a second does
	Barred   *Barred      `json:"barred,omitempty"`
	NeededBy []string     `json:"needed_by"` // sources that name it
	Findings finding.List `json:"findings"`
	Armoured string       `json:"armoured,omitempty"`
	Retired  bool         `json:"retired,omitempty"` // put away: it decides nothing
	Idle     bool         `json:"idle"`              // it decides nothing, and can be put away
	History  []KeyStep    `json:"history"`           // what was done about it, oldest first
	RestsOn  []string     `json:"rests_on"`          // editions that stand on its signatures, MIRROR/N
	Lanes    []string     `json:"lanes"`             // that show one of them
}

// KeyStep is one thing that was done about a key.
type KeyStep struct {
	At     time.Time `json:"at"`
	By     string    `json:"by"`
	Action string    `json:"action"` // as the journal has it
	Source string    `json:"source,omitempty"`
	Text   string    `json:"text,omitempty"` // evidence or reason
}

// Vouched is a recorded decision for a key, of one warden or of two.
type Vouched struct {
	Source   string    `json:"source"`
	Evidence string    `json:"evidence"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
}

// Barred is a recorded decision against a key.
type Barred struct {
	Reason string    `json:"reason"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
}

// KeyData is a file of certificates.
type KeyData struct {
	Data []byte `json:"data"` // armoured or binary; base64 on the wire
}

// Decision vouches for a key or bars it.
type Decision struct {
	Fingerprint string `json:"fingerprint"` // the whole one, typed again
	Source      string `json:"source,omitempty"`
	// Sources are further ones: all are vouched for, or none.
	Sources  []string `json:"sources,omitempty"`
	Evidence string   `json:"evidence,omitempty"`
	Reason   string   `json:"reason,omitempty"`
}

// Reasons are why a package is in an edition: itself first, then what it is there for, and so
// on to what is wanted by name.
type Reasons struct {
	Chain []edition.Item `json:"chain"`
}

// WhereAsked asks which sources have packages of a name.
type WhereAsked struct {
	Name string `json:"name"`
}

// PreviewAsked asks what a build would change.
type PreviewAsked struct {
	Against string `json:"against,omitempty"` // MIRROR/N, or N; the newest that stands if empty
	Lane    string `json:"lane,omitempty"`    // or what this lane shows
}

// ProofAsked says what shall be proved; nothing: that all that is wanted can be installed.
type ProofAsked struct {
	Every bool   `json:"every,omitempty"` // of every package that is taken, and not of what is wanted alone
	For   string `json:"for,omitempty"`   // the name of a package of which the whole way to install it is told
}

// Mirror is a mirror with what is known of it.
type Mirror struct {
	Name string `json:"name"`
	definition.Mirror
	Editions []Edition    `json:"editions"`
	Lanes    []string     `json:"lanes"`
	Findings finding.List `json:"findings"` // of the last build or estimate
	Checked  time.Time    `json:"checked,omitzero"`
	Job      int64        `json:"job,omitempty"` // that runs now
}

// Edition is one line of a list of editions.
type Edition struct {
	Name     string    `json:"name"`
	Mirror   string    `json:"mirror"`
	Number   int       `json:"number"`
	Created  time.Time `json:"created"`
	Copy     string    `json:"copy"`
	Packages int       `json:"packages"`
	Files    int       `json:"files"`
	Bytes    int64     `json:"bytes"`
	Lanes    []string  `json:"lanes"`
}

// PoolUsage is what uses the disk.
type PoolUsage struct {
	Total Space `json:"total"` // all of the pool
	// what no edition holds and nothing builds on: a sweep removes it
	Unheld   Space          `json:"unheld"`
	Aside    Space          `json:"aside"`    // what was found damaged: a sweep removes it
	Free     int64          `json:"free"`     // bytes that can still be stored
	Editions []EditionSpace `json:"editions"` // those that are not retired, by mirror, newest first
}

// Space is how much lies somewhere.
type Space struct {
	Files int   `json:"files"`
	Bytes int64 `json:"bytes"`
}

// EditionSpace is what one edition holds.
type EditionSpace struct {
	Name  string   `json:"name"`
	Held  Space    `json:"held"`  // each file once, as often as the edition may show it
	Alone Space    `json:"alone"` // what nothing else holds: retiring it and a sweep would free this
	Lanes []string `json:"lanes"`
	// Until is when a retired edition goes with a sweep: machines that began with it while a lane showed it
	// are given its files until then.
	Until *time.Time `json:"until,omitempty"`
}

// EditionDetail is all of one edition but its packages.
type EditionDetail struct {
	Edition
	Seal    edition.Edition `json:"seal"`
	Sealed  bool            `json:"sealed"`  // the seal holds
	Checked time.Time       `json:"checked"` // when the seal was checked: for this answer
	Problem string          `json:"problem,omitempty"`
}

// JournalHead is a signed head of the journal (C2SP tlog-checkpoint), with the public key
// that checks it.
type JournalHead struct {
	Head    string `json:"head"` // empty: nothing was journalled yet
	Key     string `json:"key"`
	Entries int64  `json:"entries"`
}

// KeptHead is a signed head that was kept elsewhere.
type KeptHead struct {
	Head string `json:"head"`
}

// Chain is what stands behind one package of an edition.
type Chain struct {
	edition.Chain
	// Since tells what was decided about the key, or the journal, after the edition was
	// sealed; empty: nothing that speaks against it.
	Since string `json:"since,omitempty"`
}

// Manifest is an edition's manifest and seal as they stand on disk.
type Manifest struct {
	Manifest []byte `json:"manifest"`
	Seal     []byte `json:"seal"`
}

// Move sends a lane to an edition.
type Move struct {
	Edition string `json:"edition,omitempty"` // MIRROR/N or N
	Reason  string `json:"reason,omitempty"`
}

// Lane is a lane with where it points.
type Lane struct {
	Name    string `json:"name"`
	Mirror  string `json:"mirror"`
	Edition string `json:"edition"` // empty: nowhere yet
	Newest  string `json:"newest"`  // of its mirror; empty: none was made yet
	Back    string `json:"back"`    // where one step back leads; empty: nowhere
	URL     string `json:"url"`
	History []Step `json:"history"`
	// Groups follow the lane.
	Groups   []string     `json:"groups"`
	Findings finding.List `json:"findings"`
}

// Difference is a page of what changed from one edition to another.
type Difference struct {
	Items    []Change        `json:"items"`
	Next     string          `json:"next,omitempty"`
	Against  string          `json:"against"`  // the older edition
	Summary  edition.Summary `json:"summary"`  // of all of it
	Matching int             `json:"matching"` // how many the filter leaves
}

// LaneDifference is what machines would see change if a lane showed another edition.
type LaneDifference struct {
	From   string            `json:"from"` // empty: it shows nothing
	To     string            `json:"to"`
	Groups []GroupDifference `json:"groups"` // those that follow
	// Findings tell what machines make of it, such as that they do not take older lists.
	Findings finding.List `json:"findings"`
}

// GroupDifference is what the machines of one group would see change.
type GroupDifference struct {
	Group         string               `json:"group"`
	Architectures []string             `json:"architectures"`
	Pins          []string             `json:"pins"`
	Summary       edition.Summary      `json:"summary"`
	Items         []machine.SeenChange `json:"items"` // what matters first; 200 at most
	// Blind tells why its machines would see nothing; empty: they see something.
	Blind string `json:"blind,omitempty"`
}

// Step is one move of a lane.
type Step struct {
	Edition string    `json:"edition"`
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	Reason  string    `json:"reason"`
	Back    bool      `json:"back"`
}

// Group is a group with its lane's state.
type Group struct {
	Name string `json:"name"`
	definition.Group
	Edition  string       `json:"edition"`
	Findings finding.List `json:"findings"`
}

// Machine is a machine of a group, with what came of comparing what it has installed with what
// its view offers.
type Machine struct {
	Name       string     `json:"name"`
	Group      string     `json:"group"`
	Note       string     `json:"note"`
	Lane       string     `json:"lane"`
	Edition    string     `json:"edition"` // that the lane shows now
	Enrolled   time.Time  `json:"enrolled"`
	By         string     `json:"by"`
	Reported   *time.Time `json:"reported"` // when it had what its list says; null: it never reported
	ReportedBy string     `json:"reported_by"`
	// Against is the edition that its list was compared with last; Compared tells that this is what
	// its lane shows now, and the list is the newest.
	Against  string `json:"against"`
	Compared bool   `json:"compared"`
	Problem  string `json:"problem,omitempty"` // why it could not be compared
	// Prints is the command that prints what it has installed, on the machine.
	Prints string `json:"prints,omitempty"`
	// Without the items, where machines are listed.
	machine.Comparison
	Findings finding.List `json:"findings"`
}

// Machines are a part of the machines that were asked for, and counts of all of them by group.
type Machines struct {
	Items    []Machine       `json:"items"`
	Next     string          `json:"next,omitempty"`
	Matching int64           `json:"matching"` // of all parts
	Groups   []GroupMachines `json:"groups"`   // of all machines, whatever was asked for
}

// GroupMachines counts the machines of a group.
type GroupMachines struct {
	Group    string `json:"group,omitempty"`
	Machines int    `json:"machines"`
	Reported int    `json:"reported"`
	Compared int    `json:"compared"` // with something; the counts are of these
	Behind   int    `json:"behind"`
	Security int    `json:"security"`
	Ahead    int    `json:"ahead"`
	Held     int    `json:"held"`
	Stranded int    `json:"stranded"`
	Unknown  int    `json:"unknown"` // not wholly compared
	// Unsure are those of which nothing tells whether security updates wait.
	Unsure int `json:"security_unknown"`
}

// Add counts further machines in.
func (g *GroupMachines) Add(more GroupMachines) {
	g.Machines += more.Machines
	g.Reported += more.Reported
	g.Compared += more.Compared
	g.Behind += more.Behind
	g.Security += more.Security
	g.Ahead += more.Ahead
	g.Held += more.Held
	g.Stranded += more.Stranded
	g.Unknown += more.Unknown
	g.Unsure += more.Unsure
}

// LaneMachines counts the machines whose groups follow a lane.
type LaneMachines struct {
	Lane    string `json:"lane"`
	Edition string `json:"edition"` // that it shows
	GroupMachines
}

// Enrolling puts machines into a group.
type Enrolling struct {
	Names []string `json:"names"`
	Group string   `json:"group"`
	Note  string   `json:"note,omitempty"`
}

// MachineChange is what people say of a machine.
type MachineChange struct {
	Group string `json:"group"`
	Note  string `json:"note"`
}

// Reporting is what a machine has installed, as the program of its family prints it.
type Reporting struct {
	Installed string `json:"installed"`
	// At is when the machine had that; now if left out.
	At time.Time `json:"at,omitzero"`
}

// Files are a machine's files.
type Files struct {
	Group    string       `json:"group"`
	At       string       `json:"at"`
	Edition  string       `json:"edition"`
	Files    []File       `json:"files"`
	Findings finding.List `json:"findings"`
	// Beside is what lies beside an export with them, where that was asked for.
	Beside *Beside `json:"beside,omitempty"`
}

// Beside is what lies beside an export: a script that checks it, and the check sums of the script and of
// the files for machines, with the site's signature.
type Beside struct {
	Check   []byte `json:"check"`
	Sums    []byte `json:"sums"`
	Seal    []byte `json:"seal"`
	Keyring []byte `json:"keyring"` // the site's keys, binary, for gpgv(1)
}

// File is one of them.
type File struct {
	Path string `json:"path"`
	Mode uint32 `json:"mode"`
	Data []byte `json:"data"`
}

// JobState is where a job stands.
type JobState string

// The states of a job. All but Running are final.
const (
	Running     JobState = "running"
	Done        JobState = "done"
	Failed      JobState = "failed"      // its problem says why
	Stopped     JobState = "stopped"     // by a person
	Interrupted JobState = "interrupted" // the service ended while it ran
)

// Values lists the states.
func (JobState) Values() []string {
	return []string{string(Running), string(Done), string(Failed), string(Stopped), string(Interrupted)}
}

// Job is a piece of work.
type Job struct {
	ID       int64           `json:"id"`
	Kind     string          `json:"kind"`
	Object   string          `json:"object"`
	State    JobState        `json:"state"`
	By       string          `json:"by"`
	Started  time.Time       `json:"started"`
	Ended    *time.Time      `json:"ended,omitempty"`
	Progress upstream.Event  `json:"progress"`
	Problem  string          `json:"problem,omitempty"`
	Findings finding.List    `json:"findings"`
	Result   json.RawMessage `json:"result,omitempty"`
}

// JobEvent is what the event stream of a job sends.
type JobEvent struct {
	Progress *upstream.Event `json:"progress,omitempty"`
	Job      *Job            `json:"job,omitempty"` // at the end
}

// Subject is what a change is of. Calls whose answers do not depend on it need not be made again.
type Subject string

// What changes can be of.
const (
	OfDescription Subject = "description" // what is described, and its revisions
	OfKeys        Subject = "keys"        // certificates, decisions about them
	OfEditions    Subject = "editions"    // which exist, and what lanes show
	OfMachines    Subject = "machines"    // what they reported, and what came of comparing that
	OfChecks      Subject = "checks"      // what refreshing, probing, building and verifying found
	OfAccounts    Subject = "accounts"    // and tokens and credentials
	OfJournal     Subject = "journal"     // an entry was written
	OfPool        Subject = "pool"        // what it lacks
	OfSearch      Subject = "search"      // what the search index has
)

// Subjects are all of them.
var Subjects = []Subject{OfDescription, OfKeys, OfEditions, OfMachines, OfChecks, OfAccounts,
	OfJournal, OfPool, OfSearch}

// Values gives the subjects.
func (Subject) Values() (out []string) {
	for _, s := range Subjects {
		out = append(out, string(s))
	}
	return out
}

// News is what the stream of events sends: one of these, or nothing where it only says that
// it is still there.
type News struct {
	// Changed is what was recorded, or is otherwise than before.
	Changed  []Subject       `json:"changed,omitempty"`
	ID       int64           `json:"id,omitempty"` // of the job
	Progress *upstream.Event `json:"progress,omitempty"`
	Job      *Job            `json:"job,omitempty"` // it began or ended; without its result
}

// Refresh asks for a refresh.
type Refresh struct {
	AcceptOnce string `json:"accept_once,omitempty"` // the reason for which an older root is taken
}

// Revision is one change of what is described.
type Revision struct {
	ID      int64               `json:"id"`
	At      time.Time           `json:"at"`
	By      string              `json:"by"`
	Summary string              `json:"summary"`
	Changes []definition.Change `json:"changes"`
	Whole   string              `json:"whole,omitempty"`
}

// Account is somebody who may use the service.
type Account struct {
	Name     string    `json:"name"`
	Role     string    `json:"role"`
	Created  time.Time `json:"created"`
	Password bool      `json:"password"` // one was chosen; it is told nowhere
	Tokens   []Token   `json:"tokens"`
	Sessions []Session `json:"sessions"`
}

// Token is a secret of an account, without the secret.
type Token struct {
	ID      string     `json:"id"` // the beginning of its digest
	Name    string     `json:"name"`
	Created time.Time  `json:"created"`
	Ends    *time.Time `json:"ends,omitempty"` // nil: never
	Used    *time.Time `json:"used,omitempty"` // when it was last used
	Ended   bool       `json:"ended"`
}

// Session is a browser that is signed in.
type Session struct {
	ID      string    `json:"id"` // the beginning of its digest
	By      string    `json:"by"` // "password", or the token with its name
	From    string    `json:"from"`
	Agent   string    `json:"agent"` // what the browser calls itself
	Began   time.Time `json:"began"`
	Used    time.Time `json:"used"`
	Ends    time.Time `json:"ends"` // at the latest
	Current bool      `json:"current"`
}

// SignIn asks for a session: a token alone, or an account's name with its password.
type SignIn struct {
	Token    string `json:"token,omitempty"`
	Account  string `json:"account,omitempty"`
	Password string `json:"password,omitempty"`
}

// RoleGiven asks for another role of an account.
type RoleGiven struct {
	Role string `json:"role"`
}

// TokenAsked asks for a further token of an account.
type TokenAsked struct {
	Name string     `json:"name"`
	Ends *time.Time `json:"ends,omitempty"` // nil: never
}

// PasswordGiven asks for a password of one's own account; the one before is given too,
// where there is one and the call comes from a session that began with it.
type PasswordGiven struct {
	Before   string `json:"before,omitempty"`
	Password string `json:"password"`
}

// MachineFiles are a machine's own files, by their paths or names: those of its package
// clients with keyrings, or an archive of its /etc.
type MachineFiles struct {
	Files        map[string][]byte `json:"files"`
	Architecture string            `json:"architecture,omitempty"` // of sources that name none
}

// Imported is what such files are as a definition.
type Imported struct {
	Document string            `json:"document"`
	Files    map[string][]byte `json:"files"` // that the document names, to be given with it
	Sources  []string          `json:"sources"`
	Findings finding.List      `json:"findings"`
}

// Credential is what servers are shown, without its secret.
type Credential struct {
	Name     string       `json:"name"`
	Kind     string       `json:"kind"` // login, token or certificate
	User     string       `json:"user,omitempty"`
	Hosts    []string     `json:"hosts"`           // that it is described for
	Given    *time.Time   `json:"given,omitempty"` // when its secret was given
	By       string       `json:"by,omitempty"`    // by whom
	GivenFor []string     `json:"given_for"`       // the hosts that it was given for
	Until    *time.Time   `json:"until,omitempty"` // when a client certificate ends
	UsedBy   []string     `json:"used_by"`         // sources and proxies, as objects
	Findings finding.List `json:"findings"`
}

// Secret is what a credential says: a password, a token, or a client certificate with its
// key in PEM. No answer ever carries it.
type Secret struct {
	Secret string `json:"secret"`
}

// NewAccount asks for an account.
type NewAccount struct {
	Name string `json:"name"`
	Role string `json:"role"`
}

// NewToken is a token, told once.
type NewToken struct {
	Account string `json:"account"`
	Token   string `json:"token"`
}

// Overview is the two-minute look.
type Overview struct {
	// Looked says when what is said was last looked at: for the sources the oldest of
	// all that are enabled, zero if one was never asked.
	Looked Looked `json:"looked"`
	// First is the way from an empty service to a machine that installs, until the first files for
	// machines were taken.
	First []FirstStep `json:"first,omitempty"`
	// Needs is what needs attention, the worst first: findings that are alike are one line.
	Needs    []Alike `json:"needs"`
	Errors   int     `json:"errors"`   // how many findings that is
	Warnings int     `json:"warnings"` //
	Aside    int     `json:"aside"`    // how many findings were set aside
	// Since is what is new since a time that was asked for.
	Since     *Since             `json:"since,omitempty"`
	Jobs      []Job              `json:"jobs"`
	Sources   Some[SourceStrip]  `json:"sources"`
	Lanes     Some[LaneBrief]    `json:"lanes"`
	Editions  int                `json:"editions"`
	Machines  Some[LaneMachines] `json:"machines"` // of lanes that have some
	PoolFiles int                `json:"pool_files"`
	PoolBytes int64              `json:"pool_bytes"`
	FreeBytes int64              `json:"free_bytes"`
	Recent    []journal.Entry    `json:"recent"`
}

// Found is what a search gave.
type Found struct {
	Hits []Hit `json:"hits"` // eight of a kind at most
	// Unread is how many sources and editions have packages that the search index does not have.
	Unread int `json:"unread,omitempty"`
}

// NotIndexed is a source or an edition whose packages the search index does not have.
type NotIndexed struct {
	Object string `json:"object"` // "source tarn", "edition barrage/4"
	Why    string `json:"why"`
}

// FoundPackages are names of packages that fit a question, the best first.
type FoundPackages struct {
	Items  []FoundPackage   `json:"items"`
	More   bool             `json:"more"`           // there are further ones
	Near   string           `json:"near,omitempty"` // a name that may be meant, where none fits
	Unread Some[NotIndexed] `json:"unread"`         // of which it is not known; the first 20
}

// FoundPackage is a name with its packages.
type FoundPackage struct {
	Name string `json:"name"`
	// Match is how the name fits: exact, begins, contains, or said where the words stand in what is said
	// of it.
	Match   string `json:"match"`
	Summary string `json:"summary,omitempty"`
	Section string `json:"section,omitempty"`
	Origin  string `json:"origin,omitempty"` // the source package that it was built from
	Licence string `json:"licence,omitempty"`
	// Versions are those of sources of better priority first, of each source the newest first.
	Versions []FoundVersion `json:"versions"`
}

// FoundVersion is one package of a source.
type FoundVersion struct {
	Source   string   `json:"source"`
	Version  string   `json:"version"`
	Arch     string   `json:"architecture"`
	Size     int64    `json:"size"`
	Offered  bool     `json:"offered"`  // the source offered it when its metadata was last accepted
	Editions []string `json:"editions"` // that hold it, the newest of each mirror first; at most 20
	Lanes    []string `json:"lanes"`    // that show one of them
	// Main marks the versions that a short list has: the newest that the source offers for the
	// architecture, those that a lane shows, and all where there is no such version.
	Main bool `json:"main"`
}

// Hit is one thing that a search found.
type Hit struct {
	Kind string `json:"kind"` // source, mirror, lane, …, certificate, edition, package
	Name string `json:"name"`
	Text string `json:"text,omitempty"`
	To   string `json:"to"` // its page in the console
}

// Aside is a finding that somebody set aside until a date.
type Aside struct {
	Finding finding.Finding `json:"finding"`
	Until   time.Time       `json:"until"`
	Reason  string          `json:"reason"`
	By      string          `json:"by"`
	At      time.Time       `json:"at"`
}

// AsideAsked asks to set a finding aside: it is known by its object, code, cause and severity,
// and by its text, whatever numbers stand in that.
type AsideAsked struct {
	Object   string           `json:"object"`
	Code     finding.Code     `json:"code"`
	Cause    string           `json:"cause,omitempty"`
	Severity finding.Severity `json:"severity"`
	Text     string           `json:"text"`
	Until    time.Time        `json:"until"` // a year ahead at most
	Reason   string           `json:"reason"`
}

// Since is what happened since a time.
type Since struct {
	At       time.Time  `json:"at"`
	Roots    []NewRoot  `json:"roots"`    // accepted since
	Editions []string   `json:"editions"` // sealed since, those that stand
	Moves    []LaneMove `json:"moves"`
	Failures []Job      `json:"failures"` // jobs that failed or were interrupted
	Entries  int        `json:"entries"`  // of the journal; 1000 stand for more
}

// NewRoot is a root of a source that was accepted.
type NewRoot struct {
	Source string    `json:"source"`
	Date   time.Time `json:"date"` // that it has
	At     time.Time `json:"at"`
}

// LaneMove is a step of a lane.
type LaneMove struct {
	Lane string `json:"lane"`
	Step
}

// Visit is when an account looked at the console before.
type Visit struct {
	Since *time.Time `json:"since,omitempty"` // the end of its last visit; nil: this is the first
}

// Draft is what an account is describing: the service keeps it for them, encrypted.
type Draft struct {
	Documents []definition.Text `json:"documents"`
	Files     map[string][]byte `json:"files"`
	From      string            `json:"from"`    // what it was made of, in words
	Open      int               `json:"open"`    // the document that is looked at
	Since     string            `json:"since"`   // the ETag of the description when it was begun
	Version   int64             `json:"version"` // counts what was kept; 0: nothing was
	At        time.Time         `json:"at,omitzero"`
}

// FirstStep is a step of the way to the first machine.
type FirstStep struct {
	Step  string `json:"step"` // describe, key, vouch, probe, refresh, mirror, estimate, build, lane, machine
	Title string `json:"title"`
	Done  bool   `json:"done"`
	Text  string `json:"text"` // what came of it, or what it needs
	To    string `json:"to"`   // the page of the console where it is done
}

// Looked says when something was last looked at.
type Looked struct {
	Sources time.Time `json:"sources,omitzero"` // asked for their roots
	Journal time.Time `json:"journal,omitzero"` // compared with records and seals
}

// SourceStrip is one source on the overview: days on which a root was
// published that was accepted here.
type SourceStrip struct {
	Name     string    `json:"name"`
	Standing string    `json:"standing"`
	Disabled bool      `json:"disabled,omitempty"`
	RootDate time.Time `json:"root_date,omitzero"` // zero where nothing was accepted yet
	// Published is how many roots were published on each of the last 90 days; the last one is today
	// (UTC).
	Published []int  `json:"published"`
	Worst     string `json:"worst"` // severity, or empty
}

// LaneBrief is one lane on the overview.
type LaneBrief struct {
	Name    string   `json:"name"`
	Edition string   `json:"edition"` // empty: nowhere yet
	Newest  string   `json:"newest"`  // of its mirror; empty: none was made yet
	Groups  []string `json:"groups"`  // that follow it, three at most
	All     int      `json:"all"`     // how many groups follow it
	Worst   string   `json:"worst"`   // severity of what is found of it, or empty
}

// Some is what matters most of a list, and how long that is.
type Some[T any] struct {
	Items []T `json:"items"`
	All   int `json:"all"`
}

// Alike is findings of one severity, code and cause, about objects of one kind.
type Alike struct {
	Severity finding.Severity `json:"severity"`
	Code     finding.Code     `json:"code"`
	Cause    string           `json:"cause,omitempty"`
	Kind     string           `json:"kind"`    // of their objects, such as source
	Count    int              `json:"count"`   // how many they are
	Objects  int              `json:"objects"` // about how many
	Names    []string         `json:"names"`   // of those, three at most
	// Findings are all of them where they are three or fewer, and the first otherwise: the call findings has
	// the rest.
	Findings finding.List `json:"findings"`
}

// Told is what needs attention, and what of it was set aside.
type Told struct {
	NeedsYou finding.List `json:"needs_you"`
	// Aside is what somebody set aside: it is in NeedsYou again when that ends, or when it is
	// told of with another severity.
	Aside []Aside `json:"aside"`
}

// Page wraps a list with the cursor of what follows; empty: that was all.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty"`
}

// Aliases that keep the table of routes readable.
type (
	Item         = edition.Item
	Change       = edition.Change
	Outcome      = mirror.Outcome
	Preview      = mirror.Preview
	Examination  = upstream.Examination
	Where        = mirror.Where
	JournalEntry = journal.Entry
	Report       = journal.Report
	Signer       = archive.Signer
)

// Against is a head of the journal that was kept elsewhere, or the edition whose
// seal carries one; empty: those of all seals.
type Against struct {
	Against string `json:"against,omitempty"`
}
