package finding

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Entry is what the catalogue says of one code.
type Entry struct {
	Code     Code
	Severity Severity
	When     string // when it is found
	WayOut   string // what to do, where nothing more exact is known
}

var catalogue = index(
	Entry{DefineSyntax, Error, "a document cannot be read", "mend the line that is shown"},
	Entry{DefineUnknownField, Error, "a field that the definition language does not have",
		"use the nearest known name, or take the field out"},
	Entry{DefineBadValue, Error, "a value of the wrong kind, or out of its range",
		"give a value that fits"},
	Entry{DefineMissingField, Error, "a field that cannot be left out", "add the field"},
	Entry{DefineDanglingReference, Error, "a name that nothing defines",
		"define it, or use the nearest defined name"},
	Entry{DefineTooMany, Error, "more is wrong, or more is described, than is checked at once",
		"mend what is told and check again; or give fewer things at once"},
	Entry{DefineDuplicateName, Error, "one name defined twice", "take one of the two out"},
	Entry{SourceBadURL, Error, "not a URL, a wrong scheme, or a variable that expands to nothing",
		"give a whole http or https URL"},
	Entry{SourceCredentialInURL, Error, "a user or password inside a URL",
		"take user and password out of the URL: definitions are shown, compared and kept"},
	Entry{SourcePlainHTTP, Note, "a signed source is fetched without TLS",
		"use https where the upstream offers it; the signature protects the content, not what is asked for"},
	Entry{SourceUnsigned, Error, "a source that names no key",
		"name the keys that may sign it under signed_by; where nobody signs it, a warden can acknowledge " +
			"that with a reason and an end (unsigned)"},
	Entry{SourceUnsignedChanged, Warning,
		"a source that nobody signs has another root than the one that was accepted",
		"ask the owner whether they published"},
	Entry{SourceComponentMissing, Error, "the root does not offer a component",
		"choose among those it offers"},
	Entry{SourceArchitectureMissing, Error, "the root does not offer an architecture",
		"choose among those it offers"},
	Entry{SourceReleaseMismatch, Error,
		"the root names another release or repository than the definition",
		"check release and upstream URL; do not accept it unless you know why it changed"},
	Entry{SourceOtherRepository, Error,
		"the root is of another repository than the one accepted before, or than the file says that it is in",
		"ask upstream why; do not accept it unless you know why it changed"},
	Entry{SourceDuplicate, Warning,
		"the same upstream, release and component stand in two definitions, however they are spelt",
		"take one of the two out"},
	Entry{KeyGlobal, Warning, "a machine's files trust a key for every source",
		"name the key at the source that it signs, and take it out of the global keyring"},
	Entry{ImportLost, Note, "something of a machine's file has no counterpart, and is left out",
		"nothing"},
	Entry{ImportSwitchedOff, Note, "a source of a machine's file is switched off", "nothing"},
	Entry{ImportToDecide, Warning,
		"something of a machine's file cannot be taken over without a person's decision",
		"look at the document that was written, and decide"},
	Entry{SourceReleaseAlias, Warning, "the release is a moving alias", "name the release itself"},
	Entry{SourceExpiredIndex, Error, "the root's own end date has passed",
		"ask upstream whether it is still kept up; another upstream may be ahead"},
	Entry{SourceFutureIndex, Error, "the root is dated in the future",
		"check the clock of this machine, then ask upstream"},
	Entry{SourceNotAsked, Note, "a check of what upstreams serve now left a source out",
		"give what is missing; or record it, and let the service ask: stockade source refresh SOURCE"},
	Entry{SourceNeverAccepted, Warning, "nothing of the source was accepted yet",
		"stockade source refresh SOURCE, or a build that uses it"},
	Entry{SourceStale, Warning, "the root is older than max_age",
		"look whether upstream still publishes"},
	Entry{SourceQuiet, Warning, "nothing was published for six times the usual interval",
		"ask the owner whether it is still kept up"},
	Entry{SourceOlderThanAccepted, Error, "an upstream serves an older root than was accepted before",
		"wait, or use another upstream; a person can accept it once, with a reason"},
	Entry{SourceUpstreamsDisagree, Warning, "upstreams serve different publications",
		"put the one that is behind last"},
	Entry{JobMissed, Warning, "scheduled work was due, and did not begin",
		"begin it by hand; the schedule goes on with the next time"},
	Entry{JobFailed, Warning, "a piece of work did not come to its end",
		"run it again: what was verified is kept"},
	Entry{JobBeyondBounds, Error, "a piece of work took longer, or more memory, than it may",
		"run it again: what was verified is kept; --job-time and --job-memory of the service give it more"},
	Entry{SourceUpstreamWrong, Warning, "an upstream gave other bytes than the signed ones, or release " +
		"metadata that no vouched key signed, or of another release",
		"ask its owner; take it out of the source if it goes on"},
	Entry{SourceUpstreamSlow, Warning, "an upstream sends so slowly that another was asked",
		"stockade source probe NAME, then put a faster one first"},
	Entry{SourceUpstreamDown, Warning, "an upstream does not answer",
		"look at the upstream; the next one is used meanwhile"},
	Entry{SourceBadList, Error,
		"a mirror list or a Metalink cannot be read, or names nothing that can be used",
		"check its URL, or name upstreams by their own"},
	Entry{SourceRootMissing, Error, "no upstream has a root for the release", "check URL and release"},
	Entry{SourceMalformedIndex, Error, "a root or an index cannot be read",
		"ask upstream; nothing of it was taken"},
	Entry{SourceRootFormsDiffer, Note,
		"an upstream offers its root in two forms that are not of one publication",
		"tell the owner of the upstream; machines use the form that was copied"},
	Entry{SourceCertificateBad, Error, "the TLS certificate of an upstream does not hold",
		"ask its owner who certifies it, and name that authority under authority of the source"},
	Entry{CredentialMissing, Error,
		"a credential is named whose secret was not given, or was given for other hosts or another user",
		"stockade credential add NAME"},
	Entry{CredentialRefused, Error,
		"an upstream or a proxy asks who it is, or does not take the credential that it was shown",
		"ask its owner, and give the secret anew: stockade credential add NAME"},
	Entry{CredentialPlainHTTP, Error, "a credential belongs to a server that is named without TLS",
		"use its https address: over plain HTTP a secret is never sent"},
	Entry{CredentialNoHost, Warning, "a credential belongs to none of the servers of what names it",
		"name the host under hosts of the credential, or take the credential out there"},
	Entry{CredentialUnused, Note, "nothing names a credential",
		"name it at a source or a proxy, or take it out"},
	Entry{CredentialExpiring, Warning, "a client certificate ends soon",
		"get the next one from its owner, and give it: stockade credential add NAME --file PEM"},
	Entry{CredentialExpired, Error, "a client certificate has ended",
		"get the next one from its owner, and give it: stockade credential add NAME --file PEM"},
	Entry{AuthorityUnreadable, Error, "the certificates of an authority cannot be read",
		"give them in PEM, relative to the document"},
	Entry{AuthorityExpiring, Warning, "a certificate of an authority ends soon",
		"get the next one from its owner, and put both into the file"},
	Entry{AuthorityExpired, Error, "every certificate of an authority has ended",
		"get the next one from its owner"},
	Entry{SourceRedirectRefused, Error,
		"an upstream sends to a place that the definition does not allow",
		"add the host under redirects if you trust the road to it"},
	Entry{KeyMissing, Error, "a source names a key that was never brought in",
		"bring it in: stockade key add FILE"},
	Entry{JournalWitnessUnread, Warning, "the file in which a head of the journal is kept elsewhere " +
		"cannot be read",
		"look whether it is mounted and may be read"},
	Entry{KeyShared, Note, "one key is vouched for, for sources of different owners",
		"nothing, if they are one after all; else ask each owner for a key of their own"},
	Entry{KeyUnused, Note,
		"a key that was vouched for signs nothing, or nothing names a keyring of a machine",
		"name it at the source that it signs, or take it away"},
	Entry{SourceDebugEnabled, Note, "a section with debugging symbols is on",
		"disable it, unless they are wanted"},
	Entry{SourceTestingEnabled, Note, "a section with packages that are not released yet is on",
		"disable it, unless machines are to try them"},
	Entry{KeyAwaitingSecond, Error, "a warden vouched for a key, and where two have to, a second did " +
		"not yet",
		"another warden compares the fingerprint and vouches for it, from an account of their own"},
	Entry{KeyUnvouched, Error, "the key is there, but nobody decided that it may sign this source",
		"compare the whole fingerprint with its owner, then: stockade key vouch"},
	Entry{KeyBarred, Error, "the key was barred", "get the owner's new key and vouch for that"},
	Entry{AccountSecondPerson, Error,
		"an account cannot be made a warden while a rule asks two wardens " +
			"to vouch: whoever makes the account could act as both",
		"whoever runs the service makes the account: stockade serve --new-warden NAME"},
	Entry{KeyInUse, Error, "the key still decides something, so it cannot be put away",
		"take back what was decided, and take it out of the description"},
	Entry{KeyFingerprintMismatch, Error, "the file holds another key than the definition says",
		"ask the owner which fingerprint is right before you change anything"},
	Entry{KeyShortID, Error, "a short key id where a fingerprint belongs",
		"give the whole fingerprint, 40 hexadecimal digits or more"},
	Entry{KeyExpired, Error, "the key has passed its end date", "get the renewed key from its owner"},
	Entry{KeyExpiring, Warning, "the key ends soon", "get the renewed key before that day"},
	Entry{KeyRevoked, Error, "the key's owner has withdrawn it",
		"get the new key from its owner, and vouch for that"},
	Entry{KeyWeak, Warning, "the key is weaker than is wise today", "ask the owner for a stronger one"},
	Entry{KeyPublished, Note,
		"upstream publishes certificates that were not brought in, or newer copies of some that were",
		"nothing was taken from there: compare the fingerprint with its owner, and bring the certificate " +
			"in (stockade key add FILE)"},
	Entry{StatementUnreadable, Error, "a file is not what a site states about keys, or is damaged",
		"have the other site write it anew: stockade site statement --out FILE"},
	Entry{StatementUnpaired, Error, "a statement is signed by no site that is paired with this one",
		"compare the fingerprint of the other site's key with its wardens, then: stockade site pair NAME " +
			"FILE"},
	Entry{StatementOlder, Error, "a statement is older than one of the same site that was taken",
		"ask the other site for a new one: it may have taken back since what this one says"},
	Entry{StatementBarred, Warning, "another site has barred a key that counts here",
		"ask them why, and look at what the key has signed here: stockade key bar ends it"},
	Entry{KeyAlsoSigned, Note, "a root has further signatures, beside the one that counts",
		"nothing; where the owner tells of a new key, compare it, name it, and vouch for it"},
	Entry{KeyCannotSign, Error, "the certificate has no key that may sign",
		"ask the owner for the signing certificate"},
	Entry{KeySecretMaterial, Error, "a secret key was handed in; it was not stored",
		"export the public certificate, and treat the secret key as seen by others"},
	Entry{KeyUnreadable, Error, "not an OpenPGP certificate",
		"give an armoured or binary OpenPGP public key"},
	Entry{MirrorWantNoMatch, Error, "a wanted name matches nothing",
		"check the name and the version bound"},
	Entry{MirrorMissingDependency, Error, "something that is needed is in no source of the mirror",
		"add the source that has it, or take the package out"},
	Entry{MirrorConflict, Error, "a wanted package cannot be installed from the mirror",
		"keep another version of one of the two, or take one out"},
	Entry{MirrorNewerElsewhere, Warning,
		"a package is wanted of one source, and another source of the mirror has a newer version at an " +
			"equal or better priority; an error under strict",
		"write the want at the mirror, over all its sources; or only: true at the source, when this is " +
			"meant"},
	Entry{MirrorNeedHoldsBack, Warning,
		"an older version of a package is taken, as something that is taken needs just that one",
		"look whether what needs it has a newer version; nothing is to be done where it is meant"},
	Entry{MirrorStreamOpen, Warning,
		"which build of a module stream machines have on cannot be told from its repositories",
		"want the module streams that it may need, under streams"},
	Entry{PriorityShadowed, Warning,
		"packages of an official source are overtaken by those of another standing",
		"give the other source a worse priority, or except these packages there, unless it is meant"},
	Entry{PriorityTie, Warning,
		"sources of different standing share a priority and have packages of the same names",
		"give the one that is to come first the better priority"},
	Entry{PriorityNeverChosen, Note, "nothing of a source would ever be taken",
		"take it out of the mirror, or give it a better priority"},
	Entry{PinHoldsBack, Warning, "a newer version waits behind a pin of a group",
		"try it on another group, then take the pin out or move it on"},
	Entry{MirrorStreamOff, Note,
		"packages of module streams that are not on were taken along, and not proved",
		"want the streams that machines are to have, under streams"},
	Entry{MirrorNotProved, Warning, "whether a wanted package can be installed was not found out",
		"want fewer packages that exclude each other, or name which of several alternatives is wanted; " +
			"complete: told seals all the same"},
	Entry{MirrorSourceMissing, Warning,
		"source packages are wanted, and no list of the source has them",
		"ask the owner of the source; or take source_packages out"},
	Entry{MirrorFootingUnknown, Note,
		"packages that an example machine has installed are in no defined source in that version",
		"define the source that they come from, or make the list anew on a machine that is up to date"},
	Entry{MirrorWillNotFit, Error, "the disk has less free space than the build needs",
		"free space, or want less"},
	Entry{ContentSizeMismatch, Error, "a file is longer or shorter than its index says",
		"tell the owner of the upstream: none that was asked had it right"},
	Entry{ContentDigestMismatch, Error, "a file is not what its index says",
		"tell the owner of the upstream: none that was asked had it right"},
	Entry{ContentIdentityMismatch, Error, "a package says inside that it is another than the index says",
		"do not install it; tell upstream"},
	Entry{ContentSignatureBad, Error, "no signature that counts",
		"nothing of it was taken; ask the owner before you trust another key"},
	Entry{ContentPlacedElsewhere, Warning,
		"a copied index sends machines to another place than the mirror for some packages",
		"copy the source tailored: its index is written anew"},
	Entry{ContentUnsafePath, Error, "a path that could lead outside its folder",
		"nothing of it was taken; tell upstream"},
	Entry{ContentAmbiguous, Error, "an entry that two readers could take for two things",
		"nothing of it was taken; tell upstream, and use another upstream until it is mended"},
	Entry{ContentBadName, Error,
		"a name that could mean more than itself in a shell, a terminal or a file",
		"nothing of it was taken; tell upstream"},
	Entry{ContentSignatureMissing, Error,
		"a source whose packages were signed gives one without its signature",
		"ask upstream; another upstream may have it"},
	Entry{ContentWeakDigest, Error, "only MD5 or SHA-1 are offered", "ask upstream for SHA-256"},
	Entry{ContentTooLarge, Error, "something is larger than its limit",
		"nothing of it was taken; raise the limit only if you know why"},
	Entry{ContentMalformedPackage, Error, "a package file cannot be read",
		"do not install it; tell upstream"},
	Entry{ContentMissing, Error, "no upstream has a file that the index names",
		"try again later; upstream may be in the middle of a publication"},
	Entry{EditionDamaged, Error, "a file of an edition is changed or gone",
		"build the mirror again: what is damaged is fetched anew"},
	Entry{EditionSealBad, Error, "the seal of an edition does not hold",
		"do not serve it; build the mirror again"},
	Entry{JournalBroken, Error,
		"the journal does not hold, contradicts a head that was signed before, or does not explain what " +
			"is in force", "find out who wrote to the database; go back to a backup whose journal holds: " +
			"stockade journal verify"},
	Entry{SiteDiskFull, Error, "so little is free on the disk that nothing more can be built",
		"make room: pool usage, edition retire, pool sweep; or give the disk more"},
	Entry{FaultCode, Error,
		"something went wrong on this machine itself: no space, no file descriptors, a disk that fails",
		"mend that, and run it again; nothing was decided about what was being read"},
	Entry{SiteLost, Error,
		"the records or the site key are gone, and the rest of the data folder is there",
		"put the file back from a copy; or begin anew"},
	Entry{SiteRenewing, Note, "the site signs with two keys, and the older one is to be retired",
		"give each machine its files anew, then retire the older key"},
	Entry{LaneFormerKey, Warning,
		"a lane shows what a site key signed that was retired since",
		"build its mirror anew, and move the lane"},
	Entry{SiteClock, Error, "the clock contradicts the newest accepted root",
		"set the clock of this machine right"},
	Entry{SourceReleaseUnsupported, Warning,
		"a source of a lane is not seen by machines of a group that follows it, or not on all their " +
			"architectures; or a machine's own file names another release than it runs",
		"mend the group's release or architectures, or give the mirror a source for them"},
	Entry{PriorityHoldsBack, Warning,
		"machines stay on an older version, because its source has the better priority",
		"give the source with the newer version an equal or better priority, or take the package out of " +
			"what it may bring"},
	Entry{PriorityAmbiguous, Error,
		"two sources of one view cannot be told apart by the client, so that one would get the other's " +
			"priority", "mirror one of them tailored: then it is known by its own name; or put the two " +
			"into mirrors of their own"},
	Entry{LaneOlderLists, Note,
		"a lane was moved back, and clients that have asked since keep the newer lists",
		"take the client's lists away on these machines, and have it ask again"},
	Entry{MirrorNotByItself, Error,
		"what a package needs is there in a version alone that machines do not take by themselves",
		"take the other version out, pin the one that is needed, or name it on the machine"},
	Entry{MachineStale, Warning, "a machine did not report within the time that its group allows",
		"bring in what it has installed now (stockade machine report)"},
	Entry{MachineNotCompared, Warning,
		"what a machine has installed cannot be compared with what its lane shows",
		"mend what is told of its lane or list"},
	Entry{MachineSecurityWaits, Warning,
		"a machine's lane has newer versions of what it has installed, which an advisory about security " +
			"is about",
		"bring the machine up to date from its lane"},
	Entry{MachineStrandedPackage, Warning,
		"a machine has a package installed that no source which it sees has: it gets no updates of it",
		"mirror the package, describe the source that it is from, or take it off the machine"},
	Entry{MachineAhead, Note,
		"a machine has a newer version of a package than what comes first in its view",
		"nothing takes it back by itself; look where the newer one came from"},
	Entry{LaneEmpty, Warning, "a lane that machines follow shows no edition",
		"build its mirror, and move the lane"},
	Entry{LaneNameTaken, Error,
		"two sources of one lane have a database of one name, and the client can use only one",
		"put the two into mirrors and lanes of their own"},
	Entry{MirrorOneArchitecture, Note,
		"packages of one name are taken for several architectures, and a client of the family does not " +
			"install these side by side",
		"nothing, where the machines use the other client"},
	Entry{MirrorNotLookedAt, Note,
		"a mirror, or what it rests on, was described otherwise since the last build, preview or estimate",
		"run a preview or an estimate of the mirror"},
	Entry{LaneFilesOutdated, Warning,
		"an edition needs other files on machines than the one that a lane showed before",
		"write the files of the group anew, and bring them to the machines"},
	Entry{LaneRemoves, Warning,
		"an edition lacks packages that the one has which a lane showed before",
		"look whether machines have them installed: they get no updates of these from the lane"},
	Entry{PinInstalledOnly, Note, "the client holds a package back, and cannot be told to which version",
		"install the pinned version once; from then on it stays"},
	Entry{ContentPackageUnsigned, Warning,
		"packages that are not signed themselves, in a family whose clients check that",
		"machines will refuse them: ask upstream to sign them, or take them into a house source, which " +
			"signs them"},
	Entry{MirrorStreamMissing, Error, "a wanted module stream does not exist",
		"choose among those that there are"},
	Entry{HouseOfferedElsewhere, Note, "a package of a house source is offered by a defined source too",
		"prefer the defined source, unless there is a reason not to"},
	Entry{HouseNotCompared, Note,
		"a package was added to a house source, and a defined source was never refreshed, or does not " +
			"verify now, so whether that offers it too is not known",
		"refresh the source, take the package out and add it again"},
	Entry{HouseOtherBytes, Warning,
		"a package of a house source has the name and version of one of a defined source, and other content",
		"find out where the file came from; give it a version of its own if it was built in the house"},
	Entry{PinNoMatch, Warning, "a pinned version is in no edition of the lane",
		"mirror that version, or take the pin out"},
)

func index(entries ...Entry) map[Code]Entry {
	m := make(map[Code]Entry, len(entries))
	for _, e := range entries {
		if _, twice := m[e.Code]; twice {
			panic("finding: code twice in the catalogue: " + e.Code)
		}
		m[e.Code] = e
	}
	return m
}

// Catalogue gives every entry, by code.
func Catalogue() []Entry {
	out := make([]Entry, 0, len(catalogue))
	for _, e := range catalogue {
		out = append(out, e)
	}
	slices.SortFunc(out, func(a, b Entry) int { return cmp.Compare(a.Code, b.Code) })
	return out
}

// Known gives what the catalogue says of a code.
func Known(code Code) (Entry, bool) {
	e, ok := catalogue[code]
	return e, ok
}

// Document writes the catalogue as the Markdown page docs/findings.md.
func Document() string {
	var b strings.Builder
	b.WriteString("# Findings\n\nGenerated from the catalogue in `core/finding`. " +
		"A finding of severity *error* stops the thing that it is about; a *warning* works, but hurts " +
		"sooner or later; a *note* is worth knowing.\n\n" +
		"| code | severity | when | way out |\n|---|---|---|---|\n")
	for _, e := range Catalogue() {
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", e.Code, e.Severity, e.When, e.WayOut)
	}
	return b.String() + causesDocument()
}
