// Package archive is what all families of repository formats share: packages,
// relations, roots, indexes, and the Family interface through which the rest
// of the core knows a family.
//
// It trusts nobody. Whatever is read here came from outside: readers are
// bounded in memory and depth, and paths are checked before they are returned.
// Whether bytes may be believed is decided by the Verifier that is handed in.
package archive
