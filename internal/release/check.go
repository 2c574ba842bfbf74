package release

import (
	"encoding/hex"
	"fmt"
	"regexp"
	"strings"

	"piedmont/internal/base/semver"
)

// The names a release may use. They become folders, URLs and file names on
// every system, so they are few, and none can leave its folder.
var (
	projectName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)
	fileName    = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+~-]{0,199}$`)
	commitID    = regexp.MustCompile(`^([0-9a-f]{40}|[0-9a-f]{64})$`)
)

// reserved project names are taken by the release page's own addresses.
var reservedProjects = []string{"api", "assets", "latest"}

// reservedFiles are written by whoever keeps a release, not by its maker.
var reservedFiles = []string{"index.html", RecordName, Name, SumsName}

// windowsDevices cannot be file names on Windows, whatever their ending.
var windowsDevices = regexp.MustCompile(`(?i)^(con|prn|aux|nul|com[0-9]|lpt[0-9])(\.|$)`)

// CheckProject says why a name cannot be a project's; nil when it can.
func CheckProject(name string) error {
	if !projectName.MatchString(name) || strings.Contains(name, "..") || strings.HasSuffix(name, ".") ||
		windowsDevices.MatchString(name) {
		return fmt.Errorf("%q cannot be a project name: use lower-case letters, digits, dots, hyphens and "+
			"underscores, at most 64, and begin with a letter or digit", name)
	}
	for _, r := range reservedProjects {
		if name == r {
			return fmt.Errorf("%q cannot be a project name: the release page uses it itself", name)
		}
	}
	return nil
}

// CheckVersion says why a text cannot be a release's version.
func CheckVersion(v string) error {
	if !semver.Valid(v) || len(v) > 128 {
		return fmt.Errorf("%q is not a version as SemVer 2.0 writes it, such as 1.4.0", v)
	}
	return nil
}

// CheckFile says why a name cannot be a release file's; nil when it can.
func CheckFile(name string) error {
	if !fileName.MatchString(name) || strings.HasSuffix(name, ".") || windowsDevices.MatchString(name) {
		return fmt.Errorf("%q cannot be a file name in a release: use letters, digits and . _ + ~ -, at "+
			"most 200, begin with a letter or digit and do not end with a dot", name)
	}
	for _, r := range reservedFiles {
		if strings.EqualFold(name, r) {
			return fmt.Errorf("%q cannot be a file of a release: that name is taken by the release itself", name)
		}
	}
	return nil
}

// Check holds a manifest against the format. After it, every name in m.Files
// is a plain file name, no two are equal even where case does not count, and
// every digest is well-formed.
func (m *Manifest) Check() error {
	if m.Format != Format {
		return fmt.Errorf("the manifest's format is %q; this version of Piedmont reads %q", m.Format, Format)
	}
	if err := CheckProject(m.Project.Name); err != nil {
		return fmt.Errorf("manifest: %w", err)
	}
	if err := CheckVersion(m.Version); err != nil {
		return fmt.Errorf("manifest: %w", err)
	}
	if !commitID.MatchString(m.Commit.ID) {
		return fmt.Errorf("manifest: %q is not a commit id", m.Commit.ID)
	}
	if len(m.Files) == 0 {
		return fmt.Errorf("manifest: it lists no files")
	}
	seen := map[string]string{}
	for _, f := range m.Files {
		if err := CheckFile(f.Name); err != nil {
			return fmt.Errorf("manifest: %w", err)
		}
		if other, ok := seen[strings.ToLower(f.Name)]; ok {
			return fmt.Errorf("manifest: %q and %q cannot both be in one folder everywhere", other, f.Name)
		}
		seen[strings.ToLower(f.Name)] = f.Name
		if f.Size < 0 {
			return fmt.Errorf("manifest: %s has the size %d", f.Name, f.Size)
		}
		if !isHex(f.SHA256, 32) || !isHex(f.SHA512, 64) {
			return fmt.Errorf("manifest: %s has no proper sha256 and sha512", f.Name)
		}
	}
	return nil
}

func isHex(s string, n int) bool {
	b, err := hex.DecodeString(s)
	return err == nil && len(b) == n && s == strings.ToLower(s)
}
