package definition

// Standings: whose source it is.
const (
	Official  = "official"
	Vendor    = "vendor"
	Community = "community"
	House     = "house"
)

// Standings lists them, the nearest to the operating system first.
var Standings = []string{Official, Vendor, Community, House}

// The two ways in which a mirror copies.
const (
	Faithful = "faithful" // byte for byte
	Tailored = "tailored" // chosen packages, indexes written anew
)

// What becomes of a mirror of which not everything can be installed.
const (
	Strict = "strict" // no seal
	Told   = "told"   // sealed, with the findings
)

// Which needs come along. They are the words of the language; selection knows the same.
const (
	Required    = "required"
	Recommended = "recommended"
	Suggested   = "suggested"
)
