package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"syscall"

	"piedmont/internal/base/fault"
	"piedmont/internal/base/near"
	"piedmont/internal/cli/term"
	"piedmont/internal/config"
	"piedmont/internal/lang"
	"piedmont/internal/make/engine"
	"piedmont/internal/plan"
)

// statuses describes the exit statuses for the help and the reference.
var statuses = []struct {
	code fault.Status
	text string
}{
	{fault.Done, "done"},
	{fault.Failed, "failed"},
	{fault.Usage, "the call, the configuration or the repository is not as it must be"},
	{fault.NotReady, "not ready: something stands in the way of a release"},
	{fault.Trial, "a trial failed, or one that is required was not run"},
	{fault.Stopped, "publishing stopped part-way; run it again to go on"},
	{fault.Mismatch, "what was verified does not match"},
	{fault.Interrupted, "interrupted"},
}

// told is an error that was told already: only its status is left to give.
type told struct{ status fault.Status }

func (t told) Error() string            { return "told already" }
func (t told) ExitStatus() fault.Status { return t.status }

func usage(text string) error { return fault.Misuse(text, "") }

// meant ends a sentence with the name that was perhaps meant.
func meant(name string, known []string) string {
	if question := near.Question(name, known); question != "" {
		return "; " + question
	}
	return ""
}

// exit says what went wrong and gives the status for it.
func (a *app) exit(ctx context.Context, err error) int {
	if err == nil {
		return int(fault.Done)
	}
	if ctx.Err() != nil && (errors.Is(err, context.Canceled) || ctx.Err() == context.Canceled) {
		a.screen.Say("Interrupted. Nothing half-made is left; run it again to go on")
		return int(fault.Interrupted)
	}
	var silent told
	if !errors.As(err, &silent) {
		a.tell(err)
	}
	return int(fault.Of(err))
}

// tell writes an error for a person: what, where, and what to do.
func (a *app) tell(err error) {
	s := a.screen
	var faults config.Errors
	var planned plan.Errors
	var steps *engine.Error
	switch {
	case errors.As(err, &faults):
		for _, f := range faults {
			place := fmt.Sprintf("%s:%d:%d:", f.File, f.Pos.Line, f.Pos.Column)
			s.Say("%s %s%s", s.PaintErr(term.Bold, place), f.Message, hint(s, f.Hint))
		}
		s.Say("%s", s.PaintErr(term.Bad, term.Count(len(faults), "fault")+" in "+faults[0].File+"; nothing was done"))
	case errors.As(err, &planned):
		for _, p := range planned {
			s.Say("%s %s", s.PaintErr(term.Bad, "Error:"), p)
		}
	case errors.As(err, &steps):
		a.tellSteps(steps)
	default:
		s.Say("%s %s%s", s.PaintErr(term.Bad, "Error:"), err.Error(), space(err))
	}
}

func hint(s *term.Screen, text string) string {
	if text == "" {
		return ""
	}
	return "; " + s.PaintErr(term.Name, text)
}

// space adds what to do when the disk is full.
func space(err error) string {
	if errors.Is(err, syscall.ENOSPC) {
		return "\nThe disk is full: make room and run it again; what was finished is kept"
	}
	return ""
}

// tellSteps reports failed steps with what became of the others.
func (a *app) tellSteps(e *engine.Error) {
	s := a.screen
	for _, f := range e.Failed {
		s.Say("")
		var compile *lang.CompileError
		if errors.As(f.Err, &compile) {
			s.Say("%s %s", s.PaintErr(term.Bad, "Error:"), compile.Title())
			for _, line := range strings.Split(strings.TrimRight(compile.Output, "\n"), "\n") {
				s.Say("  %s", line)
			}
			continue
		}
		var examined *lang.ExamineError
		if errors.As(f.Err, &examined) {
			s.Say("%s what was made for %s is not what was declared", s.PaintErr(term.Bad, "Error:"),
				s.PaintErr(term.Bold, examined.Platform))
			for _, line := range examined.Faults {
				s.Say("  %s", line)
			}
			continue
		}
		s.Say("%s %s: %v%s", s.PaintErr(term.Bad, "Error:"), f.Title, f.Err, space(f.Err))
	}
	s.Say("")
	for _, group := range []struct {
		name   string
		titles []string
	}{{"Done", e.Done}, {"Not begun", e.Skipped}} {
		switch n := len(group.titles); {
		case n > 10:
			s.Say("%s: %d steps, such as %s", group.name, n, strings.Join(group.titles[n-2:], "; "))
		case n > 0:
			s.Say("%s: %s", group.name, strings.Join(group.titles, "; "))
		}
	}
	s.Say("The outbox is as it was.")
}

// printJSON writes a result as one document.
func (a *app) printJSON(v any) error {
	enc := json.NewEncoder(a.screen.Out)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}
