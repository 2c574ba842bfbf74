package repo

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"piedmont/internal/changes"
)

// Log gives the commits after one (or all, for "") up to another, newest first.
// Messages that are not UTF-8 are converted where git knows their encoding;
// bytes that still are none are replaced.
func (r Repo) Log(ctx context.Context, after, upTo string) ([]changes.Commit, error) {
	span := upTo
	if after != "" {
		span = after + ".." + upTo
	}
	out, err := r.git(ctx, "-c", "i18n.logOutputEncoding=UTF-8", "log", "-z", "--no-show-signature", "--no-color", "--format=%H%x1f%P%x1f%aN%x1f%aE%x1f%ct%x1f%B", span, "--")
	if err != nil {
		return nil, err
	}
	var list []changes.Commit
	for _, record := range strings.Split(out, "\x00") {
		if record == "" {
			continue
		}
		f := strings.SplitN(strings.ToValidUTF8(record, "\uFFFD"), "\x1f", 6)
		if len(f) != 6 {
			return nil, fmt.Errorf("git log answered %q", record)
		}
		seconds, err := strconv.ParseInt(f[4], 10, 64)
		if err != nil {
			return nil, fmt.Errorf("git log answered the time %q", f[4])
		}
		list = append(list, changes.Commit{ID: f[0], Parents: len(strings.Fields(f[1])), Author: changes.Person{Name: f[2], Mail: f[3]},
			Time: time.Unix(seconds, 0).UTC(), Message: f[5]})
	}
	return list, nil
}

// Shallow says whether the clone lacks older history.
func (r Repo) Shallow(ctx context.Context) (bool, error) {
	out, err := r.git(ctx, "rev-parse", "--is-shallow-repository")
	return strings.TrimSpace(out) == "true", err
}
