// Package families is the registry of the repository formats that Stockade knows:
// the one place that lists them. Whatever works with families takes it from here,
// and knows each of them only through the interfaces of archive. It trusts nothing and
// does nothing: what a family believes is said in its own package.
package families

import (
	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/archive/deb"
	"stockade/core/archive/rpm"
)

// All is every family, by its name.
var All = archive.NewRegistry(deb.Family{}, rpm.Family{}, alpm.Family{})
