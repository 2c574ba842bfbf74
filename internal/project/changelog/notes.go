package changelog

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Notes are what a release tells its users.
type Notes struct {
	Version    string
	Date       string // of the release's commit, YYYY-MM-DD
	Last       string // the version before, "" for the first
	From, To   string // tags of the range
	Repository string // address in a browser, "" for no links
}

// Section writes the section of a changelog: a heading, then what changed.
func (n Notes) Section(r Rules, list []Change) string {
	return fmt.Sprintf("## %s (%s)\n\n%s", n.Version, n.Date, n.Body(r, list))
}

// Body writes the changes by kind, breaking ones first.
func (n Notes) Body(r Rules, list []Change) string {
	var b strings.Builder
	var breaking []Change
	for _, c := range list {
		if c.Breaking != "" {
			breaking = append(breaking, c)
		}
	}
	n.group(&b, "Breaking", breaking, func(c Change) string { return c.Breaking })
	subject := func(c Change) string { return c.Subject }
	for _, t := range r.Order {
		if r.Kinds[t].Heading == "" {
			continue
		}
		n.group(&b, r.Kinds[t].Heading, filter(list, func(c Change) bool { return c.Type == t }), subject)
	}
	// Commits outside of the convention are told too: nothing is lost.
	other := "Other changes"
	if b.Len() == 0 {
		other = "Changes"
	}
	n.group(&b, other, filter(list, func(c Change) bool { return !c.Conventional() || r.unknown(c) }), subject)
	if b.Len() == 0 {
		b.WriteString("Nothing that a user would notice.\n\n")
	}
	return strings.TrimRight(b.String(), "\n") + "\n"
}

// Tail names the contributors and the range that is compared.
func (n Notes) Tail(list []Change) string {
	var b strings.Builder
	if people := Contributors(list); len(people) > 0 {
		fmt.Fprintf(&b, "### Contributors\n\n%s\n\n", strings.Join(people, ", "))
	}
	if n.From != "" {
		fmt.Fprintf(&b, "Everything since %s: %s", n.Last, n.compare())
	}
	return strings.TrimRight(b.String(), "\n") + "\n"
}

// unknown says whether a type has no meaning in the rules.
func (r Rules) unknown(c Change) bool {
	_, ok := r.Kinds[c.Type]
	return !ok && c.Breaking == ""
}

func filter(list []Change, keep func(Change) bool) []Change {
	var out []Change
	for _, c := range list {
		if keep(c) {
			out = append(out, c)
		}
	}
	return out
}

func (n Notes) group(b *strings.Builder, heading string, list []Change, text func(Change) string) {
	if len(list) == 0 {
		return
	}
	fmt.Fprintf(b, "### %s\n\n", heading)
	for _, c := range list {
		scope := ""
		if c.Scope != "" {
			scope = "**" + escape(c.Scope) + ":** "
		}
		fmt.Fprintf(b, "- %s%s (%s)\n", scope, escape(text(c)), n.link(c.Commit.ID))
	}
	b.WriteString("\n")
}

func (n Notes) link(id string) string {
	short := id[:min(8, len(id))]
	if n.Repository == "" {
		return short
	}
	return fmt.Sprintf("[%s](%s/commit/%s)", short, strings.TrimSuffix(n.Repository, "/"), id)
}

func (n Notes) compare() string {
	span := n.From + "..." + n.To
	if n.Repository == "" {
		return "`git log " + n.From + ".." + n.To + "`\n"
	}
	return fmt.Sprintf("[%s](%s/compare/%s)\n", span, strings.TrimSuffix(n.Repository, "/"), span)
}

// markup are the characters that would make a commit's words into Markdown.
var markup = strings.NewReplacer(`\`, `\\`, "<", "&lt;", "[", `\[`, "]", `\]`, "*", `\*`, "_", `\_`)

func escape(s string) string { return markup.Replace(s) }

// Contributors names everybody once, in the order of their first commit here.
func Contributors(list []Change) []string {
	seen := map[string]bool{}
	var out []string
	for _, c := range slices.Backward(list) {
		for _, p := range c.Authors {
			key := strings.ToLower(p.Mail)
			if p.Name == "" || seen[key] {
				continue
			}
			seen[key] = true
			out = append(out, escape(p.Name))
		}
	}
	return out
}

// FindSection gives the text below a version's heading in a changelog, without
// the heading; false when there is none. A heading is any that names the version
// as a word of its own, as in "## 1.4.0 (2026-05-02)" or "## [v1.4.0]".
func FindSection(changelog, version string) (string, bool) {
	heading := regexp.MustCompile(`^(#{1,3})(?:\s|\s.*?[\s\[v(])` + regexp.QuoteMeta(version) + `(?:[\s\]),:]|$)`)
	lines := strings.Split(strings.ReplaceAll(changelog, "\r\n", "\n"), "\n")
	for i, line := range lines {
		m := heading.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		end := i + 1
		for end < len(lines) && !isHeading(lines[end], len(m[1])) {
			end++
		}
		return strings.TrimSpace(strings.Join(lines[i+1:end], "\n")) + "\n", true
	}
	return "", false
}

// isHeading says whether a line is a heading of that level or a higher one.
func isHeading(line string, level int) bool {
	n := len(line) - len(strings.TrimLeft(line, "#"))
	return n > 0 && n <= level && strings.HasPrefix(line[n:], " ")
}

// AddSection puts a new section on top of a changelog: before its first section,
// after whatever introduces it. The rest stays byte for byte; line ends are those
// of the file.
func AddSection(changelog, section string) string {
	if strings.Contains(changelog, "\r\n") {
		section = strings.ReplaceAll(section, "\n", "\r\n")
	}
	end := "\n"
	if strings.Contains(changelog, "\r\n") {
		end = "\r\n"
	}
	if strings.TrimSpace(changelog) == "" {
		return "# Changes" + end + end + section
	}
	at := 0
	for rest := changelog; rest != ""; {
		line, after, _ := strings.Cut(rest, "\n")
		if strings.HasPrefix(line, "## ") {
			return changelog[:at] + section + end + changelog[at:]
		}
		at += len(rest) - len(after)
		rest = after
	}
	// No section yet: it goes below the title, or on top where there is none.
	line, after, _ := strings.Cut(changelog, "\n")
	if strings.HasPrefix(line, "# ") {
		return changelog[:len(changelog)-len(after)] + end + section + end + strings.TrimLeft(after, "\r\n")
	}
	return section + end + changelog
}
