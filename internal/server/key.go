package server

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"

	"github.com/google/uuid"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/store"
	"greenlever.example/greenlever/internal/wholefile"
)

// auditKey reads this node's key for signing heads, and makes it the first time.
func auditKey(path string) (ed25519.PrivateKey, error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		return key, wholefile.Write(path, pem.EncodeToMemory(&pem.Block{Type: "GREENLEVER AUDIT SEED",
			Bytes: key.Seed()}))
	}
	if err != nil {
		return nil, fmt.Errorf("the audit's key: %w", err)
	}
	block, _ := pem.Decode(raw)
	if block == nil || len(block.Bytes) != ed25519.SeedSize {
		return nil, fmt.Errorf("the audit's key %s cannot be read: put the right file back, or move it away for a "+
			"new one", path)
	}
	return ed25519.NewKeyFromSeed(block.Bytes), nil
}

// announceKey puts the public half into the access chain, once.
func (s *Server) announceKey(ctx context.Context) error {
	public := hex.EncodeToString(s.key.Public().(ed25519.PublicKey))
	known, err := s.store.SigningKeys(ctx)
	if err != nil || known[public] > 0 {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.NoteInstallation(); err != nil {
			return err
		}
		_, err := tx.Append(audit.Access, audit.Entry{At: s.config.Now().UnixMilli(), Actor: app.Actor{Kind: "service",
			Through: "start"},
			Action: audit.KeyAdded, Subject: public, Difference: []string{"heads signed with Ed25519 key " + public}},
			nil)
		return err
	})
}

// adoption begins an entry that has a chain speak of rows that are older than such entries.
func (s *Server) adoption(chain string) audit.Entry {
	e := audit.Entry{At: s.config.Now().UnixMilli(), Actor: app.Actor{Kind: "service", Through: "start"},
		Action: audit.Adopted, Change: uuid.NewString(),
		Difference: []string{"rows that were written by a program that does not say what it writes, as they stand"}}
	kind, number, _ := strings.Cut(chain, ":")
	if id, err := strconv.ParseInt(number, 10, 64); err == nil && kind == "project" {
		e.Project = id
	} else if err == nil {
		e.Environment = id
	}
	return e
}

// signHeads signs the heads of the chains that moved, and keeps the last of each beside the
// key, out of reach of who can write to the records.
func (s *Server) signHeads(ctx context.Context) error {
	heads, err := s.store.UnsignedHeads(ctx)
	var signed []audit.SignedHead
	for _, h := range heads {
		one := audit.Sign(h, s.config.Now().UnixMilli(), s.key)
		e := s.store.AddSignedHead(ctx, one)
		err = errors.Join(err, e)
		if e == nil {
			signed = append(signed, one)
		}
	}
	if len(signed) == 0 {
		return err
	}
	return errors.Join(err, s.heads.keep(signed), copyHeads(ctx, s.config.Heads, signed))
}

// headFile keeps the last signed head of each chain in a file.
type headFile struct {
	path string
	mu   sync.Mutex
}

func (h *headFile) read() ([]audit.SignedHead, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.load()
}

func (h *headFile) load() (all []audit.SignedHead, err error) {
	raw, err := os.ReadFile(h.path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = json.Unmarshal(raw, &all)
	}
	if err != nil {
		return nil, fmt.Errorf("the kept heads %s cannot be read: %w", h.path, err)
	}
	return all, nil
}

// keep takes newer heads in the place of older ones; one never goes back.
func (h *headFile) keep(signed []audit.SignedHead) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	all, err := h.load()
	if err != nil {
		return err
	}
	last := map[string]audit.SignedHead{}
	for _, one := range append(all, signed...) {
		if one.Sequence >= last[one.Chain].Sequence {
			last[one.Chain] = one
		}
	}
	all = all[:0]
	for _, one := range last {
		all = append(all, one)
	}
	raw, err := json.MarshalIndent(all, "", " ")
	if err != nil {
		return err
	}
	return wholefile.Write(h.path, raw)
}
