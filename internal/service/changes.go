package service

import (
	"fmt"

	"github.com/gin-gonic/gin"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/core/journal"
	"stockade/internal/api"
	"stockade/internal/store"
)

// actor is who asks for a change: an account, by what it is known by, with the role that the call
// asks for; or the service itself.
type actor struct {
	name  string
	known credentialOf // zero for the service, and for a job, which may outlast a session
	least string       // role that the change asks for; empty: the service itself acts
}

// itself is the service as an actor, under the name that the journal gives it.
func itself(name string) actor { return actor{name: name} }

// asking is who sent a request.
func asking(c *gin.Context) actor {
	known := knownBy(c)
	return actor{name: known.account.Name, known: known, least: c.GetString("least")}
}

// forJob is the actor of a job, which goes on when the session or token that began it ends. The
// account must still have the role.
func (a actor) forJob() actor {
	a.known = credentialOf{}
	return a
}

// change is one change of the records under way. It holds the lock, so that nobody else changes
// anything, and alone can write the journal: what is read of rights and trust while it is held is
// what the entry will stand on.
type change struct {
	*Service
	by    string // whom the journal names
	wrote bool   // an entry
	role  string // that the account has now; a warden's for the service itself
}

// begin waits for the lock and reads the rights of the actor again: an account that was removed,
// given a lesser role or signed out while it waited changes nothing. The caller ends the change.
func (s *Service) begin(by actor) (*change, error) {
	s.writing.Lock()
	role, err := s.mayStill(by)
	if err != nil {
		s.writing.Unlock()
		return nil, err
	}
	return &change{Service: s, by: by.name, role: role}, nil
}

// end lets the next change begin. What serves machines is read again where an entry was written: the
// transaction with it has ended.
func (ch *change) end() {
	if ch.wrote {
		ch.heads.changed.Add(1)
	}
	ch.writing.Unlock()
}

// mayStill gives the role that an actor has now; an error where it is too low, or where what the
// account was known by does not count any more.
func (s *Service) mayStill(by actor) (role string, err error) {
	if by.least == "" {
		return api.Warden, nil
	}
	no := func(format string, args ...any) error {
		return &api.Problem{Title: "No longer allowed", Status: 403, Type: "urn:stockade:rights",
			Detail: fmt.Sprintf(format, args...) + ". The change was not made",
			WayOut: "ask a warden; the journal shows what changed"}
	}
	if by.known.of != "" {
		known, err := s.knownNow(by.known)
		if err != nil {
			return "", err
		}
		if !known {
			return "", no("the token or session of %s was revoked in the meantime", by.name)
		}
	}
	a, err := s.db.AccountBy(by.name)
	if unlessAbsent(err) != nil {
		return "", err
	}
	now, lerr := s.ledger.read(s.db, s.keys)
	if lerr != nil {
		return "", lerr
	}
	// A journal that does not hold is told of by the write.
	if err != nil || now.broken == nil && !now.hasAccount(a.Name, a.Role) {
		return "", no("the account %s was removed in the meantime", finding.Harmless(by.name))
	}
	if rank[a.Role] < rank[by.least] {
		return "", no("%s is now %s, and this needs the role %s", a.Name, roleNamed(a.Role),
			roleNamed(by.least))
	}
	return a.Role, nil
}

// stillSigned refuses what was verified before the change began, and is signed by a key that was
// barred or whose vouch was withdrawn meanwhile.
func (ch *change) stillSigned(by archive.Signer, source string) error {
	now, err := ch.ledger.read(ch.db, ch.keys)
	if err != nil {
		return err
	}
	if why := now.decisions.NoLonger(by, source); why != "" {
		return finding.New(finding.KeyBarred, "source "+source,
			"its release metadata was verified, but %s in the meantime, so Stockade accepted "+
				"nothing",
			why).
			Do("decide which key signs %s, then refresh it", source)
	}
	return nil
}

// write puts an entry into the journal, in the name of who makes the change.
func (ch *change) write(tx *store.DB, action, object string, detail map[string]string) error {
	return ch.writeAs(tx, ch.by, action, object, detail)
}

// writeAs is write for what follows from the change, and is the service's doing.
func (ch *change) writeAs(tx *store.DB, by, action, object string, detail map[string]string) error {
	// A database that was put back while the service runs is found out here too.
	if n, err := tx.Journal().Size(); err != nil {
		return err
	} else if seen := ch.ledger.entries.Load(); n < seen {
		return &journal.Broken{First: n, Text: fmt.Sprintf("it has %d entries, but had %d "+
			"before", n, seen)}
	}
	ch.wrote = true
	return journal.Write(tx.Journal(), ch.keys, journal.Entry{At: ch.now(), By: by, Action: action,
		Object: object, Detail: detail})
}

// record writes an entry by itself.
func (s *Service) record(by actor, action, object string, detail map[string]string) error {
	c, err := s.begin(by)
	if err != nil {
		return err
	}
	defer c.end()
	return c.write(c.db, action, object, detail)
}
