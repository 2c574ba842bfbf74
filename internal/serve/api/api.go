// Package api are the documents that a release page and its clients exchange, as
// docs/release-page.md describes them.
package api

import (
	"time"

	"piedmont/internal/release"
)

// Problem is an error answer (RFC 9457) with what this protocol adds.
type Problem struct {
	Type        string   `json:"type"` // TypePrefix and one of the types
	Title       string   `json:"title"`
	Status      int      `json:"status"`
	Detail      string   `json:"detail,omitempty"`
	Differences []string `json:"differences,omitempty"` // of Conflict
	Missing     []string `json:"missing,omitempty"`     // of Incomplete
	Received    *int64   `json:"received,omitempty"`    // of Offset: where to go on
}

// TypePrefix stands before the name of each problem type.
const TypePrefix = "urn:piedmont:problem:"

// Types of problems.
const (
	Unknown    = "unknown"
	Server     = "server"
	Token      = "token"
	Right      = "right"
	Manifest   = "manifest"
	Conflict   = "conflict"
	Incomplete = "incomplete"
	Digest     = "digest"
	Offset     = "offset"
	Size       = "size"
	Range      = "range"
	Busy       = "busy"
	BrokenOff  = "broken-off"
	Method     = "method"
)

// Rights of tokens.
const (
	RightUpload   = "upload"
	RightPublish  = "publish"
	RightWithdraw = "withdraw"
)

// Rights are all there are.
var Rights = []string{RightUpload, RightPublish, RightWithdraw}

// RightsAnswer tells what a token may do in a project.
type RightsAnswer struct {
	Project string    `json:"project"`
	Token   string    `json:"token"`
	Rights  []string  `json:"rights"`
	Time    time.Time `json:"time"`
}

// Draft is the state of a draft.
type Draft struct {
	ID      string            `json:"id"`
	Project string            `json:"project"`
	Version string            `json:"version"`
	State   string            `json:"state"` // draft or public
	Files   []release.Receipt `json:"files"`
}
