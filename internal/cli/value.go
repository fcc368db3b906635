package cli

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// byteUnits are the units of sizes. Letters alone are binary, as disks and memory are
// shown here.
var byteUnits = map[string]float64{"": 1, "b": 1,
	"k": 1 << 10, "m": 1 << 20, "g": 1 << 30, "t": 1 << 40,
	"kib": 1 << 10, "mib": 1 << 20, "gib": 1 << 30, "tib": 1 << 40,
	"kb": 1e3, "mb": 1e6, "gb": 1e9, "tb": 1e12}

var measure = regexp.MustCompile(`^([0-9]+(?:\.[0-9]+)?) ?([a-zA-Z]*)$`)

// parseSize reads a size as people write it: 5M, 4GiB, 1.5 GB, 700. Letters alone and
// KiB, MiB, GiB, TiB are powers of 1024; kB, MB, GB, TB of 1000. The result is bytes.
func parseSize(text string) (int64, error) {
	m := measure.FindStringSubmatch(text)
	if m == nil {
		return 0, fmt.Errorf("%q is not a size such as 5M, 4GiB or 700", text)
	}
	unit, ok := byteUnits[strings.ToLower(m[2])]
	n, err := strconv.ParseFloat(m[1], 64)
	if !ok || err != nil || n*unit >= math.MaxInt64 {
		return 0, fmt.Errorf("%q is not a size such as 5M, 4GiB or 700", text)
	}
	return int64(n * unit), nil
}

var timeUnits = map[string]time.Duration{"s": time.Second, "m": time.Minute, "min": time.Minute,
	"h": time.Hour, "d": 24 * time.Hour, "w": 7 * 24 * time.Hour}

// parseTime reads a length of time as people write it: 90s, 30m, 12h, 2d, 3w; also as
// Go writes it, 1h30m.
func parseTime(text string) (time.Duration, error) {
	if m := measure.FindStringSubmatch(text); m != nil {
		unit, ok := timeUnits[m[2]]
		n, err := strconv.ParseFloat(m[1], 64)
		if ok && err == nil && n*float64(unit) < math.MaxInt64 {
			return time.Duration(n * float64(unit)), nil
		}
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return d, nil
	}
	return 0, fmt.Errorf("%q is not a duration such as 30m, 12h, 2d or 3w", text)
}

// parseWhen reads a point in time: a length of time ago, a day, a day with a time (of
// this machine's clock), or as RFC 3339 has it.
func parseWhen(text string, now time.Time) (time.Time, error) {
	if d, err := parseTime(text); err == nil {
		return now.Add(-d), nil
	}
	for _, form := range []string{time.RFC3339, time.DateOnly, "2006-01-02 15:04", "2006-01-02T15:04"} {
		if t, err := time.ParseInLocation(form, text, now.Location()); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is not a time: write 2d (two days ago), 2026-11-24, "+
		"\"2026-11-24 06:30\", or a time as in RFC 3339", text)
}

// sizeValue is an option that takes a size.
type sizeValue int64

func (v *sizeValue) String() string {
	if *v == 0 {
		return "0"
	}
	return strings.ReplaceAll(size(int64(*v)), " ", "")
}

func (v *sizeValue) Type() string { return "size" }

func (v *sizeValue) Set(text string) error {
	n, err := parseSize(text)
	*v = sizeValue(n)
	return err
}

// timeValue is an option that takes a length of time.
type timeValue time.Duration

func (v *timeValue) String() string {
	d := time.Duration(*v)
	if d >= 24*time.Hour && d%(24*time.Hour) == 0 {
		return fmt.Sprintf("%dd", d/(24*time.Hour))
	}
	return d.String()
}

func (v *timeValue) Type() string { return "time" }

func (v *timeValue) Set(text string) error {
	d, err := parseTime(text)
	*v = timeValue(d)
	return err
}
