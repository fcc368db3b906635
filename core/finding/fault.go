package finding

import (
	"errors"
	"fmt"
	"syscall"
)

// FaultCode is the code of what went wrong on this machine and says nothing of
// what was being read or fetched.
const FaultCode Code = "site.fault"

// faults are the errors of the operating system that are about this machine.
var faults = []struct {
	errno syscall.Errno
	says  string
	do    string
}{
	{syscall.ENOSPC, "the disk is full", "free space and run it again: what was verified is kept"},
	{syscall.EDQUOT, "the disk quota is used up",
		"raise it or free space, and run it again: what was verified is kept"},
	{syscall.EROFS, "the disk can only be read", "mount it for writing, and run it again"},
	{syscall.EMFILE, "no file descriptors are left",
		"close connections or raise the limit of open files, and run it again"},
	{syscall.ENFILE, "the machine has no file descriptors left", "end other programs, and run it again"},
	{syscall.ENOBUFS, "the machine has no buffers left", "end other programs, and run it again"},
	{syscall.ENOMEM, "the machine has no memory left", "end other programs, and run it again"},
	{syscall.EIO, "the disk could not be read or written",
		"look at the machine's log: the disk may be failing"},
	{syscall.EACCES, "the rights do not suffice",
		"give the data folder to the account that the service runs as"},
	{syscall.EPERM, "the rights do not suffice",
		"give the data folder to the account that the service runs as"},
}

// Fault tells whether an error is a fault of this machine (no space, no file
// descriptors, a disk that fails, rights that do not suffice), and makes it the
// finding site.fault. Such an error is final, is never blamed on an upstream and
// never taken for damage.
func Fault(err error, doing string) (Finding, bool) {
	if f, ok := From(err); ok {
		return f, f.Code == FaultCode
	}
	for _, f := range faults {
		if errors.Is(err, f.errno) {
			return New(FaultCode, "", "%s: %s (%v)", doing, f.says, f.errno).Do("%s", f.do), true
		}
	}
	return Finding{}, false
}

// Unread is the fault of what could not be read from this machine's own disk, whatever
// the system calls it: it says nothing of what was being read.
func Unread(err error, what string) Finding {
	if f, ok := Fault(err, "read "+what); ok {
		return f
	}
	return New(FaultCode, "", "read %s: %v", what, err)
}

// Doing wraps an error with what was being done; a fault of this machine becomes
// the finding that says so.
func Doing(err error, format string, args ...any) error {
	if err == nil {
		return nil
	}
	doing := fmt.Sprintf(format, args...)
	if f, ok := Fault(err, doing); ok {
		return f
	}
	return fmt.Errorf("%s: %w", doing, err)
}
