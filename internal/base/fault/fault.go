// Package fault is how Piedmont says that something cannot be done: what
// happened, what mends it, and which exit status that means.
package fault

import "errors"

// Status is the exit status that an error means. docs/commands.md lists them.
type Status int

// The statuses. They are part of what Piedmont promises.
const (
	Done        Status = 0
	Failed      Status = 1
	Usage       Status = 2 // the call, the configuration or the repository
	NotReady    Status = 3
	Trial       Status = 4
	Stopped     Status = 5 // publishing broke off; a next run goes on
	Mismatch    Status = 6 // what was verified is not what it should be
	Interrupted Status = 130
)

// Error is an error that a person can mend.
type Error struct {
	What   string // what happened, and where
	Fix    string // what to do: a command or an edit; "" when nothing is known
	Status Status // zero means Failed
	Err    error  // the cause, for errors.Is; nil when there is none
}

// New is an error with what mends it.
func New(what, fix string) *Error { return &Error{What: what, Fix: fix} }

// Misuse is an error of the call, the configuration or the repository.
func Misuse(what, fix string) *Error { return &Error{What: what, Fix: fix, Status: Usage} }

// Error is What, and Fix: on a line of its own when it begins as a sentence
// does, else as the end of the sentence.
func (e *Error) Error() string {
	switch {
	case e.Fix == "":
		return e.What
	case e.Fix[0] >= 'A' && e.Fix[0] <= 'Z':
		return e.What + "\n" + e.Fix
	}
	return e.What + ": " + e.Fix
}

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Err }

// ExitStatus is the status that the error means.
func (e *Error) ExitStatus() Status {
	if e.Status == Done {
		return Failed
	}
	return e.Status
}

// Of is the status that an error means: that of the first in its chain which
// has one, else Failed; Done for nil.
func Of(err error) Status {
	if err == nil {
		return Done
	}
	var has interface{ ExitStatus() Status }
	if errors.As(err, &has) {
		return has.ExitStatus()
	}
	return Failed
}

// Parts gives what happened and what mends it, apart: of an *Error its two
// texts with what was said around it, of any other error its text alone.
func Parts(err error) (what, fix string) {
	var e *Error
	if !errors.As(err, &e) {
		return err.Error(), ""
	}
	if error(e) == err {
		return e.What, e.Fix
	}
	// Somebody wrapped it and said more: the fix stands at the end.
	whole := err.Error()
	if e.Fix != "" && len(whole) > len(e.Fix) && whole[len(whole)-len(e.Fix):] == e.Fix {
		for whole = whole[:len(whole)-len(e.Fix)]; len(whole) > 0; whole = whole[:len(whole)-1] {
			if c := whole[len(whole)-1]; c != ' ' && c != ':' && c != '\n' {
				break
			}
		}
		return whole, e.Fix
	}
	return whole, e.Fix
}
