package release

import "time"

// Kinds of files that this package itself knows. Others belong to whoever makes
// them.
const (
	KindNotes    = "notes"
	KindManifest = "manifest"
	KindSums     = "checksums"
)

// Artifact is one file of a release. The plan creates it under its name, making
// fills in size and digests, and the manifest encodes it.
type Artifact struct {
	Name      string `json:"name"`
	Kind      string `json:"kind"`
	From      string `json:"from,omitempty"` // the NAME of the table that it comes from
	Platform  string `json:"platform,omitempty"`
	MediaType string `json:"media_type"`
	Size      int64  `json:"size"`
	SHA256    string `json:"sha256"`
	SHA512    string `json:"sha512"`
	// Package is what a distribution package says of itself.
	Package *Package `json:"package,omitempty"`
	Holds   []Entry  `json:"holds,omitempty"`

	MadeFrom string   `json:"-"` // in words, for people
	To       []string `json:"-"` // destinations that it goes to
	Entries  []Entry  `json:"-"` // what it is planned to hold
	Detail   any      `json:"-"` // what its producer has planned besides
}

// Package names a distribution package as its format does.
type Package struct {
	Format  string `json:"format"` // deb, rpm, apk or arch
	Name    string `json:"name"`
	Version string `json:"version"`
	Arch    string `json:"arch"`
}

// Record is the state of a release where it is kept: release.json.
type Record struct {
	State     string    `json:"state"` // StatePublic
	Published time.Time `json:"published"`
	Manifest  string    `json:"manifest_sha256"`
}

// States of a release at a destination.
const (
	StateDraft  = "draft"
	StatePublic = "public"
)

// RecordName is the file in which the Record is kept.
const RecordName = "release.json"

// Receipt is how far a file of a draft has come where it is sent to.
type Receipt struct {
	Name     string `json:"name"`
	Size     int64  `json:"size"`
	SHA256   string `json:"sha256"`   // of what is there, when complete; "" when nobody has looked
	Received int64  `json:"received"` // bytes that are kept; where to go on
	Complete bool   `json:"complete"`
	Source   Source `json:"-"`
}

// Source says who vouches for a Receipt's digest.
type Source int

// The sources. Where nobody does, the file is read back.
const (
	NotChecked Source = iota
	Reported          // by the destination
	ReadBack          // by reading what is there
)
