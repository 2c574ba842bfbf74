package outbox

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"

	"piedmont/internal/base/progress"
)

// Holder says who has a project's lock.
type Holder struct {
	PID     int       `json:"pid"`
	Host    string    `json:"host"`
	Command string    `json:"command"`
	Since   time.Time `json:"since"`
}

// HeldError means that another run works in the project.
type HeldError struct{ Holder Holder }

func (e *HeldError) Error() string {
	return "another run works in this project: " + e.Holder.String()
}

// String is one line for a person.
func (h Holder) String() string {
	if h.PID == 0 {
		return "it has not said who it is"
	}
	return fmt.Sprintf("process %d on %s, %q, since %s", h.PID, h.Host, h.Command, h.Since.Local().Format("15:04:05"))
}

// lock takes the project's lock; it waits for it, or gives a HeldError at once.
// The system frees it when the process ends, however it ends.
func lock(ctx context.Context, work string, o Options) (release func(), err error) {
	l := flock.New(filepath.Join(work, "lock"))
	holderFile := filepath.Join(work, "holder.json")
	got, err := l.TryLock()
	if err != nil {
		return nil, fmt.Errorf("lock the project: %w", err)
	}
	if !got {
		holder := readHolder(holderFile)
		if o.NoWait {
			return nil, &HeldError{holder}
		}
		o.Events.Event(progress.Note{Text: "waiting for another run in this project: " + holder.String()})
		if _, err := l.TryLockContext(ctx, 100*time.Millisecond); err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			return nil, fmt.Errorf("lock the project: %w", err)
		}
	}
	host, _ := os.Hostname()
	data, err := json.Marshal(Holder{os.Getpid(), host, o.Command, time.Now()})
	if err == nil {
		err = os.WriteFile(holderFile, data, 0o644)
	}
	if err != nil {
		_ = l.Unlock()
		return nil, fmt.Errorf("lock the project: %w", err)
	}
	return func() { _ = os.Remove(holderFile); _ = l.Unlock() }, nil
}

func readHolder(file string) Holder {
	var h Holder
	if data, err := os.ReadFile(file); err == nil {
		_ = json.Unmarshal(data, &h)
	}
	return h
}
