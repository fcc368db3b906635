package service

import (
	"crypto/rand"
	"encoding/json"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/internal/api"
)

// What an account is describing is kept for it, so that it outlives the window and is there in
// another one. It is sealed with the key that seals secrets: people may have pasted what they
// should not. It is nothing that counts, and no entry of the journal tells of it.

// draftMost bounds it (bytes of JSON).
const draftMost = 8 << 20

// draftSealed is a draft as it is kept.
type draftSealed struct {
	Version int64  `json:"version"`
	Sealed  []byte `json:"sealed"`
}

func draftFor(account string) []byte { return []byte("stockade draft " + account) }

// draft reads the draft of an account; one that cannot be opened is none.
func (s *Service) draft(account string) (api.Draft, error) {
	none := api.Draft{Documents: []definition.Text{}, Files: map[string][]byte{}}
	var kept draftSealed
	at, there, err := s.db.Kept("draft", account, &kept)
	if err != nil || !there {
		return none, err
	}
	none.Version = kept.Version
	n := s.vault.NonceSize()
	if len(kept.Sealed) < n {
		return none, nil
	}
	raw, err := s.vault.Open(nil, kept.Sealed[:n], kept.Sealed[n:], draftFor(account))
	if err != nil {
		s.log.Warn("a draft cannot be decrypted", "account", account)
		return none, nil
	}
	out := none
	if err := json.Unmarshal(raw, &out); err != nil {
		return none, nil
	}
	out.Version, out.At = kept.Version, at
	return out, nil
}

func (s *Service) handleDraft(c *gin.Context) (any, error) { return s.draft(who(c).Name) }

// handleKeepDraft keeps a draft over the version that it was made from: another window may have
// kept something meanwhile, and is not overwritten unseen.
func (s *Service) handleKeepDraft(c *gin.Context) (any, error) {
	in, err := body[api.Draft](c)
	if err != nil {
		return nil, err
	}
	account := who(c).Name
	s.drafting.Lock()
	defer s.drafting.Unlock()
	now, err := s.draft(account)
	if err != nil {
		return nil, err
	}
	if in.Version != now.Version {
		return nil, &api.Problem{Title: "The draft was not saved", Status: 409,
			Type:   "urn:stockade:draft-crossed",
			Detail: "it was changed in another window in the meantime",
			WayOut: "load the saved draft, or overwrite it with yours"}
	}
	in.Version, in.At = now.Version+1, time.Time{}
	raw, err := json.Marshal(in)
	if err != nil {
		return nil, err
	}
	if len(raw) > draftMost {
		return nil, &api.Problem{Title: "The draft was not saved", Status: 413,
			Type: "urn:stockade:content.too-large", Detail: "it is larger than 8 MiB",
			WayOut: "the text stays in this window. Save the document as a revision, or use a file: " +
				"stockade record " +
				"PATH"}
	}
	nonce := make([]byte, s.vault.NonceSize())
	rand.Read(nonce)
	in.At = s.now().UTC().Truncate(time.Second)
	return in, s.db.KeepQuietly("draft", account, draftSealed{in.Version,
		s.vault.Seal(nonce, nonce, raw, draftFor(account))}, in.At)
}
