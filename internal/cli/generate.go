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
	return group("generate", "Source code made from the flags", s.generateGo(), s.generateTypeScript())
}

func (s *session) generateGo() *cobra.Command {
	var name string
	c := s.generated(&cobra.Command{Use: "go", Short: "Typed accessors for Go", Args: exactly(),
		Long: `Writes a Go file with one typed accessor for each flag of the project: its key, its type, the value
of its resting variant as fallback, and its description and variants as a doc comment. A flag that is
gone no longer compiles. With --check the file is compared instead; the exit code is 8 where it is stale.`,
		Example: "  greenlever generate go --out internal/flags/flags.go\n  greenlever generate go --out " +
			"internal/flags/flags.go --check"}, func(d *manage.Definitions, out string) ([]byte, error) {
		if name == "" {
			name = "flags"
			if out != "" {
				name = filepath.Base(filepath.Dir(absolute(out)))
			}
		}
		return accessor.Go(d.Project, name, d.Items)
	})
	c.Flags().StringVar(&name, "package", "", "name of the package; that of the file's directory if left out")
	return c
}

func (s *session) generateTypeScript() *cobra.Command {
	var server bool
	c := s.generated(&cobra.Command{Use: "typescript", Short: "Typed accessors for TypeScript", Args: exactly(),
		Long: `Writes a TypeScript module with one typed function for each flag of the project, which asks an
OpenFeature client: with the flag's key, its type, and the value of its resting variant as fallback. A flag
that is gone no longer compiles. With --check the file is compared instead; the exit code is 8 where it is
stale.`,
		Example: "  greenlever generate typescript --out src/flags.ts\n" +
			"  greenlever generate typescript --out src/flags.ts --check"},
		func(d *manage.Definitions, _ string) ([]byte, error) {
			return accessor.TypeScript(d.Project, d.Items, server)
		})
	c.Flags().BoolVar(&server, "server", false, "for servers, where answers are promises and each has a context "+
		"of its "+
		"own; otherwise for browsers, of the flags that are visible to them")
	return c
}

// generated is a command that writes source code of definitions, or says whether a file is current.
func (s *session) generated(c *cobra.Command, write func(d *manage.Definitions, out string) ([]byte,
	error)) *cobra.Command {
	var out string
	var check bool
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		a, path, err := s.inProject(cmd.Context())
		if err != nil {
			return err
		}
		var d manage.Definitions
		if err := a.do(cmd.Context(), request{method: "GET", path: path + "/definitions"}, &d); err != nil {
			return err
		}
		source, err := write(&d, out)
		if err != nil {
			return &codedError{exitUsage, err}
		}
		switch {
		case check && out == "":
			return coded(exitUsage, "--check compares a file: name it with --out")
		case check:
			return s.checkGenerated(out, source, accessor.Revision(d.Items), len(d.Items))
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
		s.note("%s: %d flags at definitions %s", out, len(d.Items), accessor.Revision(d.Items))
		return nil
	}
	c.Flags().StringVar(&out, "out", "", "file to write; standard output if left out")
	c.Flags().BoolVar(&check, "check", false, "compare the file and write nothing")
	return c
}

func absolute(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}

var carried = regexp.MustCompile(`(?m)^(?:export )?const (?:Revision|revision) = "([0-9a-f]+)";?$`)

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
