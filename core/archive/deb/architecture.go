package deb

import "stockade/core/archive"

// coexistence is what the multi-architecture field says of how packages of other
// architectures may use a package.
type coexistence uint8

const (
	alone   coexistence = iota // they may not
	foreign                    // it satisfies needs of any architecture
	allowed                    // it satisfies needs qualified ":any"
	same                       // it may be installed for several architectures at once
)

// coexistences are the values of the field, as Package.Own keeps them.
var coexistences = map[string]any{"foreign": foreign, "allowed": allowed, "same": same, "no": nil}

// coexists gives what a package says of it.
func coexists(p *archive.Package) coexistence {
	c, _ := p.Own.(coexistence)
	return c
}

// The qualifiers of a relation that are not architectures.
const (
	anyArch    = "any"
	nativeArch = "native"
)

// architectures are those that Debian has had, by dpkg's names (dpkg-architecture(1), -L). What a
// Provides field may be qualified by is one of these.
var architectures = []string{"alpha", "amd64", "arm64", "armel", "armhf", "hppa", "hurd-amd64",
	"hurd-i386", "i386", "ia64", "kfreebsd-amd64", "kfreebsd-i386", "loong64", "m68k", "mips", "mips64el",
	"mipsel", "powerpc", "ppc64", "ppc64el", "riscv64", "s390x", "sh4", "sparc64", "x32"}

// Within implements archive.Bound.
func (Family) Within(r archive.Relation, packageArch, machineArch string) string {
	switch {
	case r.Qualifier == nativeArch:
		return machineArch
	case r.Qualifier != "" && r.Qualifier != anyArch:
		return r.Qualifier
	case packageArch == "all":
		return machineArch
	}
	return packageArch
}

// About implements archive.Bound (Debian Policy §7.1 and the multi-architecture field).
func (Family) About(p *archive.Package, r archive.Relation, on archive.Machine) bool {
	switch {
	case on.Conflict && (r.Qualifier == "" || r.Qualifier == anyArch):
		return on.Takes("")
	case r.Qualifier == anyArch:
		return coexists(p) == allowed && on.Takes("")
	case r.Qualifier != "":
		return on.Takes(on.Within)
	}
	return on.Takes(on.Within) || coexists(p) == foreign && on.Takes("")
}
