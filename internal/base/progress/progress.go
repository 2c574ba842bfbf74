// Package progress is how progress leaves the core: typed events on one
// interface. A terminal draws them, --json writes them, a test collects them.
package progress

import "time"

// Sink takes events; it is called from many goroutines.
type Sink interface {
	Event(Event)
}

// Event is one of the types below.
type Event interface{ event() }

// Began says how many steps are to come.
type Began struct {
	What  string // "make" or "publish"
	Steps int
}

// Started says that a step runs.
type Started struct {
	ID, Title string
	Total     int64 // bytes to come, 0 when unknown
}

// Moved says how many bytes of a step are done.
type Moved struct {
	ID   string
	Done int64
}

// Finished ends a step well.
type Finished struct {
	ID, Title string
	Reused    bool // nothing had to be done
	Brief     bool // the result tells it again: it is worth a line only with --verbose
	Took      time.Duration
	Size      int64 // bytes of what was made or sent
}

// Failed ends a step badly.
type Failed struct {
	ID, Title string
	Err       error
}

// Note is something a person should know while it runs, such as waiting.
type Note struct{ Text string }

func (Began) event()    {}
func (Started) event()  {}
func (Moved) event()    {}
func (Finished) event() {}
func (Failed) event()   {}
func (Note) event()     {}

// Discard is a sink for those who do not listen.
type Discard struct{}

// Event drops the event.
func (Discard) Event(Event) {}
