package store

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "lists", Why: "long lists; they go once no kept version of a segment names them"},
)

var _ = writes(func(t *Tx, r *app.ListRecord) error { return t.PutList(r.ProjectID, r.List, r.Base, r.At) })

// Long lists are kept whole, or as the difference to another one of their project: an edit of
// a few units of a million then costs a few rows. Behind maxDepth differences one is kept
// whole again.
const (
	listPart = 1 << 20 // bytes that one row holds
	maxDepth = 16
)

// Kinds of what is kept of a list.
const (
	wholeHashes = "hashes"
	wholeUnits  = "units"
	moreHashes  = "hashes+" // flag.Hashes.Delta
	moreUnits   = "units+"  // packed lines, each + or - and a unit
)

// PutList keeps a long list of a project under its digest; one that is kept already stays. It
// is kept as the difference to base, where that is of use.
func (t *Tx) PutList(project int64, l *app.ListBody, base *app.ListBody, at int64) error {
	bodies := map[string][]byte{wholeHashes: l.Hashes.Bytes(), wholeUnits: l.Units}
	of, depth := "", 0
	if base != nil && base.Digest != l.Digest {
		old, err := t.listDepth(base.Digest)
		if err != nil {
			return err
		}
		difference := l.Hashes.Delta(base.Hashes)
		if alone, err := t.olderNodes(); err != nil {
			return err
		} else if old >= 0 && old+1 < maxDepth && 2*len(difference) < len(bodies[wholeHashes]) && !alone {
			packed, err := packDifference(base.Units, l.Units)
			if err != nil {
				return err
			}
			bodies, of, depth = map[string][]byte{moreHashes: difference, moreUnits: packed}, base.Digest, old+1
		}
	}
	for kind, body := range bodies {
		for i := 0; i == 0 || i*listPart < len(body); i++ {
			part := body[i*listPart : min((i+1)*listPart, len(body))]
			if err := t.exec("INSERT IGNORE INTO lists (digest, kind, part, body, project_id, base, depth, at) "+
				"VALUES (?, ?, ?, ?, ?, ?, ?, ?)", l.Digest, kind, i, part, project, of, depth, at); err != nil {
				return err
			}
		}
	}
	return nil
}

// listDepth is behind how many differences a list stands; -1 for none that is kept.
func (t *Tx) listDepth(digest string) (int, error) {
	var depth []int
	if err := t.list(&depth, "SELECT depth FROM lists WHERE digest = ? LIMIT 1", digest); err != nil ||
		len(depth) == 0 {
		return -1, err
	}
	return depth[0], nil
}

// olderNodes tells whether a process of the release before lives, which reads whole lists only.
func (t *Tx) olderNodes() (bool, error) {
	var is bool
	err := t.get(&is, "SELECT EXISTS (SELECT 1 FROM instances WHERE kind = 'service' AND NOT gone "+
		"AND seen > (UNIX_TIMESTAMP() - 60) * 1000)")
	return is, err
}

// listRows are the parts of one kind of a list.
type listRow struct {
	Kind string `db:"kind"`
	Base string `db:"base"`
	Body []byte `db:"body"`
}

// listBody reads a list in the kind whole, or as a difference to base.
func (s *Store) listBody(ctx context.Context, environment int64, digest, whole,
	more string) (body []byte, base string, err error) {
	rows, err := list[listRow](ctx, s.feed, "SELECT kind, base, body FROM lists WHERE digest = ? "+
		"AND kind IN (?, ?) AND "+
		"(project_id = 0 OR project_id = (SELECT project_id FROM environments WHERE id = ?)) ORDER BY kind = ?, part",
		digest, whole, more, environment, more)
	if err != nil {
		return nil, "", err
	}
	if len(rows) == 0 {
		return nil, "", app.Faultf(app.NotFound, "there is no list %s in this project", digest)
	}
	for _, r := range rows {
		if r.Kind == rows[0].Kind {
			body = append(body, r.Body...)
		}
	}
	return body, rows[0].Base, nil
}

// List reads the hashes of a long list of an environment's project.
func (s *Store) List(ctx context.Context, environment int64, digest string) (flag.Hashes, error) {
	return s.listBehind(ctx, environment, digest, 0)
}

func (s *Store) listBehind(ctx context.Context, environment int64, digest string, depth int) (flag.Hashes, error) {
	body, base, err := s.listBody(ctx, environment, digest, wholeHashes, moreHashes)
	if err != nil {
		return nil, err
	}
	var from flag.Hashes
	if base != "" {
		if depth > maxDepth {
			return nil, fmt.Errorf("list %s stands behind too many differences", digest)
		}
		if from, err = s.listBehind(ctx, environment, base, depth+1); err != nil {
			return nil, err
		}
	}
	h, err := flag.ReadList(body, from)
	if err != nil {
		return nil, fmt.Errorf("list %s: %w", digest, err)
	}
	if h.Digest() != digest {
		return nil, fmt.Errorf("list %s is damaged: its hashes are not the ones that were saved", digest)
	}
	return h, nil
}

// ListUnits reads the exact units of a long list, one a line, packed with gzip.
func (s *Store) ListUnits(ctx context.Context, environment int64, digest string) ([]byte, error) {
	body, base, err := s.listBody(ctx, environment, digest, wholeUnits, moreUnits)
	for depth := 0; err == nil && base != ""; depth++ {
		if depth > maxDepth {
			return nil, fmt.Errorf("list %s stands behind too many differences", digest)
		}
		var from []byte
		if from, err = s.ListUnits(ctx, environment, base); err == nil {
			return addDifference(from, body)
		}
	}
	return body, err
}

func unpack(packed []byte) ([]byte, error) {
	z, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(z)
}

func pack(lines [][]byte) ([]byte, error) {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	for _, l := range lines {
		if _, err := z.Write(append(l[:len(l):len(l)], '\n')); err != nil {
			return nil, err
		}
	}
	err := z.Close()
	return b.Bytes(), err
}

func linesOf(text []byte) [][]byte {
	return slices.DeleteFunc(bytes.Split(text, []byte("\n")), func(l []byte) bool { return len(l) == 0 })
}

// packDifference writes what comes and goes between two packed lists of sorted units.
func packDifference(from, to []byte) ([]byte, error) {
	a, err := unpack(from)
	if err != nil {
		return nil, err
	}
	b, err := unpack(to)
	if err != nil {
		return nil, err
	}
	old, now := linesOf(a), linesOf(b)
	var out [][]byte
	for i, j := 0, 0; i < len(old) || j < len(now); {
		switch c := order(old, i, now, j); {
		case c < 0:
			out = append(out, append([]byte("-"), old[i]...))
			i++
		case c > 0:
			out = append(out, append([]byte("+"), now[j]...))
			j++
		default:
			i, j = i+1, j+1
		}
	}
	return pack(out)
}

// order compares the heads of two sorted lists, of which one may be at its end.
func order(a [][]byte, i int, b [][]byte, j int) int {
	switch {
	case i == len(a):
		return 1
	case j == len(b):
		return -1
	}
	return bytes.Compare(a[i], b[j])
}

// addDifference undoes packDifference.
func addDifference(from, difference []byte) ([]byte, error) {
	a, err := unpack(from)
	if err != nil {
		return nil, err
	}
	d, err := unpack(difference)
	if err != nil {
		return nil, err
	}
	gone := map[string]bool{}
	lines := linesOf(a)
	for _, l := range linesOf(d) {
		if l[0] == '-' {
			gone[string(l[1:])] = true
		} else {
			lines = append(lines, l[1:])
		}
	}
	lines = slices.DeleteFunc(lines, func(l []byte) bool { return gone[string(l)] })
	slices.SortFunc(lines, bytes.Compare)
	return pack(lines)
}

// forgetLists removes long lists that no version of a segment names and that no other list is
// a difference to, and finds out whose those are that are older than that being kept.
func (s *Store) forgetLists(ctx context.Context, envs []app.Environment, before int64) error {
	named := map[string]int64{}
	for _, e := range envs {
		for _, table := range []string{"segments", "segment_versions"} {
			rows, err := list[string](ctx, s.work, "SELECT CONCAT(COALESCE(JSON_VALUE(document, '$.in.digest'), "+
				"''), ' ', COALESCE(JSON_VALUE(document, '$.out.digest'), '')) FROM "+table+
				" WHERE environment_id = ?", e.ID)
			if err != nil {
				return err
			}
			for _, r := range rows {
				for _, d := range strings.Fields(r) {
					named[d] = e.ProjectID
				}
			}
		}
	}
	rows, err := list[struct {
		Digest  string `db:"digest"`
		Project int64  `db:"project_id"`
		At      int64  `db:"at"`
		Base    bool   `db:"is_base"`
	}](ctx, s.work, "SELECT DISTINCT l.digest, l.project_id, l.at, EXISTS (SELECT 1 FROM lists o "+
		"WHERE o.base = l.digest) is_base FROM lists l WHERE l.part = 0 ORDER BY l.digest")
	if err != nil {
		return err
	}
	for _, r := range rows {
		project, is := named[r.Digest]
		switch {
		case is && r.Project == 0:
			_, err = s.work.ExecContext(ctx, "UPDATE lists SET project_id = ? WHERE digest = ? AND project_id = 0",
				project, r.Digest)
		case !is && !r.Base && r.At < before:
			_, err = s.work.ExecContext(ctx, "DELETE FROM lists WHERE digest = ?", r.Digest)
		}
		if err != nil {
			return fault(err)
		}
	}
	return nil
}
