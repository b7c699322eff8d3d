package greenlever

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"

	"greenlever.example/core/flag"
)

// errNoList is returned for a list that the service names and does not have.
var errNoList = errors.New("the service does not have the list")

// maxList is how many bytes a long list may have.
const maxList = 128 << 20

// fetchLists brings the long lists that a ruleset names and that are not at hand, and keeps
// them on disk. A list is asked for as the difference to one of the same segment, if any.
func (c *Client) fetchLists(ctx context.Context, digests []string) (map[string]flag.Hashes, error) {
	have := c.state.Load().base.Source
	got := map[string]flag.Hashes{}
	for _, digest := range digests {
		if have.List(digest) != nil || got[digest] != nil {
			continue
		}
		h, err := c.disk.readList(digest)
		if err != nil {
			if !errors.Is(err, os.ErrNotExist) {
				c.log.Error("greenlever: a list kept on disk is of no use and is fetched again", "error", err)
			}
			h, err = c.fetchList(ctx, digest, nearest(have))
			// the service cannot read it either: who is on it is unknown, and all else goes on
			if errors.Is(err, errNoList) {
				c.log.Error("greenlever: the service does not have a list; who is on it is unknown", "list", digest)
				continue
			}
			if err != nil {
				return nil, err
			}
			if err := c.disk.writeList(digest, h); err != nil {
				c.log.Warn("greenlever: a list cannot be kept on disk, so a restart needs the service", "error", err)
			}
		}
		got[digest] = h
	}
	return got, nil
}

// nearest names a list at hand, which the service can send a difference to. Where several
// are at hand the service decides what is shorter.
func nearest(have *flag.Ruleset) string {
	best, most := "", 0
	for digest, h := range have.Hashes {
		if len(h) > most || len(h) == most && digest < best {
			best, most = digest, len(h)
		}
	}
	return best
}

func (c *Client) fetchList(ctx context.Context, digest, from string) (flag.Hashes, error) {
	status, raw, err := c.fetch(ctx, c.options.silence, http.MethodGet, "/follow/v1/lists/"+digest+"?from="+from, nil,
		maxList)
	switch {
	case err != nil:
		return nil, fmt.Errorf("read list: %w", err)
	case status == http.StatusNotFound:
		return nil, errNoList
	case status != http.StatusOK:
		return nil, answered(status, raw)
	}
	h, err := flag.ReadList(raw, c.state.Load().base.Source.List(from))
	if err != nil {
		return nil, err
	}
	if h.Digest() != digest {
		return nil, errors.New("read list: it is not the one that was asked for")
	}
	return h, nil
}

// holding gives the ruleset with its long lists at hand.
func (c *Client) holding(ctx context.Context, rs *flag.Ruleset) error {
	needed, _ := rs.Needed()
	if len(needed) == 0 {
		return nil
	}
	have := c.state.Load().base.Source
	got, err := c.fetchLists(ctx, needed)
	if err != nil {
		return err
	}
	for _, digest := range needed {
		if h := have.List(digest); got[digest] == nil && h != nil {
			got[digest] = h
		}
	}
	rs.Hashes = got
	return nil
}

func (d *disk) listPath(digest string) string { return d.path + "-list-" + digest }

func (d *disk) readList(digest string) (flag.Hashes, error) {
	if d.path == "" || len(digest) != 64 || filepath.Base(digest) != digest {
		return nil, os.ErrNotExist
	}
	raw, err := os.ReadFile(d.listPath(digest))
	if err != nil {
		return nil, err
	}
	h, err := flag.ReadHashes(raw)
	if err == nil && h.Digest() != digest {
		err = errors.New("its hashes are not the ones that were kept")
	}
	if err != nil { // it is fetched again, and must not stay in the way of the whole one
		return nil, errors.Join(fmt.Errorf("the list %s is damaged: %w", d.listPath(digest), err),
			os.Remove(d.listPath(digest)))
	}
	return h, nil
}

// writeList keeps a list beside the ruleset.
func (d *disk) writeList(digest string, h flag.Hashes) error {
	if d.path == "" {
		return nil
	}
	return d.replace(d.listPath(digest), h.Bytes())
}

// saveLists writes the lists that the ruleset names and that are not there yet.
func (d *disk) saveLists(rs *flag.Ruleset) error {
	needed, _ := rs.Needed()
	for _, digest := range needed {
		h := rs.List(digest)
		if _, err := os.Stat(d.listPath(digest)); err == nil || h == nil {
			continue
		}
		if err := d.writeList(digest, h); err != nil {
			return err
		}
	}
	return nil
}

// pruneLists takes away the files of lists that the ruleset does not name.
func (d *disk) pruneLists(rs *flag.Ruleset) error {
	needed, _ := rs.Needed()
	keep := map[string]bool{}
	for _, digest := range needed {
		keep[d.listPath(digest)] = true
	}
	files, err := filepath.Glob(d.path + "-list-*")
	for _, f := range files {
		if !keep[f] {
			err = errors.Join(err, os.Remove(f))
		}
	}
	return err
}
