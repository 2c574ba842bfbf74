// Package term is Piedmont's face in a terminal: colours, tables, and progress
// as a live view or as plain lines. It computes nothing about releases.
package term

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/term"

	"piedmont/internal/base/environ"
)

// Screen is where a command talks: results to Out, all else to Err.
type Screen struct {
	Out, Err io.Writer
	Live     bool // Err is a terminal that can be drawn on
	outColor bool
	errColor bool
	width    int
	unicode  bool
}

// New looks at what the two streams are and at the environment's wishes.
func New(out, err io.Writer, env environ.Env) *Screen {
	s := &Screen{Out: out, Err: err}
	plain := env.Get("NO_COLOR") != "" || env.Get("TERM") == "dumb"
	outTTY, _ := terminal(out)
	errTTY, width := terminal(err)
	s.outColor, s.errColor = outTTY && !plain, errTTY && !plain
	s.Live = errTTY && env.Get("TERM") != "dumb"
	s.width = width
	locale := env.Get("LC_ALL") + env.Get("LC_CTYPE") + env.Get("LANG")
	s.unicode = strings.Contains(strings.ToUpper(strings.ReplaceAll(locale, "-", "")), "UTF8")
	return s
}

// Is says whether somebody can answer there.
func Is(in io.Reader) bool {
	f, ok := in.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

func terminal(w io.Writer) (bool, int) {
	f, ok := w.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return false, 0
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil || width < 20 {
		width = 80
	}
	return true, width
}

// Style is a way to write a word.
type Style string

// The styles: SGR parameters of ECMA-48, from the terminal's own palette.
const (
	Bold Style = "1"
	Soft Style = "2"
	Good Style = "32"
	Warn Style = "33"
	Bad  Style = "31"
	Name Style = "36"
)

// Paint writes text in a style where Out shows colours.
func (s *Screen) Paint(style Style, text string) string { return paint(s.outColor, style, text) }

// PaintErr does the same for Err.
func (s *Screen) PaintErr(style Style, text string) string { return paint(s.errColor, style, text) }

func paint(on bool, style Style, text string) string {
	if !on || text == "" {
		return text
	}
	return "\x1b[" + string(style) + "m" + text + "\x1b[0m"
}

// Say writes a line to Err.
func (s *Screen) Say(format string, args ...any) {
	_, _ = fmt.Fprintf(s.Err, format+"\n", args...)
}

// Print writes a line to Out.
func (s *Screen) Print(format string, args ...any) {
	_, _ = fmt.Fprintf(s.Out, format+"\n", args...)
}

// Mark is a sign before a line: done, unchanged or failed.
func (s *Screen) mark(style Style) string {
	signs := map[Style]string{Good: "+", Soft: "=", Bad: "x", Name: ">"}
	if s.unicode {
		signs = map[Style]string{Good: "✓", Soft: "=", Bad: "✗", Name: "›"}
	}
	return s.PaintErr(style, signs[style])
}

// Size writes a number of bytes.
func Size(n int64) string { return humanize.IBytes(uint64(max(0, n))) }

// Took writes a duration as people say it.
func Took(d time.Duration) string {
	switch {
	case d < 100*time.Millisecond:
		return fmt.Sprintf("%d ms", max(1, d.Milliseconds()))
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
}

// Count writes a number with its noun.
func Count(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}
