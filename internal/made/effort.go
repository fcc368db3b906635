package made

import (
	"syscall"
	"time"
)

// Effort gives the processor time that do takes of this process, the least of several
// tries: what else runs on the machine does not count, and what else runs in the process
// must not. Where a test compares two, do is what grows.
func Effort(tries int, do func()) time.Duration {
	best := time.Duration(-1)
	for range tries {
		before := used()
		do()
		if took := used() - before; best < 0 || took < best {
			best = took
		}
	}
	return max(best, time.Microsecond)
}

func used() time.Duration {
	var r syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &r); err != nil {
		panic("made: the processor time of this process cannot be read: " + err.Error())
	}
	return time.Duration(r.Utime.Nano() + r.Stime.Nano())
}
