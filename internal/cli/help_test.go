package cli

import (
	"bytes"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// Help fits a terminal of 80 columns, and a command's summary one line of it.
func TestHelpFits(t *testing.T) {
	each((&session{}).root(), func(c *cobra.Command) {
		if !c.IsAvailableCommand() {
			return
		}
		if c.HasParent() && len([]rune(c.Short)) > 65 {
			t.Errorf("%s: its summary has %d columns, 65 fit: %s", c.CommandPath(), len([]rune(c.Short)), c.Short)
		}
		var out bytes.Buffer
		(&session{out: &out}).help(c)
		for line := range strings.Lines(out.String()) {
			if line = strings.TrimRight(line, "\n"); len([]rune(line)) > helpWide {
				t.Errorf("%s --help: %d columns: %s", c.CommandPath(), len([]rune(line)), line)
			}
			if strings.TrimRight(line, " ") != line {
				t.Errorf("%s --help: spaces at the end of %q", c.CommandPath(), line)
			}
		}
	})
}

// A line of a shell that was broken is the same line.
func TestFoldLine(t *testing.T) {
	for _, line := range []string{"  greenlever board", "  greenlever flag rule one-touch-open --name 'Old firmware' " +
		"--when 'version(firmware) < version(\"4.2.0\") and crew_size >= 2' --gets off --place 1 --env production",
		"  " + strings.Repeat("x", 200)} {
		if got := strings.ReplaceAll(foldLine(line, 60), " \\\n      ", " "); got != line {
			t.Errorf("%q became %q", line, got)
		}
	}
}

// What is said fits the screen, and keeps what stands before it; a command is not broken.
func TestFit(t *testing.T) {
	scr := screen{wide: 40, high: 24}
	for line, want := range map[string]string{
		"short": "short",
		"  a text that is longer than the screen is wide": "  a text that is longer than the screen\n  is wide",
		"attributes   as they were last seen, at 14:02:11": "attributes   as they were last seen, at\n" +
			"             14:02:11",
		"take it back: greenlever lift 01a22ca3 --env production": "take it back: greenlever lift 01a22ca3 --env " +
			"production",
	} {
		if got := scr.fit(line); got != want {
			t.Errorf("%q:\n%q, not\n%q", line, got, want)
		}
	}
}

// A table is no wider than the screen, and breaks long texts before long words.
func TestRowsFit(t *testing.T) {
	var out bytes.Buffer
	s := &session{out: &out, screen: screen{wide: 60, high: 24}}
	s.rows([]any{"flag", "lever", "is for", "asks first"}, [][]any{
		{"night-batching-of-parcels", state("on"), strings.Repeat("a few words ", 9), true},
		{"weather-holds", state("stopped"), "rounds", false}})
	got := out.String()
	for line := range strings.Lines(got) {
		if n := len([]rune(strings.TrimRight(line, "\n"))); n > 60 {
			t.Errorf("%d columns: %q", n, line)
		}
	}
	for _, want := range []string{"night-batching-of-parcels", "● on", "■ stopped", "yes", "no"} {
		if !strings.Contains(got, want) {
			t.Errorf("no %q in\n%s", want, got)
		}
	}
	out.Reset()
	s.screen = screen{}
	s.rows([]any{"flag", "is for"}, [][]any{{"a", strings.Repeat("a few words ", 20)}})
	if lines := strings.Count(out.String(), "\n"); lines != 2 {
		t.Errorf("a file has %d lines of two rows", lines)
	}
}

// Colours, signs and width are those that the terminal has and its user wants; a file has none.
func TestScreenOf(t *testing.T) {
	if got := screenOf(&bytes.Buffer{}, func(string) string { return "xterm" }); got != (screen{}) {
		t.Errorf("a buffer is %+v", got)
	}
	for name, c := range map[string]struct {
		env    map[string]string
		paints bool
		ascii  bool
	}{
		"usual":     {map[string]string{"TERM": "xterm", "LANG": "C.UTF-8"}, true, false},
		"no colour": {map[string]string{"TERM": "xterm", "LANG": "C.UTF-8", "NO_COLOR": "1"}, false, false},
		"dumb":      {map[string]string{"TERM": "dumb", "LANG": "en_GB.utf8"}, false, false},
		"no locale": {map[string]string{"TERM": "xterm"}, true, true},
		"over it":   {map[string]string{"TERM": "xterm", "LANG": "C.UTF-8", "LC_ALL": "C"}, true, true},
	} {
		var scr screen
		scr.shows(func(name string) string { return c.env[name] })
		if painted := scr.paint(bad, "x") != "x"; painted != c.paints || scr.ascii != c.ascii {
			t.Errorf("%s: paints %v, ASCII %v", name, painted, scr.ascii)
		}
	}
	var out bytes.Buffer
	fmt.Fprintf(asciiWriter{&out}, "%s %s → 8 %%", signs["on"].sign, "on")
	if got := out.String(); got != "* on -> 8 %" {
		t.Errorf("in ASCII: %q", got)
	}
}

// Whatever a command does not take, it says so as wrong use, and where its help is.
func TestWrongUse(t *testing.T) {
	each((&session{}).root(), func(c *cobra.Command) {
		if !c.Runnable() || c.HasSubCommands() || !c.HasParent() {
			return
		}
		for _, n := range []int{0, 1, 2, 99} {
			if err := c.Args; err == nil {
				break
			}
			if err := c.Args(c, make([]string, n)); err != nil && (ExitCode(err) != exitUsage ||
				!strings.Contains(err.Error(), c.Name()) && !strings.Contains(err.Error(), "--help")) {
				t.Errorf("%s with %d arguments: %d, %v", c.CommandPath(), n, ExitCode(err), err)
			}
		}
		err := c.FlagErrorFunc()(c, c.ParseFlags([]string{"--no-such"}))
		if ExitCode(err) != exitUsage || !strings.Contains(err.Error(), "has no option --no-such") {
			t.Errorf("%s --no-such: %d, %v", c.CommandPath(), ExitCode(err), err)
		}
	})
	var out bytes.Buffer
	code := Run(t.Context(), []string{"flag", "make", "x", "--titel", "X"}, strings.NewReader(""), &out, &out)
	if code != exitUsage || !strings.Contains(out.String(), "--title") {
		t.Errorf("exit code %d: %s", code, out.String())
	}
}

// What is longer than the screen goes through the pager that its user has chosen, and is there where there is none.
func TestPager(t *testing.T) {
	kept := t.TempDir() + "/paged"
	var out bytes.Buffer
	s := &session{out: &out, interactive: true, screen: screen{wide: 40, high: 3}}
	say := func() { s.say("a\nb\nc\nd") }
	t.Setenv("GREENLEVER_PAGER", "cat > "+kept)
	s.paged(say)
	if raw, err := os.ReadFile(kept); string(raw) != "a\nb\nc\nd\n" || out.Len() > 0 {
		t.Errorf("the pager got %q, %v; beside it went %q", raw, err, out.String())
	}
	for _, with := range []string{"cat", "no-such-pager", " "} {
		out.Reset()
		t.Setenv("GREENLEVER_PAGER", with)
		if s.paged(say); out.String() != "a\nb\nc\nd\n" {
			t.Errorf("with %q went %q", with, out.String())
		}
	}
	t.Setenv("GREENLEVER_PAGER", "cat > "+kept)
	s.screen.ascii = true
	s.paged(func() { s.say("●\n→\n≥") })
	if raw, err := os.ReadFile(kept); string(raw) != "*\n->\n>=\n" {
		t.Errorf("in ASCII the pager got %q, %v", raw, err)
	}
	out.Reset()
	t.Setenv("GREENLEVER_PAGER", "cat > "+kept)
	if s.paged(func() { s.say("short") }); out.String() != "short\n" {
		t.Errorf("a short text: %q", out.String())
	}
}

// What others called something paints nothing, and moves no cursor; this program's own paint does.
func TestClean(t *testing.T) {
	scr := screen{wide: 80, high: 24, colours: true}
	own := scr.paint(bad, "lost")
	hostile := "a\x1b[2J\x1b]0;x\x07\u202eb"
	if got := scr.clean(own + hostile + "\n"); got != own+`a\x1b[2J\x1b]0;x\x07\x202eb`+"\n" {
		t.Errorf("%q", got)
	}
	if got := (screen{}).clean(own); strings.ContainsRune(got, '\x1b') {
		t.Errorf("a file gets %q", got)
	}
	var out bytes.Buffer
	s := &session{out: &out, err: &out, screen: scr}
	s.say("%s", hostile)
	s.note("%s", hostile)
	s.rows([]any{"flag"}, [][]any{{hostile}})
	if got := out.String(); strings.Contains(got, "\x1b[2J") || strings.ContainsAny(got, "\x07\u202e") {
		t.Errorf("%q", got)
	}
}
