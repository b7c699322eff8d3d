package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"

	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/app/audit"
)

var _ = listed("look", (*session).verifyCommand)
var _ = listed("look", (*session).exportCommand)

func (s *session) verifyCommand() *cobra.Command {
	var file, pin, heads string
	var access bool
	c := &cobra.Command{Use: "verify", Short: "Verify the audit's chains, in the service or from an export",
		Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
			r := &audit.Report{}
			if file != "" {
				f, err := s.open(file)
				if err != nil {
					return err
				}
				defer f.Close()
				held, err := s.readHeads(heads)
				if err != nil {
					return err
				}
				if r, err = audit.VerifyExport(f, pin, held); err != nil {
					return err
				}
			} else {
				a, path, err := s.chainsOf(cmd, access)
				if err != nil {
					return err
				}
				if pin != "" || heads != "" {
					return coded(exitUsage, "--pin and --heads go with --file: what the service itself says of its "+
						"keys needs no trust from outside; write an export first")
				}
				for cursor := ""; ; cursor = "?cursor=" + r.Cursor {
					r = &audit.Report{}
					if err := a.do(cmd.Context(), request{method: "GET", path: path + "/verify" + cursor},
						r); err != nil {
						return err
					}
					if r.Cursor == "" {
						break
					}
					s.note("%d entries so far ...", r.Entries)
				}
			}
			if err := s.show(r, func() {
				s.say("entries %d, chains %d, signed heads %d, records beside them %d", r.Entries, len(r.Chains),
					r.Signed, r.Records)
				for _, h := range r.Chains {
					s.say("  %-16s to %-6d %s", h.Chain, h.Sequence, h.Digest)
				}
			}); err != nil {
				return err
			}
			if r.Sound() {
				s.note("sound: nothing was altered")
				return nil
			}
			for _, f := range r.Findings {
				s.note("  %s", f)
			}
			return coded(exitUnsound, "the chain is NOT sound: %d findings", len(r.Findings))
		}}
	c.Flags().StringVar(&file, "file", "", "an export to verify, without any service")
	c.Flags().StringVar(&pin, "pin", "", "with --file: a public key that you know from elsewhere; heads must be "+
		"signed with it")
	c.Flags().StringVar(&heads, "heads", "", "with --file: signed heads that were kept elsewhere, such as "+
		"audit.heads of a node or the file of serve --heads")
	c.Flags().BoolVar(&access, "access", false, "the chain of accounts, keys and sign-ins instead")
	return c
}

// readHeads reads signed heads: a list, as a node keeps it, or a line each.
func (s *session) readHeads(path string) (all []audit.SignedHead, err error) {
	if path == "" {
		return nil, nil
	}
	raw, err := s.readFile(path)
	if err != nil {
		return nil, err
	}
	if json.Unmarshal(raw, &all) == nil {
		return all, nil
	}
	all = nil
	dec := json.NewDecoder(bytes.NewReader(raw))
	for dec.More() {
		var h audit.SignedHead
		if err := dec.Decode(&h); err != nil {
			return nil, fmt.Errorf("%s holds no signed heads: %w", path, err)
		}
		all = append(all, h)
	}
	return all, nil
}

func (s *session) chainsOf(cmd *cobra.Command, access bool) (*api, string, error) {
	if access {
		a, err := s.connect()
		return a, "", err
	}
	return s.inProject(cmd.Context())
}

func (s *session) exportCommand() *cobra.Command {
	var access bool
	c := &cobra.Command{Use: "export", Short: "Write the audit's chains as lines of JSON, with signed heads",
		Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, err := s.chainsOf(cmd, access)
			if err != nil {
				return err
			}
			res, err := a.send(cmd.Context(), request{method: "GET", path: path + "/export"})
			if err != nil {
				return err
			}
			defer res.Body.Close()
			_, err = io.Copy(s.out, res.Body)
			return err
		}}
	c.Flags().BoolVar(&access, "access", false, "the chain of accounts, keys and sign-ins instead")
	return c
}
