package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"
)

// watchEvery is how often a command that watches asks.
const watchEvery = 2 * time.Second

// watched gives a command that shows how things stand the option to go on showing it: on a terminal
// in place of what stood there, elsewhere once more whenever it is another.
func (s *session) watched(c *cobra.Command) *cobra.Command {
	var watch bool
	run := c.RunE
	c.Flags().BoolVar(&watch, "watch", false, "go on showing it as it changes, until you interrupt")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if !watch {
			return run(cmd, args)
		}
		return s.watch(cmd.Context(), func() error { return run(cmd, args) })
	}
	return c
}

func (s *session) watch(ctx context.Context, run func() error) error {
	to, on := s.out, s.screen
	defer func() { s.out, s.screen = to, on }()
	s.screen.high = 0 // nothing is paged
	before, lost := "", false
	for {
		var said bytes.Buffer
		s.out = &said
		err := run()
		switch {
		case ctx.Err() != nil:
			return nil // it was interrupted, which is how it ends
		case err != nil && (before == "" || ExitCode(err) != exitNoConnection):
			return err
		case err != nil && !lost:
			lost = true
			s.note("no connection since %s; it is asked for again", time.Now().Format("15:04:05"))
		case err == nil && on.high > 0:
			lost = false
			show(to, said.String(), on.high)
			before = said.String()
		case err == nil && said.String() != before:
			lost = false
			before = said.String()
			if _, err := io.WriteString(to, before); err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(watchEvery):
		}
	}
}

// show draws a text at the top of a screen, as much as fits (ECMA-48: CUP, EL, ED).
func show(to io.Writer, said string, high int) {
	lines := strings.Split(strings.TrimRight(said, "\n"), "\n")
	if more := len(lines) - (high - 2); more > 0 {
		lines = append(lines[:high-3], fmt.Sprintf("... %d lines more", more+1))
	}
	at := time.Now().Format("15:04:05")
	_, _ = fmt.Fprintf(to, "\x1b[H%s\x1b[K\n\x1b[J%s\n", strings.Join(lines, "\x1b[K\n"), at)
}
