package cli

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"regexp"

	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/app/accessor"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("code", (*session).generateCommand)

func (s *session) generateCommand() *cobra.Command {
	var name, out string
	var check bool
	golang := &cobra.Command{Use: "go", Short: "Typed accessors for Go", Args: exactly(),
		Long: `Writes a Go file with one typed accessor for each flag of the project: its key, its type, the value
of its resting variant as fallback, and its description and variants as a doc comment. A flag that is
gone no longer compiles. With --check the file is compared instead; the exit code is 8 where it is stale.`,
		Example: "  greenlever generate go --out internal/flags/flags.go\n  greenlever generate go --out " +
			"internal/flags/flags.go --check",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if name == "" {
				name = "flags"
				if out != "" {
					name = filepath.Base(filepath.Dir(absolute(out)))
				}
			}
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var d manage.Definitions
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/definitions"}, &d); err != nil {
				return err
			}
			all := d.Items
			source, err := accessor.Go(d.Project, name, all)
			if err != nil {
				return &codedError{exitUsage, err}
			}
			switch {
			case check && out == "":
				return coded(exitUsage, "--check compares a file: name it with --out")
			case check:
				return s.checkGenerated(out, source, accessor.Revision(all), len(all))
			case out == "":
				_, err = s.out.Write(source)
				return err
			}
			if err := os.MkdirAll(filepath.Dir(out), 0o755); err != nil {
				return err
			}
			if err := os.WriteFile(out, source, 0o644); err != nil {
				return err
			}
			s.note("%s: %d flags at definitions %s", out, len(all), accessor.Revision(all))
			return nil
		}}
	golang.Flags().StringVar(&out, "out", "", "file to write; standard output if left out")
	golang.Flags().StringVar(&name, "package", "", "name of the package; that of the file's directory if left out")
	golang.Flags().BoolVar(&check, "check", false, "compare the file and write nothing")
	return group("generate", "Source code made from the flags", golang)
}

func absolute(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}

var carried = regexp.MustCompile(`(?m)^const Revision = "([0-9a-f]+)"$`)

// checkGenerated says whether a file is what would be written now.
func (s *session) checkGenerated(path string, source []byte, revision string, flags int) error {
	have, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return coded(exitUnsound, "%s is not there: write it without --check", path)
	}
	if err != nil {
		return err
	}
	if bytes.Equal(have, source) {
		s.note("%s is current: %d flags at definitions %s", path, flags, revision)
		return nil
	}
	old := "none"
	if m := carried.FindSubmatch(have); m != nil {
		old = string(m[1])
	}
	if old == revision {
		return coded(exitUnsound, "%s was changed by hand: write it anew without --check", path)
	}
	return coded(exitUnsound, "%s is stale: it carries definitions %s, the project is at %s; write it anew without "+
		"--check", path, old, revision)
}
