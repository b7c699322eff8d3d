package server

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/population"
	"greenlever.example/greenlever/internal/wholefile"
)

// diskCopy is what the service decides by, kept beside its configuration, so that it can
// start and decide while the records are away.
type diskCopy struct {
	path string
	kept string // what the copy on disk is of
}

// copied is the copy, as it is written.
type copied struct {
	At     int64         `json:"at"` // Unix milliseconds
	Places []copiedPlace `json:"places"`
}

type copiedPlace struct {
	Environment int64             `json:"environment"`
	Snapshot    *flag.Snapshot    `json:"snapshot"`
	Lists       map[string][]byte `json:"lists,omitempty"` // hashes by digest
	Keys        []copiedKey       `json:"keys"`
	Sampling    *population.Known `json:"sampling"`
	Seed        uint64            `json:"seed,string"`
}

// copiedKey is an access key; the digest of its secret is all that is known of it.
type copiedKey struct {
	app.AccessKey
	Digest []byte `json:"digest"`
}

func (d *diskCopy) read() (*copied, error) {
	raw, err := os.ReadFile(d.path)
	if err != nil {
		return nil, err
	}
	var c copied
	if err := json.Unmarshal(raw, &c); err != nil {
		return nil, fmt.Errorf("%s is damaged: %w", d.path, err)
	}
	return &c, nil
}

// keepCopy writes the copy where something changed.
func (s *Server) keepCopy(ctx context.Context) error {
	// What is to be told apart comes first: mostly nothing changed, and much would be copied in vain.
	places, of := s.edge.Hub.Places(), ""
	sampling := map[int64]*population.Known{}
	for _, environment := range slices.Sorted(maps.Keys(places)) {
		known, err := s.edge.Population.Known(ctx, environment)
		if err != nil {
			return err
		}
		sampling[environment] = known
		for _, k := range s.edge.Keys.Of(environment) {
			of += k.ID
		}
		of += fmt.Sprint(environment, places[environment].Rules().Source.Position(), len(known.Attributes),
			known.Sampling)
		for _, a := range known.Attributes {
			of += fmt.Sprint(a.Name, a.Version)
		}
	}
	sum := fmt.Sprintf("%d %s", len(places), of)
	if sum == s.copy.kept {
		return os.Chtimes(s.copy.path, time.Time{}, time.Now())
	}
	c := copied{At: s.config.Now().UnixMilli()}
	for environment, place := range places {
		known, src := sampling[environment], place.Rules().Source
		p := copiedPlace{Environment: environment, Snapshot: src.Snapshot(), Sampling: known,
			Seed: known.Sampling.Seed, Lists: map[string][]byte{}}
		needed, _ := src.Needed()
		for _, digest := range needed {
			p.Lists[digest] = src.List(digest).Bytes()
		}
		for _, k := range s.edge.Keys.Of(environment) {
			p.Keys = append(p.Keys, copiedKey{k.AccessKey, k.Digest})
		}
		c.Places = append(c.Places, p)
	}
	raw, err := json.Marshal(c)
	if err != nil {
		return err
	}
	if err := wholefile.Write(s.copy.path, raw); err != nil {
		return err
	}
	s.copy.kept = sum
	return nil
}

// useCopy decides by the copy until the records can be reached.
func (s *Server) useCopy(c *copied) {
	var keys []app.AccessKey
	for _, p := range c.Places {
		rs, err := flag.NewRuleset(p.Snapshot)
		if err != nil {
			s.config.Log.Error("an environment's copy cannot be read and is left out", "environment", p.Environment,
				"error", err)
			continue
		}
		rs.Hashes = map[string]flag.Hashes{}
		for digest, raw := range p.Lists {
			if h, err := flag.ReadHashes(raw); err == nil && h.Digest() == digest {
				rs.Hashes[digest] = h
			} else {
				s.config.Log.Error("the copy of a list is damaged; who is on it is unknown", "list", digest)
			}
		}
		s.edge.Hub.Put(p.Environment, rs, nil)
		if p.Sampling != nil {
			p.Sampling.Sampling.Seed = p.Seed
			s.edge.Population.Put(p.Environment, p.Sampling)
		}
		for _, k := range p.Keys {
			k.AccessKey.EnvironmentID, k.AccessKey.Digest = p.Environment, k.Digest
			keys = append(keys, k.AccessKey)
		}
	}
	s.edge.Keys.Put(keys)
}
