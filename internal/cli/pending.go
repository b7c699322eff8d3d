package cli

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"
	"greenlever.example/greenlever/internal/wholefile"
)

// pending is a change under way, with the key under which it may be asked for again.
type pending struct {
	key  string
	path string // of the file that keeps it
	of   string // digest of the request
}

// keptFor is how long the key of a change with an unknown end is used again, which is no
// longer than the service remembers it.
const keptFor = 20 * time.Hour

type keptKey struct {
	Key string    `json:"key"`
	At  time.Time `json:"at"`
}

// pending gives a change its key: the one that was asked for, the one that the same change
// had before if nobody knows how it ended, or a new one.
func (a *api) pending(r request, raw []byte) *pending {
	path, of := r.path, sha256.New()
	for _, part := range []string{a.URL, a.Token, r.method, path, string(raw)} {
		of.Write([]byte(part + "\x00"))
	}
	p := &pending{key: a.key, of: hex.EncodeToString(of.Sum(nil)[:16])}
	if profiles, err := profilesPath(); err == nil {
		p.path = strings.TrimSuffix(profiles, filepath.Base(profiles)) + "pending.json"
	}
	if had, ok := p.read()[p.of]; p.key == "" && ok && r.file == nil {
		p.key = had.Key
	}
	if p.key == "" {
		p.key = uuid.NewString()
	}
	return p
}

// read gives the kept keys that are not too old.
func (p *pending) read() map[string]keptKey {
	all := map[string]keptKey{}
	if raw, err := os.ReadFile(p.path); err == nil {
		_ = json.Unmarshal(raw, &all)
	}
	for of, k := range all {
		if time.Since(k.At) > keptFor {
			delete(all, of)
		}
	}
	return all
}

func (p *pending) write(all map[string]keptKey) {
	raw, err := json.Marshal(all)
	if err == nil && p.path != "" {
		_ = wholefile.Write(p.path, raw) // a key that cannot be kept is printed all the same
	}
}

// keep keeps the key for the next time, and gives it to be printed.
func (p *pending) keep() string {
	all := p.read()
	all[p.of] = keptKey{p.key, time.Now()}
	p.write(all)
	return p.key
}

// settled forgets the key: the change was answered.
func (p *pending) settled() {
	all := p.read()
	if _, was := all[p.of]; was {
		delete(all, p.of)
		p.write(all)
	}
}
