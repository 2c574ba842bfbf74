// Package changelog reads what commits say (Conventional Commits 1.0), decides
// what kind of release they ask for, and writes the notes of a release.
package changelog

import (
	"regexp"
	"slices"
	"strings"
	"time"
)

// Commit is one commit as git has it.
type Commit struct {
	ID      string
	Parents []string // ids
	Author  Person
	Time    time.Time
	Message string // valid UTF-8
}

// Person is an author or co-author.
type Person struct{ Name, Mail string }

// Change is what one commit says.
type Change struct {
	Commit   Commit
	Type     string // "feat"; "" when the commit does not follow the convention
	Scope    string
	Subject  string
	Breaking string // what breaks, "" when nothing does
	Reverts  []string
	Authors  []Person
}

// Conventional says whether the commit follows the convention.
func (c Change) Conventional() bool { return c.Type != "" }

var (
	// Specification, items 1 to 5 and 13: type, scope in parentheses, "!", colon, space.
	head = regexp.MustCompile(`^([A-Za-z][A-Za-z0-9-]*)(?:\(([^()\r\n]+)\))?(!)?: +(\S.*)$`)
	// Items 8 to 10: a footer's token, then ": " or " #".
	footer = regexp.MustCompile(`^(BREAKING CHANGE|BREAKING-CHANGE|[A-Za-z][A-Za-z0-9-]*)(?:: | #)(.*)$`)
	person = regexp.MustCompile(`^\s*(.*?)\s*<([^<>]+)>\s*$`)
	// What "git revert" writes.
	reverted = regexp.MustCompile(`This reverts commit ([0-9a-f]{7,64})`)
	hash     = regexp.MustCompile(`\b[0-9a-f]{7,64}\b`)
	gitTitle = regexp.MustCompile(`^Revert "(.*)"$`)
)

// Read understands one commit.
func Read(c Commit) Change {
	message := strings.TrimSpace(c.Message)
	if strings.Contains(message, "\r") {
		message = strings.ReplaceAll(message, "\r\n", "\n")
	}
	lines := strings.Split(message, "\n")
	out := Change{Commit: c, Subject: strings.TrimSpace(lines[0])}
	if c.Author.Name != "" {
		out.Authors = []Person{c.Author}
	}
	if !strings.Contains(lines[0], ": ") {
		// Prose; patterns are slow, and histories long.
	} else if m := head.FindStringSubmatch(lines[0]); m != nil {
		out.Type, out.Scope, out.Subject = strings.ToLower(m[1]), m[2], strings.TrimSpace(m[4])
		if m[3] == "!" {
			out.Breaking = out.Subject
		}
	}
	for _, f := range footers(lines[1:]) {
		switch token := strings.ToLower(f.token); {
		case f.token == "BREAKING CHANGE" || f.token == "BREAKING-CHANGE":
			out.Breaking = f.value
		case token == "co-authored-by":
			if m := person.FindStringSubmatch(f.value); m != nil {
				out.Authors = append(out.Authors, Person{m[1], m[2]})
			}
		case token == "refs" && out.Type == "revert":
			out.Reverts = append(out.Reverts, hash.FindAllString(f.value, -1)...)
		}
	}
	if strings.Contains(c.Message, "This reverts commit ") {
		for _, m := range reverted.FindAllStringSubmatch(c.Message, -1) {
			out.Reverts = append(out.Reverts, m[1])
		}
	}
	if m := gitTitle.FindStringSubmatch(out.Subject); m != nil && len(out.Reverts) > 0 && out.Type == "" {
		out.Type = "revert"
		out.Subject = m[1]
	}
	return out
}

// mayBeFooter drops most lines of prose: a footer's token is one word, but for
// the one that announces what breaks.
func mayBeFooter(line string) bool {
	i := strings.IndexAny(line, ": ")
	return i > 0 && (line[i] == ':' || strings.HasPrefix(line[i:], " #") || strings.HasPrefix(line, "BREAKING CHANGE"))
}

type trailer struct{ token, value string }

// footers reads the footers of a body; one may go on over several lines until
// the next begins.
func footers(lines []string) []trailer {
	var out []trailer
	inside := false
	for i, line := range lines {
		var m []string
		if mayBeFooter(line) {
			m = footer.FindStringSubmatch(line)
		}
		// A footer stands after an empty line or after another footer, except
		// for breaking changes, which people write anywhere.
		if m != nil && (inside || i == 0 || strings.TrimSpace(lines[i-1]) == "" ||
			strings.HasPrefix(m[1], "BREAKING")) {
			out = append(out, trailer{m[1], strings.TrimSpace(m[2])})
			inside = true
			continue
		}
		if strings.TrimSpace(line) == "" {
			inside = false
			continue
		}
		if inside && len(out) > 0 {
			last := &out[len(out)-1]
			last.value = strings.TrimSpace(last.value + " " + strings.TrimSpace(line))
		}
	}
	return out
}

// ReadAll understands commits, newest first, and settles them.
func ReadAll(commits []Commit) []Change {
	all := make([]Change, 0, len(commits))
	for _, c := range commits {
		all = append(all, Read(c))
	}
	return Settle(all)
}

// Settle drops changes, newest first, that say nothing to a user: merges, and
// pairs of a commit and its revert.
func Settle(all []Change) []Change {
	gone := map[int]bool{}
	for i := range all { // newest first, so that a reverted revert has no effect itself
		if len(all[i].Commit.Parents) > 1 {
			gone[i] = true
		}
		if gone[i] {
			continue
		}
		for _, id := range all[i].Reverts {
			k := slices.IndexFunc(all, func(o Change) bool { return strings.HasPrefix(o.Commit.ID, id) })
			if k > i && !gone[k] {
				gone[i], gone[k] = true, true
			}
		}
	}
	out := make([]Change, 0, len(all)-len(gone))
	for i := range all {
		if !gone[i] {
			out = append(out, all[i])
		}
	}
	return out
}
