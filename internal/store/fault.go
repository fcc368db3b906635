package store

import (
	"errors"

	"stockade/core/finding"
)

// faults are the results of SQLite that are this machine's doing (result and extended
// result codes of its C interface; the low eight bits tell the kind).
var faults = map[int]struct{ says, way string }{
	7: {"there is no memory left", "end what holds it, or give the machine more"},
	8: {"the records cannot be written to", "look at the rights of the data folder, and at how its disk " +
		"is mounted"},
	10: {"the disk failed while records were read or written",
		"look at the disk; then start the service again"},
	11: {"the records are damaged", "stop the service, and put stockade.db back from a backup"},
	13: {"the disk is full", "make room: stockade pool usage, stockade edition retire, stockade pool sweep"},
	14: {"the records cannot be opened", "look at the rights of the data folder"},
	26: {"what lies in the place of the records is no database", "put stockade.db back from a backup"},
}

// Fault tells whether an error of the records is a fault of this machine, and makes it
// the finding site.fault.
func Fault(err error) (finding.Finding, bool) {
	var of interface{ Code() int }
	if !errors.As(err, &of) {
		return finding.Finding{}, false
	}
	f, ok := faults[of.Code()&0xff]
	if !ok {
		return finding.Finding{}, false
	}
	return finding.New(finding.FaultCode, "site", "%s (%v)", f.says, err).Do("%s", f.way), true
}
