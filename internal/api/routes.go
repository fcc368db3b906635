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
	cursor = Parameter{"cursor", "start of the page: the cursor that the page before returned"}
	limit  = Parameter{"limit", "largest number of items, 1 to 1000. Default: 100"}
	as     = Parameter{"as", "csv or json: download all items that match, instead of a page"}
	search = Parameter{"q", "only items with this in their name or text"}
)

// Base is the path below which all routes lie.
const Base = "/api/v1"

// Routes is every call there is. Path variables are written {name}.
var Routes = []Route{
	{"GET", "/about", Open, "about", "Show the version, the site key and the address of the " +
		"packages", nil, nil, About{},
		""},
	{"GET", "/site", Viewer, "site", "Show the site, its keys, and what depends on an older key", nil, nil,
		Site{},
		""},
	{"POST", "/site/renew-key", Warden, "renewSiteKey",
		"Create the next site key; both keys sign from then on", nil, Renew{}, Site{}, ""},
	{"POST", "/site/retire-key", Warden, "retireSiteKey",
		"Retire the older of the two site keys; only the new one signs from then on", nil, Retire{}, Site{},
		""},
	{"POST", "/site/pair", Warden, "pair",
		"Pair with another site: record its key, so that its statements can serve as evidence", nil,
		Pair{}, Site{}, ""},
	{"POST", "/site/statement", Warden, "statement", "Get a signed statement of the decisions " +
		"about keys", nil,
		nil, Text{}, ""},
	{"GET", "/openapi.json", Open, "openapi", "Get this description", nil, nil, nil, "application/json"},
	{"GET", "/whoami", Viewer, "whoami", "Show the account of the caller, and what it may not " +
		"do", nil, nil, Who{}, ""},
	{"POST", "/session", Open, "signIn",
		"Sign in: start a session with a token or a password", nil, SignIn{}, Who{},
		""},
	{"DELETE", "/session", Viewer, "signOut", "Sign out: end the session of the caller", nil, nil, Who{}, ""},
	{"GET", "/events", Viewer, "events",
		"Follow events, as server-sent events: changes of records, and the progress of jobs", nil, nil, nil,
		"text/event-stream"},
	{"GET", "/overview", Viewer, "overview", "Show what needs attention, what is running, and " +
		"what is new",
		[]Parameter{{"since", "also show what is new since this time (RFC 3339)"}}, nil, Overview{}, ""},
	{"GET", "/findings", Viewer, "findings", "List findings that need attention, and snoozed ones",
		[]Parameter{{"severity", "only this severity: error or warning"}, {"code",
			"only this code"},
			{"cause", "only this cause"}, {"kind", "only objects of these kinds, such as " +
				"source; separated by commas"}}, nil, Told{}, ""},
	{"GET", "/search", Viewer, "search",
		"Search objects, keys, editions and packages by name",
		[]Parameter{{"q", "text to search for"}}, nil, Found{}, ""},
	{"PUT", "/visit", Viewer, "visit",
		"Record that the account looked at the console, and get the time of its last look", nil, nil,
		Visit{}, ""},
	{"POST", "/aside", Operator, "setAside",
		"Snooze a finding until a date", nil, AsideAsked{},
		Told{}, ""},
	{"DELETE", "/aside", Operator, "takeUp", "End the snooze of a finding",
		[]Parameter{{"object", "object of the finding"}, {"code", "code of the finding"}, {"cause",
			"cause of the finding"},
			{"severity", "severity of the finding"}, {"text", "text of the finding"}}, nil, Told{}, ""},
	{"GET", "/draft", Viewer, "draft", "Get the draft of the account", nil, nil, Draft{}, ""},
	{"PUT", "/draft", Viewer, "keepDraft",
		"Save the draft of the account, over the version that it is based on", nil, Draft{}, Draft{},
		""},

	{"GET", "/definitions", Viewer, "definitions", "Get all recorded definitions as one " +
		"document", nil, nil,
		Text{}, ""},
	{"GET", "/definitions/schema", Open, "schema", "Get the JSON Schema of the definition " +
		"language", nil, nil,
		nil, "application/schema+json"},
	{"GET", "/definitions/names", Viewer, "names", "List the names of all recorded objects, " +
		"and the families",
		nil, nil, Names{}, ""},
	{"GET", "/definitions/{kind}/{name}", Viewer, "described",
		"Get one recorded object as a document", nil, nil, Text{}, ""},
	{"POST", "/definitions/check", Viewer, "check", "Check documents, together with what is " +
		"recorded", nil,
		Documents{}, Judgement{}, ""},
	{"POST", "/definitions/import", Viewer, "import",
		"Convert files of a machine to a definition; changes nothing",
		nil,
		MachineFiles{}, Imported{}, ""},
	{"POST", "/definitions/compare", Viewer, "compare", "Show what recording documents would " +
		"change", nil,
		Documents{}, Judgement{}, ""},
	{"POST", "/definitions/crossings", Viewer, "crossings",
		"Show what others recorded for the same objects since a revision, beside the documents", nil,
		Begun{}, Crossed{}, ""},
	{"POST", "/definitions/amend", Operator, "amend",
		"Change one setting of a mirror or a group", nil, AmendAsked{}, Judgement{}, ""},
	{"POST", "/definitions/rename", Operator, "rename",
		"Rename an object and every reference to it; vouches for a source are made again",
		nil, RenameAsked{}, Judgement{}, ""},
	{"POST", "/definitions/record", Operator, "record", "Record documents, as one revision", nil,
		Documents{}, Judgement{}, ""},

	{"GET", "/dependents/{kind}/{name}", Viewer, "dependents",
		"List what uses an object", nil, nil, Dependents{}, ""},

	{"GET", "/sources", Viewer, "sources", "List sources", nil, nil, Page[Source]{}, ""},
	{"GET", "/sources/{name}", Viewer, "source", "Show a source, with its definition as text", nil, nil,
		Source{}, ""},
	{"POST", "/sources/{name}/refresh", Operator, "refresh", "Download and verify the release " +
		"metadata of a source",
		nil, Refresh{}, Job{}, ""},
	{"POST", "/sources/{name}/examine", Operator, "examine",
		"Find out which certificates of a file signed the release metadata; decides nothing", nil,
		KeyData{}, Job{},
		""},
	{"POST", "/sources/{name}/probe", Operator, "probe", "Measure and compare the upstreams of " +
		"a source", nil,
		Probing{}, Job{}, ""},
	{"POST", "/sources/{name}/order", Operator, "order",
		"Sort the upstreams by their last probe, best first", nil, Ordering{},
		Judgement{}, ""},
	{"POST", "/sources/{name}/enable", Operator, "enable", "Enable a source", nil, nil, Judgement{},
		""},
	{"POST", "/sources/{name}/disable", Operator, "disable", "Disable a source", nil, nil, Judgement{},
		""},
	{"DELETE", "/sources/{name}", Operator, "removeSource", "Remove a source from the " +
		"definitions",
		nil, nil, Judgement{}, ""},

	{"POST", "/sources/{name}/packages", Warden, "addPackage", "Add a package file to a house source",
		[]Parameter{{"from", "where the file came from"}, {"why", "why it is needed"}, {"signature",
			"its detached signature, in base64"}}, Octets{}, HousePackage{}, ""},
	{"GET", "/packages/find", Viewer, "findPackages",
		"Find packages by part of a name or description",
		[]Parameter{{"q", "words, all of which must match, or a pattern of a whole name with * " +
			"and ?"},
			{"source", "only this source"}, {"family", "only sources of this family"},
			{"standing", "only sources of this standing"}, {"arch", "only this architecture"},
			{"edition", "only packages of this edition"}, {"lane", "only packages that this " +
				"lane shows"},
			{"limit", "largest number of names, 1 to 200. Default: 50"}}, nil, FoundPackages{}, ""},
	{"POST", "/packages/where", Operator, "where",
		"Show which sources have a package, and the candidate of each group", nil,
		WhereAsked{}, Job{}, ""},
	{"GET", "/packages", Viewer, "housePackages", "List the packages of house sources",
		[]Parameter{{"source", "only this source"}}, nil, Page[HousePackage]{}, ""},
	{"DELETE", "/packages/{id}", Operator, "removePackage", "Remove a package from its house " +
		"source",
		nil, nil, Judgement{}, ""},

	{"GET", "/keys", Viewer, "keys", "List certificates and the decisions about them",
		[]Parameter{{"retired", "yes: also list retired keys"}}, nil, Page[Key]{}, ""},
	{"GET", "/keys/{fingerprint}", Viewer, "key", "Show a certificate, with its text", nil, nil, Key{}, ""},
	{"GET", "/keys/{fingerprint}/signed", Viewer, "signed",
		"List what a key has signed, and what depends only on it", nil, nil, Signed{}, ""},
	{"POST", "/keys", Operator, "addKeys", "Import certificates; decides nothing about them", nil,
		KeyData{}, Page[Key]{}, ""},
	{"POST", "/keys/statement", Warden, "takeStatement",
		"Vouch for keys with a statement of a paired site as evidence", nil, StatementTaken{},
		Statement{}, ""},
	{"POST", "/keys/{fingerprint}/vouch", Warden, "vouch", "Vouch: record that a key may sign " +
		"one source",
		nil, Decision{}, Key{}, ""},
	{"POST", "/keys/{fingerprint}/withdraw", Warden, "withdraw",
		"Withdraw the vouch for a key for one source", nil, Decision{}, Key{}, ""},
	{"POST", "/keys/{fingerprint}/retire", Warden, "retireKey",
		"Retire a key that no decision and no definition uses", nil, Decision{}, Key{}, ""},
	{"POST", "/keys/{fingerprint}/bar", Warden, "bar", "Bar a key: record that it may not sign " +
		"anything any more",
		nil, Decision{}, Key{}, ""},

	{"GET", "/mirrors", Viewer, "mirrors", "List mirrors", nil, nil, Page[Mirror]{}, ""},
	{"GET", "/mirrors/{name}", Viewer, "mirror", "Show a mirror with its editions", nil, nil, Mirror{}, ""},
	{"POST", "/mirrors/{name}/estimate", Operator, "estimate", "Estimate a build", nil, nil, Job{},
		""},
	{"POST", "/mirrors/{name}/preview", Operator, "preview",
		"Preview the packages that a build would add, change or remove",
		nil, PreviewAsked{}, Job{}, ""},
	{"POST", "/mirrors/{name}/build", Operator, "build", "Build an edition", nil, nil, Job{}, ""},
	{"POST", "/mirrors/{name}/prove", Operator, "prove",
		"Prove that all wanted packages can be installed from the mirror alone", nil, ProofAsked{}, Job{},
		""},

	{"GET", "/editions", Viewer, "editions", "List editions, newest first",
		[]Parameter{{"mirror", "only editions of this mirror"}}, nil, Page[Edition]{}, ""},
	{"GET", "/editions/{mirror}/{number}", Viewer, "edition",
		"Show an edition: sources, signers, findings",
		nil, nil, EditionDetail{}, ""},
	{"GET", "/editions/{mirror}/{number}/packages", Viewer, "packages", "List the packages of " +
		"an edition",
		[]Parameter{search, cursor, limit, as}, nil, Page[Item]{}, ""},
	{"GET", "/editions/{mirror}/{number}/chain", Viewer, "chain",
		"Show the chain of trust of a package, and verify each step",
		[]Parameter{{"package", "name of the package"}, {"version", "only this version"},
			{"arch", "only this architecture"}}, nil, Page[Chain]{}, ""},
	{"GET", "/editions/{mirror}/{number}/why", Viewer, "why",
		"Explain why a package is in an edition",
		[]Parameter{{"package", "name of the package"}}, nil, Page[Reasons]{}, ""},
	{"GET", "/editions/{mirror}/{number}/diff", Viewer, "diff",
		"Compare an edition with another one of its mirror",
		[]Parameter{{"against", "number of the other edition. Default: the one before"},
			{"kind", "only these changes: security, newer, older, added or removed"},
			{"q", "only changes with this in the name or in the IDs of advisories"}, cursor, limit, as},
		nil, Difference{}, ""},
	{"GET", "/editions/{mirror}/{number}/advisories", Viewer, "advisories",
		"List the advisories of packages in an edition", []Parameter{search}, nil,
		Page[EditionAdvisory]{}, ""},
	{"GET", "/editions/{mirror}/{number}/manifest", Viewer, "manifest", "Get the manifest and " +
		"the seal",
		nil, nil, Manifest{}, ""},
	{"GET", "/editions/{mirror}/{number}/file/{path}", Viewer, "file", "Get one file of an " +
		"edition", nil, nil,
		nil, "application/octet-stream"},
	{"POST", "/editions/{mirror}/{number}/verify", Operator, "verify",
		"Verify every file of an edition against the seal", nil, nil, Job{}, ""},
	{"DELETE", "/editions/{mirror}/{number}", Operator, "retire",
		"Retire an edition; a sweep then frees files that nothing else uses", nil, nil, Edition{}, ""},

	{"GET", "/lanes", Viewer, "lanes", "List lanes", nil, nil, Page[Lane]{}, ""},
	{"GET", "/lanes/{name}", Viewer, "lane", "Show a lane with its history", nil, nil, Lane{}, ""},
	{"GET", "/lanes/{name}/difference", Viewer, "laneDifference",
		"Show the changes for the machines of each group if the lane moved to an edition",
		[]Parameter{{"to", "edition MIRROR/N. Default: the newest of its mirror"}}, nil, LaneDifference{},
		""},
	{"POST", "/lanes/{name}/move", Operator, "move", "Move a lane to an edition", nil, Move{}, Lane{}, ""},
	{"POST", "/lanes/{name}/back", Operator, "back", "Revert the last move of a lane",
		nil, Move{}, Lane{}, ""},

	{"GET", "/groups", Viewer, "groups", "List groups", nil, nil, Page[Group]{}, ""},
	{"GET", "/groups/{name}", Viewer, "group", "Show a group", nil, nil, Group{}, ""},
	{"GET", "/groups/{name}/files", Viewer, "groupFiles", "Get the files that a machine of the " +
		"group needs",
		[]Parameter{{"at", "URL or folder where machines find the packages. Default: the " +
			"address of the lane, or of the named edition"}, {"edition",
			"edition MIRROR/N that the files are for. Default: the one that the lane shows"}, {"beside",
			"yes: also the signed files for beside an export. For an address that is not of " +
				"this site, this needs an operator, and the journal records it"},
			{"taken", "yes: the files will be installed on a machine, which completes the " +
				"first steps of a site"}}, nil,
		Files{}, ""},

	{"GET", "/groups/{name}/kit", Viewer, "groupKit",
		"Get the same files as one archive, with checksums and scripts that install and restore",
		[]Parameter{{"at", "as for the files"}, {"edition", "as for the files"}}, nil, nil,
		"application/gzip"},

	{"GET", "/machines", Viewer, "machines", "List machines by name, with counts for each group",
		[]Parameter{{"group", "only machines of this group"}, {"lane", "only machines of groups on this " +
			"lane"},
			{"state", "only machines in this state: security, behind, ahead, held, stranded, " +
				"unknown, current, silent (never reported) or stale (report too old)"}, search, limit,
			cursor, as}, nil, Machines{}, ""},
	{"GET", "/machines/{name}", Viewer, "machine",
		"Show a machine, with its packages that are not current", nil, nil,
		Machine{}, ""},
	{"POST", "/machines", Operator, "enrol", "Enrol machines in a group", nil, Enrolling{}, Page[Machine]{},
		""},
	{"PUT", "/machines/{name}", Operator, "changeMachine",
		"Change the group and the note of a machine", nil, MachineChange{}, Machine{}, ""},
	{"DELETE", "/machines/{name}", Operator, "removeMachine", "Remove a machine and its reports", nil, nil,
		Machine{}, ""},
	{"POST", "/machines/{name}/report", Operator, "reportMachine",
		"Import the installed list of a machine, replacing the former one", nil, Reporting{},
		Machine{}, ""},

	{"GET", "/jobs", Viewer, "jobs", "List jobs, newest first", []Parameter{{"state",
		"only jobs in this state"},
		{"object", "only jobs on this object, such as \"mirror barrage\""}, cursor, limit, as}, nil,
		Page[Job]{}, ""},
	{"GET", "/jobs/{id}", Viewer, "job", "Show a job", nil, nil, Job{}, ""},
	{"GET", "/jobs/{id}/events", Viewer, "jobEvents", "Follow the progress of a job, as " +
		"server-sent events, until it ends",
		nil, nil, nil, "text/event-stream"},
	{"POST", "/jobs/{id}/stop", Operator, "stopJob", "Stop a job", nil, nil, Job{}, ""},

	{"GET", "/pool", Viewer, "poolUsage", "Show what uses the disk", nil, nil, PoolUsage{}, ""},
	{"POST", "/pool/sweep", Operator, "sweepPool", "Remove files that no edition uses", nil, nil,
		Job{}, ""},

	{"GET", "/revisions", Viewer, "revisions", "List revisions of the definitions, newest first",
		[]Parameter{cursor, limit}, nil, Page[Revision]{}, ""},
	{"GET", "/revisions/{id}", Viewer, "revision", "Show a revision, with all definitions " +
		"after it",
		nil, nil, Revision{}, ""},
	{"GET", "/revisions/{id}/restore", Viewer, "wouldRestore", "Show what restoring a revision " +
		"would change",
		[]Parameter{{"object", "restore only this object (KIND/NAME). Default: all"}}, nil, Judgement{}, ""},
	{"POST", "/revisions/{id}/restore", Operator, "restore",
		"Restore the definitions, or one object, as they were after a revision", nil,
		Restore{}, Judgement{}, ""},

	{"GET", "/journal", Viewer, "journal", "List journal entries, newest first",
		[]Parameter{search, {"since", "only entries since this time (RFC 3339)"}, cursor, limit, as},
		nil,
		Page[JournalEntry]{}, ""},
	{"GET", "/journal/head", Viewer, "journalHead",
		"Get the newest signed head of the journal, and its public key", nil,
		nil, JournalHead{}, ""},
	{"GET", "/journal/{number}/proof", Viewer, "journalProof",
		"Get a proof that an entry is in the journal", nil, nil, Text{}, ""},
	{"POST", "/journal/since", Viewer, "journalSince",
		"Get a proof that the journal continues an older head", nil, KeptHead{}, Text{},
		""},
	{"POST", "/journal/verify", Viewer, "verifyJournal", "Verify that the journal is complete " +
		"and unchanged", nil,
		Against{}, Report{}, ""},

	{"GET", "/credentials", Viewer, "credentials", "List credentials, without their secrets", nil, nil,
		Page[Credential]{}, ""},
	{"GET", "/credentials/{name}", Viewer, "credential", "Show a credential, without its secret", nil, nil,
		Credential{}, ""},
	{"PUT", "/credentials/{name}/secret", Warden, "giveSecret",
		"Save the secret of a credential, for the hosts of its present definition; it is never " +
			"shown again",
		nil,
		Secret{}, Credential{}, ""},
	{"DELETE", "/credentials/{name}/secret", Warden, "forgetSecret", "Remove the secret of a " +
		"credential",
		nil,
		nil, Credential{}, ""},

	{"GET", "/accounts", Warden, "accounts", "List accounts", nil, nil, Page[Account]{}, ""},
	{"POST", "/accounts", Warden, "addAccount", "Create an account and its first token", nil,
		NewAccount{}, NewToken{}, ""},
	{"GET", "/accounts/{name}", Viewer, "account",
		"Show an account with its tokens and sessions; for wardens, and for the account itself", nil, nil,
		Account{}, ""},
	{"DELETE", "/accounts/{name}", Warden, "removeAccount",
		"Remove an account with its tokens and sessions", nil, nil, Account{}, ""},
	{"PUT", "/accounts/{name}/role", Warden, "setRole",
		"Change the role of an account; its tokens, password and sessions end, and it gets a " +
			"new token",
		nil, RoleGiven{}, NewToken{}, ""},
	{"POST", "/accounts/{name}/tokens", Viewer, "addToken",
		"Create another token for an account, shown once; for wardens, and for the account " +
			"itself", nil, TokenAsked{},
		NewToken{}, ""},
	{"DELETE", "/accounts/{name}/tokens/{id}", Viewer, "removeToken",
		"Revoke a token, and end its sessions; for wardens, and for the account itself", nil,
		nil, Account{}, ""},
	{"PUT", "/accounts/{name}/password", Viewer, "setPassword",
		"Set the password of the caller; other sessions that were started with a password end", nil,
		PasswordGiven{}, Account{}, ""},
	{"DELETE", "/accounts/{name}/password", Viewer, "removePassword",
		"Remove a password, and end its sessions; for wardens, and for the account itself", nil,
		nil, Account{}, ""},
	{"DELETE", "/accounts/{name}/sessions/{id}", Viewer, "endSession",
		"End a session; for wardens, and for the account itself", nil, nil, Account{}, ""},
}
