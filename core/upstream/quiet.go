package upstream

import (
	"slices"
	"time"

	"stockade/core/finding"
)

// Limits of what is learned about how regularly a source publishes.
const (
	maxPublished = 24             // dates that are kept
	fewest       = 5              // dates from which on something is said
	tooQuiet     = 6              // times the usual interval
	quietAtLeast = 48 * time.Hour // and for this long
)

// quiet tells that a source has published nothing for far longer than it usually does:
// whether it is still kept up is for a person to find out. What is usual is the median of
// the intervals between the roots that were seen; of one that is seen seldom it is no less
// than between two looks.
func quiet(source string, published []time.Time, now time.Time) finding.List {
	if len(published) < fewest {
		return nil
	}
	var intervals []time.Duration
	for i := 1; i < len(published); i++ {
		intervals = append(intervals, published[i].Sub(published[i-1]))
	}
	slices.Sort(intervals)
	usual := intervals[len(intervals)/2]
	last := published[len(published)-1]
	silent := now.Sub(last)
	if silent < quietAtLeast || silent <= tooQuiet*usual {
		return nil
	}
	return finding.List{finding.New(finding.SourceQuiet, "source "+source,
		"the source has published nothing since %s, for %s. Before, it published every %s "+
			"(%d publications seen)",
		last.Format(time.DateOnly), behind(silent), behind(usual), len(published))}
}
