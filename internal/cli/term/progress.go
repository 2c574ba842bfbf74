package term

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"piedmont/internal/base/progress"
)

// Progress shows events until stop is called: a live view in a terminal, lines
// elsewhere. With quiet it shows failures only; with verbose also what was
// there already.
func (s *Screen) Progress(quiet, verbose bool) (sink progress.Sink, stop func()) {
	p := &printer{s: s, quiet: quiet, verbose: verbose}
	if !s.Live || quiet {
		return p, func() {}
	}
	l := &live{printer: p, bars: map[string]*bar{}, start: time.Now()}
	l.view = mpb.New(mpb.WithOutput(s.Err), mpb.WithWidth(s.width), mpb.WithRefreshRate(120*time.Millisecond))
	p.write = func(line string) { _, _ = l.view.Write([]byte(line + "\n")) }
	return l, l.stop
}

// printer writes a line for each step that ended.
type printer struct {
	s              *Screen
	quiet, verbose bool
	mu             sync.Mutex
	write          func(line string) // nil writes to Err
}

// Event writes the line of an event, if it has one.
func (p *printer) Event(e progress.Event) {
	p.mu.Lock()
	defer p.mu.Unlock()
	line := p.line(e)
	if line == "" {
		return
	}
	if p.write != nil {
		p.write(line)
		return
	}
	p.s.Say("%s", line)
}

func (p *printer) line(e progress.Event) string {
	switch e := e.(type) {
	case progress.Failed:
		return p.s.mark(Bad) + " " + e.Title + ": " + p.s.PaintErr(Bad, "failed")
	case progress.Note:
		if !p.quiet {
			return p.s.PaintErr(Warn, e.Text)
		}
	case progress.Finished:
		if p.quiet || ((e.Reused || e.Brief) && !p.verbose) {
			return ""
		}
		if e.Reused {
			return p.s.mark(Soft) + " " + p.s.PaintErr(Soft, e.Title+", unchanged")
		}
		detail := Took(e.Took)
		if e.Took == 0 {
			detail = ""
		}
		if e.Size > 0 {
			detail = strings.TrimPrefix(detail+", "+Size(e.Size), ", ")
		}
		return p.s.mark(Good) + " " + e.Title + "  " + p.s.PaintErr(Soft, detail)
	}
	return ""
}

// live is the view of a terminal: finished steps settle above, one line for
// each that runs, and a line with the total.
type live struct {
	*printer
	view  *mpb.Progress
	bars  map[string]*bar
	total *bar

	// The view calls back for its lines while it is being called, so the
	// numbers in them have a lock of their own.
	counts sync.Mutex
	start  time.Time
	steps  int
	done   int
}

type bar struct {
	b     *mpb.Bar
	mu    sync.Mutex
	title string
	start time.Time
	total int64
	moved int64
}

func (l *live) Event(e progress.Event) {
	l.mu.Lock()
	switch e := e.(type) {
	case progress.Began:
		l.counts.Lock()
		l.steps, l.done, l.start = e.Steps, 0, time.Now()
		l.counts.Unlock()
		if l.total == nil && e.Steps > 0 {
			l.total = &bar{}
			l.total.b = l.add(1<<20, func() string { return l.summary() })
		}
	case progress.Started:
		b := &bar{title: e.Title, start: time.Now(), total: e.Total}
		b.b = l.add(len(l.bars), func() string { return l.running(b) })
		l.bars[e.ID] = b
	case progress.Moved:
		if b := l.bars[e.ID]; b != nil {
			b.mu.Lock()
			b.moved = e.Done
			b.mu.Unlock()
		}
	case progress.Finished:
		l.settle(e.ID)
	case progress.Failed:
		l.settle(e.ID)
	}
	l.mu.Unlock()
	l.printer.Event(e)
}

func (l *live) settle(id string) {
	l.counts.Lock()
	l.done++
	l.counts.Unlock()
	if b := l.bars[id]; b != nil {
		b.b.Abort(true)
		delete(l.bars, id)
	}
}

func (l *live) add(priority int, line func() string) *mpb.Bar {
	return l.view.New(0, mpb.NopStyle(), mpb.BarPriority(priority),
		mpb.PrependDecorators(decor.Any(func(decor.Statistics) string {
			return text.Trim(line(), max(10, l.s.width-2))
		})))
}

func (l *live) running(b *bar) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	line := l.s.mark(Name) + " " + b.title
	if b.total > 0 {
		line += l.s.PaintErr(Soft, fmt.Sprintf("  %d%% of %s", 100*b.moved/b.total, Size(b.total)))
	}
	if d := time.Since(b.start); d >= time.Second {
		line += l.s.PaintErr(Soft, fmt.Sprintf("  %d s", int(d.Seconds())))
	}
	return line
}

func (l *live) summary() string {
	l.counts.Lock()
	defer l.counts.Unlock()
	return l.s.PaintErr(Bold, fmt.Sprintf("  %d of %d steps", l.done, l.steps)) +
		l.s.PaintErr(Soft, fmt.Sprintf("  %d s", int(time.Since(l.start).Seconds())))
}

func (l *live) stop() {
	l.mu.Lock()
	for _, b := range l.bars {
		b.b.Abort(true)
	}
	if l.total != nil {
		l.total.b.Abort(true)
	}
	l.mu.Unlock()
	l.view.Wait()
}

// Watching shows what runs and lets nothing settle: for work whose result is a
// table of its own.
func (s *Screen) Watching() (sink progress.Sink, stop func()) {
	sink, stop = s.Progress(false, false)
	if l, ok := sink.(*live); ok {
		l.write = func(string) {}
	}
	return sink, stop
}
