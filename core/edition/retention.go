package edition

// Surplus gives those of a mirror's editions, newest first, that are older than the
// newest so many and that no lane shows. One at least is kept.
func Surplus(newestFirst []ID, keep int, shown func(ID) bool) (out []ID) {
	for i, id := range newestFirst {
		if i >= max(keep, 1) && !shown(id) {
			out = append(out, id)
		}
	}
	return out
}
