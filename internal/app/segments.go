package app

import (
	"greenlever.example/core/flag"
)

// SegmentRecord is a segment in an environment, with its version.
type SegmentRecord struct {
	EnvironmentID int64
	Key           string
	Version       int64
	Revision      int64
	Document      *flag.Segment
}

// Stand says where the document is written, and under which revision.
func (r *SegmentRecord) Stand(environment, revision int64) {
	r.EnvironmentID, r.Revision = environment, revision
}

// ListBody is a long list of a segment: what followers get, and the exact units.
type ListBody struct {
	Digest string
	Hashes flag.Hashes
	Units  []byte // one a line, sorted, packed with gzip
}
