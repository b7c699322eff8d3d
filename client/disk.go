package greenlever

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"greenlever.example/core/flag"
)

// disk keeps the last ruleset in a file that belongs to one address and access key.
//
// The first line is a header with the digest of the rest. The file is written beside its
// place and renamed, so that a reader meets a whole one or none.
type disk struct {
	path  string
	owner string
	dirty chan struct{}

	damaged error // what of the copy could not be read when it was
}

type diskHeader struct {
	Owner string `json:"owner"` // digest of address and key
	Sum   string `json:"sum"`   // digest of what follows the line
}

func newDisk(dir, url, key string) *disk {
	sum := sha256.Sum256([]byte(url + "\x00" + key))
	d := &disk{owner: hex.EncodeToString(sum[:]), dirty: make(chan struct{}, 1)}
	if dir != "" {
		d.path = filepath.Join(dir, "ruleset-"+d.owner[:16])
	}
	return d
}

func (d *disk) mark() {
	select {
	case d.dirty <- struct{}{}:
	default:
	}
}

// keep writes the ruleset a moment after it changed, at most once in that moment.
func (d *disk) keep(ctx context.Context, c *Client) {
	failed := ""
	for {
		select {
		case <-ctx.Done():
			return
		case <-d.dirty:
		}
		size, err := d.write(c.state.Load())
		if state, _ := c.watch(); state.Source == FromDisk && size > 0 { // the file's time says when it was heard of
			err = errors.Join(err, os.Chtimes(d.path, state.Contact, state.Contact))
		}
		if err != nil && err.Error() != failed {
			failed = err.Error()
			c.log.Warn("greenlever: the ruleset cannot be kept on disk, so a restart needs the service", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(pauseAfter(size)):
		}
	}
}

// pauseAfter bounds what is written to half a megabyte a second, and to once a second, however many
// changes come; what is missed by a restart the service sends.
func pauseAfter(size int) time.Duration {
	return min(max(time.Second, time.Duration(size)*time.Second/(512<<10)), time.Minute)
}

// write keeps the ruleset; size is of what was written.
func (d *disk) write(s *state) (size int, err error) {
	source := s.base.Source
	if d.path == "" || s.source != FromService && (s.source != FromDisk || len(source.Orders)+len(source.Kept) == 0) {
		return 0, nil
	}
	body, err := json.Marshal(source.Snapshot())
	if err != nil {
		return 0, err
	}
	sum := sha256.Sum256(body)
	head, err := json.Marshal(diskHeader{Owner: d.owner, Sum: hex.EncodeToString(sum[:])})
	if err != nil {
		return 0, err
	}
	// First what the file names, then the file, then what it names no more.
	if err := d.saveLists(s.rules.Source); err != nil {
		return 0, err
	}
	if err := d.replace(d.path, append(append(head, '\n'), body...)); err != nil {
		return 0, err
	}
	return len(body), d.pruneLists(s.rules.Source)
}

// replace writes a file beside its place and renames it, readable by its owner only.
func (d *disk) replace(path string, body []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".ruleset-*") // 0600
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(body)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}

// read gives the ruleset that was kept, and when the service was last heard of: the file's
// time is set to that.
func (d *disk) read() (rs *flag.Ruleset, contact time.Time, err error) {
	if rs, err = d.readRuleset(); err == nil {
		var info os.FileInfo
		if info, err = os.Stat(d.path); err == nil {
			contact = info.ModTime()
		}
	}
	return rs, contact, err
}

func (d *disk) readRuleset() (*flag.Ruleset, error) {
	if d.path == "" {
		return nil, os.ErrNotExist
	}
	raw, err := os.ReadFile(d.path)
	if err != nil {
		return nil, err
	}
	line, body, _ := bytes.Cut(raw, []byte("\n"))
	var head diskHeader
	if err := json.Unmarshal(line, &head); err != nil {
		return nil, fmt.Errorf("%s: no header", d.path)
	}
	sum := sha256.Sum256(body)
	if head.Owner != d.owner {
		return nil, fmt.Errorf("%s belongs to another address or access key", d.path)
	}
	if head.Sum != hex.EncodeToString(sum[:]) {
		return nil, fmt.Errorf("%s is damaged", d.path)
	}
	rs, err := flag.ReadSnapshot(body)
	if err != nil {
		return nil, err
	}
	needed, _ := rs.Needed()
	for _, digest := range needed {
		h, err := d.readList(digest)
		if err != nil { // without it, who is listed is unknown: doubt excludes
			d.damaged = errors.Join(d.damaged, err)
			continue
		}
		if rs.Hashes == nil {
			rs.Hashes = map[string]flag.Hashes{}
		}
		rs.Hashes[digest] = h
	}
	return rs, nil
}

func newInstance() string {
	var b [12]byte
	rand.Read(b[:]) // never fails
	return hex.EncodeToString(b[:])
}

// loadFile puts the ruleset of the options' file into use, and remembers which version of
// the file that is.
func (c *Client) loadFile() error {
	c.fileSeen = stampOf(c.options.File) // before it is read, so that a later save is not missed
	raw, err := os.ReadFile(c.options.File)
	if err != nil {
		return err
	}
	rs, err := flag.ReadSnapshot(raw)
	if err != nil {
		return fmt.Errorf("%s: %w", c.options.File, err)
	}
	c.set(rs, FromFile)
	return nil
}

// stamp tells versions of a file apart.
type stamp struct{ info os.FileInfo }

func stampOf(path string) stamp {
	info, _ := os.Stat(path) // nil while there is none
	return stamp{info}
}

func (s stamp) same(o stamp) bool {
	if s.info == nil || o.info == nil {
		return s.info == o.info
	}
	return os.SameFile(s.info, o.info) && s.info.ModTime().Equal(o.info.ModTime()) && s.info.Size() == o.info.Size()
}

// fileEvery is how often a file that is followed is looked at.
const fileEvery = 200 * time.Millisecond

// watchFile rereads the file when it was saved. A version that cannot be read is logged
// and the one before stays in use.
func (c *Client) watchFile(ctx context.Context) {
	tick := time.NewTicker(fileEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if stampOf(c.options.File).same(c.fileSeen) {
			continue
		}
		if err := c.loadFile(); err != nil {
			c.log.Warn("greenlever: the ruleset's file was saved with an error, so the one before stays in use",
				"error", err)
		}
	}
}
