package service

import (
	"stockade/core/definition"
)

func (s *Service) handlers() map[string]handler {
	return map[string]handler{
		"about": s.handleAbout,

		"site":          s.handleSite,
		"renewSiteKey":  s.handleRenewSiteKey,
		"retireSiteKey": s.handleRetireSiteKey,

		"pair":          s.handlePair,
		"statement":     s.handleStatement,
		"takeStatement": s.handleTakeStatement,

		"openapi":  s.handleOpenapi,
		"schema":   s.handleSchema,
		"whoami":   s.handleWhoami,
		"overview": s.handleOverview,
		"findings": s.handleFindings,

		"definitions": s.handleDefinitions,
		"names":       s.handleNames,
		"described":   s.handleDescribed,
		"check":       s.judge, "compare": s.judge,
		"rename": s.handleRename,
		"amend":  s.handleAmend,
		"record": s.handleRecord, "crossings": s.handleCrossings,

		"sources":      s.handleSources,
		"source":       s.handleSource,
		"dependents":   s.handleDependents,
		"signed":       s.handleSigned,
		"refresh":      s.handleRefresh,
		"examine":      s.handleExamine,
		"probe":        s.handleProbe,
		"order":        s.orderUpstreams,
		"enable":       s.editSource("enable", func(src *definition.Source) { src.Disabled = false }),
		"disable":      s.editSource("disable", func(src *definition.Source) { src.Disabled = true }),
		"removeSource": s.editSource("remove", nil),

		"addPackage":    s.handleAddPackage,
		"findPackages":  s.handleFindPackages,
		"where":         s.handleWhere,
		"housePackages": s.handleHousePackages,
		"removePackage": s.handleRemovePackage,

		"keys":    s.handleKeys,
		"key":     s.handleKey,
		"addKeys": s.handleAddKeys,
		"vouch":   decision(s.vouch), "bar": decision(s.bar), "withdraw": decision(s.withdraw),
		"retireKey": decision(s.retireKey),

		"mirrors":  s.handleMirrors,
		"mirror":   s.handleMirror,
		"preview":  s.handlePreview,
		"estimate": s.mirrorJob("estimate"), "build": s.mirrorJob("build"), "prove": s.handleProve,

		"editions":   s.handleEditions,
		"edition":    s.onEdition(s.handleEdition),
		"packages":   s.onEdition(s.editionPackages),
		"chain":      s.onEdition(s.editionChain),
		"why":        s.onEdition(s.handleWhy),
		"diff":       s.onEdition(s.handleDiff),
		"advisories": s.onEdition(s.handleAdvisories),
		"manifest":   s.onEdition(s.handleManifest),
		"file":       s.onEdition(s.handleFile),
		"verify":     s.onEdition(s.handleVerify),
		"retire":     s.onEdition(s.handleRetire),

		"lanes":          s.handleLanes,
		"lane":           s.handleLane,
		"laneDifference": s.handleLaneDifference,
		"move":           s.moveLane(s.move), "back": s.moveLane(s.back),

		"groups":     s.handleGroups,
		"group":      s.handleGroup,
		"groupFiles": s.handleGroupFiles,
		"groupKit":   s.handleGroupKit,

		"machines":      s.handleMachines,
		"machine":       s.handleMachine,
		"enrol":         s.handleEnrol,
		"changeMachine": s.handleChangeMachine,
		"removeMachine": s.handleRemoveMachine,
		"reportMachine": s.handleReport,

		"jobs": s.handleJobs,
		"job":  s.onJob(s.jobs.get), "stopJob": s.onJob(s.jobs.stopJob),
		"jobEvents": s.jobEvents,
		"poolUsage": s.handlePoolUsage,
		"sweepPool": s.handleSweepPool,

		"revisions":    s.handleRevisions,
		"revision":     s.handleRevision,
		"restore":      s.handleRestore,
		"wouldRestore": s.handleWouldRestore,

		"journal":       s.handleJournal,
		"verifyJournal": s.handleVerifyJournal,
		"journalHead":   s.journalHead,
		"journalProof":  s.journalProof,
		"journalSince":  s.journalSince,

		"import":       s.importFiles,
		"credentials":  s.handleCredentials,
		"credential":   s.handleCredential,
		"giveSecret":   s.giveSecret,
		"forgetSecret": s.forgetSecret,

		"accounts":      s.handleAccounts,
		"addAccount":    s.addAccount,
		"removeAccount": s.removeAccount,

		"account":        s.handleAccount,
		"setRole":        s.setRole,
		"addToken":       s.addToken,
		"removeToken":    s.removeToken,
		"setPassword":    s.setPassword,
		"removePassword": s.removePassword,
		"endSession":     s.endSession,
		"signIn":         s.handleSignIn,
		"signOut":        s.handleSignOut,
		"events":         s.handleEvents,
		"visit":          s.handleVisit,
		"search":         s.handleSearch,
		"setAside":       s.handleSetAside,
		"takeUp":         s.handleTakeUp,
		"draft":          s.handleDraft,
		"keepDraft":      s.handleKeepDraft,
	}
}
