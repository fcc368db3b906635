package edition

// How a package came into an edition that is not wanted by name: what For stands for. Empty:
// For needs it.
const (
	HowRecommended = "recommended" // For recommends it
	HowSuggested   = "suggested"   // For suggests it
	HowSupplements = "supplements" // it supplements what is there; For is empty
)

// Reason says in words why a package is in an edition; empty where its list does not say it.
func (it Item) Reason() string {
	switch {
	case it.For == "" && it.Wanted:
		return "wanted"
	case it.For == "" && it.How != HowSupplements:
		return "" // its list does not say it
	case it.Wanted:
		return "wanted: " + it.For
	case it.How == HowRecommended:
		return "recommended by " + it.For
	case it.How == HowSuggested:
		return "suggested by " + it.For
	case it.How == HowSupplements:
		return "supplements installed packages"
	}
	return "required by " + it.For
}

// maxReasons bounds the chain of reasons of a package.
const maxReasons = 200

// Why gives the chain of reasons for which a package is in the edition: itself, what it is
// there for, and so on to what is wanted by name. It ends early where the edition says no more.
func (s *Sealed) Why(it Item) ([]Item, error) {
	byName := map[string][]Item{}
	if err := s.Items(func(x Item) error {
		byName[x.Name] = append(byName[x.Name], Item{Source: x.Source, Name: x.Name, Version: x.Version,
			Arch: x.Arch, For: x.For, How: x.How, Wanted: x.Wanted})
		return nil
	}); err != nil {
		return nil, err
	}
	out, seen := []Item{it}, map[string]bool{it.Name: true}
	for !it.Wanted && len(out) < maxReasons && !seen[it.For] {
		above := byName[it.For]
		if len(above) == 0 {
			break
		}
		next := above[0]
		for _, x := range above { // the one for the same machines, the wanted one before others
			if rank(x, it) > rank(next, it) {
				next = x
			}
		}
		seen[next.Name] = true
		out, it = append(out, next), next
	}
	return out, nil
}

// rank tells how likely one of several packages of a name is the one that another is there for.
func rank(x, of Item) int {
	n := 0
	if x.Arch == of.Arch {
		n += 2
	}
	if x.Wanted {
		n++
	}
	return n
}
