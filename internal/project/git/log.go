package git

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"piedmont/internal/project/changelog"
)

// Log hands over the commits after one (or all, for "") up to another, newest
// first, while git still writes the next. Messages that are not UTF-8 are
// converted where git knows their encoding; bytes that still are none are replaced.
func (r Repo) Log(ctx context.Context, after, upTo string, each func(changelog.Commit)) error {
	span := upTo
	if after != "" {
		span = after + ".." + upTo
	}
	cmd := r.command(ctx, "-c", "i18n.logOutputEncoding=UTF-8", "log", "-z", "--no-show-signature",
		"--no-color", "--format=%H%x1f%P%x1f%aN%x1f%aE%x1f%ct%x1f%B", span, "--")
	var errOut bytes.Buffer
	cmd.Stderr = &errOut
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start git log: %w", err)
	}
	readErr := records(out, each)
	if readErr != nil {
		_, _ = io.Copy(io.Discard, out) // git must not wait for its reader
	}
	if err := cmd.Wait(); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return explain("log", err, errOut.String())
	}
	return readErr
}

func records(out io.Reader, each func(changelog.Commit)) error {
	in := bufio.NewReaderSize(out, 64<<10)
	for {
		record, err := in.ReadString(0)
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if record = strings.TrimSuffix(record, "\x00"); record != "" {
			c, parseErr := parseCommit(record)
			if parseErr != nil {
				return parseErr
			}
			each(c)
		}
		if err != nil {
			return nil
		}
	}
}

func parseCommit(record string) (changelog.Commit, error) {
	f := strings.SplitN(strings.ToValidUTF8(record, "\uFFFD"), "\x1f", 6)
	if len(f) != 6 {
		return changelog.Commit{}, fmt.Errorf("git log answered %q", record)
	}
	seconds, err := strconv.ParseInt(f[4], 10, 64)
	if err != nil {
		return changelog.Commit{}, fmt.Errorf("git log answered the time %q", f[4])
	}
	return changelog.Commit{ID: f[0], Parents: strings.Fields(f[1]), Author: changelog.Person{Name: f[2],
		Mail: f[3]}, Time: time.Unix(seconds, 0).UTC(), Message: f[5]}, nil
}

// Shallow says whether the clone lacks older history.
func (r Repo) Shallow(ctx context.Context) (bool, error) {
	out, err := r.git(ctx, "rev-parse", "--is-shallow-repository")
	return strings.TrimSpace(out) == "true", err
}
