package api

// Route is one call of the API.
type Route struct {
	Method, Path string
	Role         string
	Name         string // operationId, by which the service binds its handler
	Summary      string
	Query        []Parameter
	Request      any
	Response     any
	Stream       string // content type, where the answer is no JSON
}

// Parameter is one of a query string.
type Parameter struct{ Name, Summary string }

var (
	cursor = Parameter{"cursor", "where the page begins, as the page before it told"}
	limit  = Parameter{"limit", "how many at most; 100 if left out, 1000 at most"}
	search = Parameter{"q", "only what has this in its name or text"}
)

// Base is the path below which all routes lie.
const Base = "/api/v1"

// Routes is every call there is. Path variables are written {name}.
var Routes = []Route{
	{"GET", "/about", Open, "about", "Version, site key and where machines find packages", nil, nil, About{},
		""},
	{"GET", "/site", Viewer, "site", "The site, its keys, and what rests on an older one", nil, nil, Site{},
		""},
	{"POST", "/site/renew-key", Warden, "renewSiteKey",
		"Make the key that will follow the site key; both sign from now on", nil, Renew{}, Site{}, ""},
	{"POST", "/site/retire-key", Warden, "retireSiteKey",
		"End the older of the two site keys: the new one alone signs from now on", nil, Retire{}, Site{},
		""},
	{"POST", "/site/pair", Warden, "pair",
		"Record that a key is another site's: its statements about keys can be taken for evidence", nil,
		Pair{}, Site{}, ""},
	{"POST", "/site/statement", Warden, "statement", "State what was decided about keys here, signed", nil,
		nil, Text{}, ""},
	{"GET", "/openapi.json", Open, "openapi", "This description", nil, nil, nil, "application/json"},
	{"GET", "/whoami", Viewer, "whoami", "Whose token this is", nil, nil, Who{}, ""},
	{"GET", "/overview", Viewer, "overview", "What needs you, what runs, what is new", nil, nil, Overview{},
		""},

	{"GET", "/definitions", Viewer, "definitions", "Everything that is described, as one document", nil, nil,
		Text{}, ""},
	{"GET", "/definitions/schema", Open, "schema", "The JSON Schema of the definition language", nil, nil,
		nil, "application/schema+json"},
	{"GET", "/definitions/names", Viewer, "names", "The names of all that is described, and of the families",
		nil, nil, Names{}, ""},
	{"GET", "/definitions/{kind}/{name}", Viewer, "described",
		"One thing that is described, as a document of it alone", nil, nil, Text{}, ""},
	{"POST", "/definitions/check", Viewer, "check", "Check documents against what is recorded", nil,
		Documents{}, Judgement{}, ""},
	{"POST", "/definitions/import", Viewer, "import",
		"What a machine's own files are as a definition, and what is told of them; this changes nothing",
		nil,
		MachineFiles{}, Imported{}, ""},
	{"POST", "/definitions/compare", Viewer, "compare", "What recording documents would change", nil,
		Documents{}, Judgement{}, ""},
	{"POST", "/definitions/crossings", Viewer, "crossings",
		"What others recorded of the same objects since a revision, beside what documents say", nil,
		Begun{}, Crossed{}, ""},
	{"POST", "/definitions/record", Operator, "record", "Make that change, as one revision", nil,
		Documents{}, Judgement{}, ""},

	{"GET", "/dependents/{kind}/{name}", Viewer, "dependents",
		"What stands on something that is described", nil, nil, Dependents{}, ""},

	{"GET", "/sources", Viewer, "sources", "All sources", nil, nil, Page[Source]{}, ""},
	{"GET", "/sources/{name}", Viewer, "source", "One source, with its definition as text", nil, nil,
		Source{}, ""},
	{"POST", "/sources/{name}/refresh", Operator, "refresh", "Ask the upstreams for the root",
		nil, Refresh{}, Job{}, ""},
	{"POST", "/sources/{name}/examine", Operator, "examine",
		"Which certificates of a file signed the source's root; this decides nothing", nil, KeyData{}, Job{},
		""},
	{"POST", "/sources/{name}/probe", Operator, "probe", "Measure and compare every upstream", nil,
		Probing{}, Job{}, ""},
	{"POST", "/sources/{name}/order", Operator, "order",
		"Put the upstreams in the order of their last probe, the best first", nil, Ordering{},
		Judgement{}, ""},
	{"POST", "/sources/{name}/enable", Operator, "enable", "Use the source again", nil, nil, Judgement{},
		""},
	{"POST", "/sources/{name}/disable", Operator, "disable", "Stop using the source", nil, nil, Judgement{},
		""},
	{"DELETE", "/sources/{name}", Operator, "removeSource", "Take the source out of what is described",
		nil, nil, Judgement{}, ""},

	{"POST", "/sources/{name}/packages", Warden, "addPackage", "Add a package file to a house source",
		[]Parameter{{"from", "where the file came from"}, {"why", "what it is there for"}, {"signature",
			"the detached signature that came with it, in base64"}}, Octets{}, HousePackage{}, ""},
	{"POST", "/packages/where", Operator, "where",
		"Which sources have packages of a name, and which of them machines of each group would take", nil,
		WhereAsked{}, Job{}, ""},
	{"GET", "/packages", Viewer, "housePackages", "What house sources hold",
		[]Parameter{{"source", "only of this one"}}, nil, Page[HousePackage]{}, ""},
	{"DELETE", "/packages/{id}", Operator, "removePackage", "Take a package out of its house source",
		nil, nil, Judgement{}, ""},

	{"GET", "/keys", Viewer, "keys", "All certificates and the decisions about them",
		[]Parameter{{"retired", "yes: also those that were put away"}}, nil, Page[Key]{}, ""},
	{"GET", "/keys/{fingerprint}", Viewer, "key", "One certificate, with its text", nil, nil, Key{}, ""},
	{"GET", "/keys/{fingerprint}/signed", Viewer, "signed",
		"All that a key has signed here, and what would stop without it", nil, nil, Signed{}, ""},
	{"POST", "/keys", Operator, "addKeys", "Bring certificates in; this decides nothing about them", nil,
		KeyData{}, Page[Key]{}, ""},
	{"POST", "/keys/statement", Warden, "takeStatement",
		"Vouch for keys on the word of a paired site", nil, StatementTaken{},
		Statement{}, ""},
	{"POST", "/keys/{fingerprint}/vouch", Warden, "vouch", "Record that the key may sign one source",
		nil, Decision{}, Key{}, ""},
	{"POST", "/keys/{fingerprint}/withdraw", Warden, "withdraw",
		"Take the decision back that the key may sign one source", nil, Decision{}, Key{}, ""},
	{"POST", "/keys/{fingerprint}/retire", Warden, "retireKey",
		"Put a key away that decides nothing any more", nil, Decision{}, Key{}, ""},
	{"POST", "/keys/{fingerprint}/bar", Warden, "bar", "Record that the key may sign nothing any more",
		nil, Decision{}, Key{}, ""},

	{"GET", "/mirrors", Viewer, "mirrors", "All mirrors", nil, nil, Page[Mirror]{}, ""},
	{"GET", "/mirrors/{name}", Viewer, "mirror", "One mirror with its editions", nil, nil, Mirror{}, ""},
	{"POST", "/mirrors/{name}/estimate", Operator, "estimate", "What a build would take", nil, nil, Job{},
		""},
	{"POST", "/mirrors/{name}/preview", Operator, "preview",
		"Which packages a build would add, change or remove",
		nil, PreviewAsked{}, Job{}, ""},
	{"POST", "/mirrors/{name}/build", Operator, "build", "Build an edition", nil, nil, Job{}, ""},
	{"POST", "/mirrors/{name}/prove", Operator, "prove",
		"Whether all that is wanted can be installed from the mirror alone", nil, ProofAsked{}, Job{}, ""},

	{"GET", "/editions", Viewer, "editions", "All editions, newest first",
		[]Parameter{{"mirror", "only of this mirror"}}, nil, Page[Edition]{}, ""},
	{"GET", "/editions/{mirror}/{number}", Viewer, "edition",
		"One edition: sources, signers, what was found",
		nil, nil, EditionDetail{}, ""},
	{"GET", "/editions/{mirror}/{number}/packages", Viewer, "packages", "The packages of an edition",
		[]Parameter{search, cursor, limit}, nil, Page[Item]{}, ""},
	{"GET", "/editions/{mirror}/{number}/chain", Viewer, "chain",
		"What stands behind a package: from its file up to who vouched, and to the seal; each step is " +
			"compared now",
		[]Parameter{{"package", "its name"}, {"version", "only of this version"},
			{"arch", "only of this architecture"}}, nil, Page[Chain]{}, ""},
	{"GET", "/editions/{mirror}/{number}/why", Viewer, "why",
		"Why a package is in an edition",
		[]Parameter{{"package", "its name"}}, nil, Page[Reasons]{}, ""},
	{"GET", "/editions/{mirror}/{number}/diff", Viewer, "diff",
		"The difference to another edition of the mirror",
		[]Parameter{{"against", "the number of the older edition; the one before if left out"}},
		nil, Page[Change]{}, ""},
	{"GET", "/editions/{mirror}/{number}/advisories", Viewer, "advisories",
		"What upstreams say about why packages of an edition were published", []Parameter{search}, nil,
		Page[EditionAdvisory]{}, ""},
	{"GET", "/editions/{mirror}/{number}/manifest", Viewer, "manifest", "Manifest and seal",
		nil, nil, Manifest{}, ""},
	{"GET", "/editions/{mirror}/{number}/file/{path}", Viewer, "file", "One file of an edition", nil, nil,
		nil, "application/octet-stream"},
	{"POST", "/editions/{mirror}/{number}/verify", Operator, "verify",
		"Read every file of an edition and compare it with the seal", nil, nil, Job{}, ""},
	{"DELETE", "/editions/{mirror}/{number}", Operator, "retire",
		"Take an edition out; its files go when nothing else holds them", nil, nil, Edition{}, ""},

	{"GET", "/lanes", Viewer, "lanes", "All lanes", nil, nil, Page[Lane]{}, ""},
	{"GET", "/lanes/{name}", Viewer, "lane", "One lane with its history", nil, nil, Lane{}, ""},
	{"POST", "/lanes/{name}/move", Operator, "move", "Point a lane at an edition", nil, Move{}, Lane{}, ""},
	{"POST", "/lanes/{name}/back", Operator, "back", "Take the last move of a lane back",
		nil, Move{}, Lane{}, ""},

	{"GET", "/groups", Viewer, "groups", "All groups", nil, nil, Page[Group]{}, ""},
	{"GET", "/groups/{name}", Viewer, "group", "One group", nil, nil, Group{}, ""},
	{"GET", "/groups/{name}/files", Viewer, "groupFiles", "The files that a machine of the group needs",
		[]Parameter{{"at", "URL or folder where the packages are found; the lane's address if left out, " +
			"or that of the edition which is named"}, {"edition",
			"MIRROR/N: the files for this edition; for the one that the lane shows if left out"}}, nil,
		Files{}, ""},

	{"GET", "/jobs", Viewer, "jobs", "Jobs, newest first", []Parameter{{"state", "only those in this state"},
		{"object", "only those on this, such as \"mirror barrage\""}, cursor, limit}, nil, Page[Job]{}, ""},
	{"GET", "/jobs/{id}", Viewer, "job", "One job", nil, nil, Job{}, ""},
	{"GET", "/jobs/{id}/events", Viewer, "jobEvents", "Progress as server-sent events, until the job ends",
		nil, nil, nil, "text/event-stream"},
	{"POST", "/jobs/{id}/stop", Operator, "stopJob", "Stop a running job", nil, nil, Job{}, ""},

	{"GET", "/pool", Viewer, "poolUsage", "What uses the disk", nil, nil, PoolUsage{}, ""},
	{"POST", "/pool/sweep", Operator, "sweepPool", "Remove from the pool what no edition holds", nil, nil,
		Job{}, ""},

	{"GET", "/revisions", Viewer, "revisions", "Changes of what is described, newest first",
		[]Parameter{cursor, limit}, nil, Page[Revision]{}, ""},
	{"GET", "/revisions/{id}", Viewer, "revision", "One revision, with the whole description after it",
		nil, nil, Revision{}, ""},
	{"GET", "/revisions/{id}/restore", Viewer, "wouldRestore", "What restoring it would change",
		[]Parameter{{"object", "KIND/NAME: this alone; everything if left out"}}, nil, Judgement{}, ""},
	{"POST", "/revisions/{id}/restore", Operator, "restore",
		"Make the description, or one object of it, what it was after that revision", nil,
		Restore{}, Judgement{}, ""},

	{"GET", "/journal", Viewer, "journal", "Who did what, newest first",
		[]Parameter{search, {"since", "only what was written since then (RFC 3339)"}, cursor, limit}, nil,
		Page[JournalEntry]{}, ""},
	{"GET", "/journal/head", Viewer, "journalHead",
		"The newest signed head of the journal, and its public key", nil,
		nil, JournalHead{}, ""},
	{"GET", "/journal/{number}/proof", Viewer, "journalProof",
		"A proof that an entry is in the journal, to be checked elsewhere", nil, nil, Text{}, ""},
	{"POST", "/journal/since", Viewer, "journalSince",
		"A proof that the newest head goes on from one that was kept elsewhere", nil, KeptHead{}, Text{},
		""},
	{"POST", "/journal/verify", Viewer, "verifyJournal", "Whether the journal is whole and unchanged", nil,
		Against{}, Report{}, ""},

	{"GET", "/credentials", Viewer, "credentials", "All credentials, without their secrets", nil, nil,
		Page[Credential]{}, ""},
	{"GET", "/credentials/{name}", Viewer, "credential", "One credential, without its secret", nil, nil,
		Credential{}, ""},
	{"PUT", "/credentials/{name}/secret", Warden, "giveSecret",
		"Give the secret of a credential, for the hosts that are described now; it is never shown again",
		nil,
		Secret{}, Credential{}, ""},
	{"DELETE", "/credentials/{name}/secret", Warden, "forgetSecret", "Forget the secret of a credential",
		nil,
		nil, Credential{}, ""},

	{"GET", "/accounts", Warden, "accounts", "All accounts", nil, nil, Page[Account]{}, ""},
	{"POST", "/accounts", Warden, "addAccount", "Make an account and its first token", nil,
		NewAccount{}, NewToken{}, ""},
	{"DELETE", "/accounts/{name}", Warden, "removeAccount", "Remove an account and its tokens",
		nil, nil, Account{}, ""},
}
