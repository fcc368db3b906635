package machine

import (
	"stockade/core/archive"
	"stockade/core/finding"
)

// ReadReport reads what a machine of a family has installed, as a program of its own prints it.
// It refuses a list that is empty, or does not say versions whole: what comes of comparing them
// would not be so.
func ReadReport(families archive.Registry, family string, data []byte) ([]archive.Installed, error) {
	f, ok := families[family].(archive.Inventoried)
	if !ok {
		return nil, finding.New(finding.DefineBadValue, "", "installed lists of the family %q "+
			"cannot be read", family)
	}
	refuse := func(format string, args ...any) error {
		return finding.New(finding.DefineBadValue, "", format, args...).
			Do("supply the output of this command on the machine: %s", f.PrintsInventory())
	}
	out, err := f.ReadInventory(data)
	if g, ok := finding.From(err); ok && g.Code == finding.DefineBadValue {
		return nil, refuse("%s", g.Text)
	}
	if err != nil {
		return nil, err
	}
	if len(out) == 0 {
		return nil, refuse("the list has no packages")
	}
	if lacks := f.Lacks(data); lacks != "" {
		return nil, refuse("%s", finding.Harmless(lacks))
	}
	for _, p := range out {
		if p.Version == "" {
			return nil, refuse("the list does not show which version of %s is installed", p.Name)
		}
	}
	return out, nil
}
