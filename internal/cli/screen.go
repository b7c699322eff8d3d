package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"
)

// screen is what the standard output is able to show. The zero screen is a file or a pipe.
type screen struct {
	wide, high int  // in columns and lines; 0: it is no terminal
	colours    bool // and bold text
	ascii      bool // it has no signs but those of ASCII
}

// screenOf looks at a stream, and at what its user asks of all programs: https://no-color.org, and
// the locale of POSIX.
func screenOf(out io.Writer, env func(string) string) (scr screen) {
	f, is := out.(*os.File)
	if !is || !term.IsTerminal(int(f.Fd())) {
		return
	}
	scr.wide, scr.high = 80, 24
	if w, h, err := term.GetSize(int(f.Fd())); err == nil && w > 0 && h > 0 {
		scr.wide, scr.high = w, h
	}
	scr.shows(env)
	return
}

// shows reads what a terminal shows from the environment.
func (scr *screen) shows(env func(string) string) {
	scr.colours = env("NO_COLOR") == "" && env("TERM") != "dumb" && env("TERM") != ""
	locale := env("LC_ALL")
	for _, name := range []string{"LC_CTYPE", "LANG"} {
		if locale == "" {
			locale = env(name)
		}
	}
	locale = strings.ToLower(locale)
	scr.ascii = !strings.Contains(locale, "utf-8") && !strings.Contains(locale, "utf8")
}

// clean has nothing but this program's own paint act on the terminal: what units are called, and what
// was written down before it was looked at, may hold anything.
func (scr screen) clean(says string) string {
	if !strings.ContainsFunc(says, acts) {
		return says
	}
	var out strings.Builder
	for says != "" {
		if at := own.FindStringIndex(says); scr.colours && at != nil && at[0] == 0 {
			out.WriteString(says[:at[1]])
			says = says[at[1]:]
			continue
		}
		r, n := utf8.DecodeRuneInString(says)
		if says = says[n:]; acts(r) {
			fmt.Fprintf(&out, `\x%02x`, r)
		} else {
			out.WriteRune(r)
		}
	}
	return out.String()
}

// own are the sequences with which this program paints.
var own = func() *regexp.Regexp {
	all := []string{regexp.QuoteMeta(text.EscapeReset)}
	for _, p := range paints {
		all = append(all, regexp.QuoteMeta(p.EscapeSeq()))
	}
	return regexp.MustCompile("^(?:" + strings.Join(all, "|") + ")")
}()

// acts tells of control characters, and of marks that turn the direction of writing.
func acts(r rune) bool {
	return r != '\n' && r != '\t' && (unicode.IsControl(r) || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069)
}

// fit breaks lines that are longer than the screen at spaces. Commands stay as they are: they are pasted.
func (scr screen) fit(says string) string {
	if scr.wide == 0 {
		return says
	}
	lines := strings.Split(says, "\n")
	for i, line := range lines {
		if text.StringWidthWithoutEscSequences(line) <= scr.wide || strings.Contains(line, "greenlever ") {
			continue
		}
		begins := line[:len(line)-len(strings.TrimLeft(line, " "))]
		if m := tabular.FindStringSubmatch(line); m != nil {
			begins = m[1]
		}
		if n := text.StringWidthWithoutEscSequences(begins); n <= scr.wide/2 {
			lines[i] = begins + wrap(line[len(begins):], scr.wide, n)
		}
	}
	return strings.Join(lines, "\n")
}

// tone is how a word is painted. What a colour says, a sign or the word itself says too.
type tone int

const (
	plain tone = iota
	strong
	faint
	good
	waits
	bad
)

var paints = map[tone]text.Colors{strong: {text.Bold}, faint: {text.Faint}, good: {text.FgGreen},
	waits: {text.FgMagenta}, bad: {text.FgRed, text.Bold}}

func (scr screen) paint(t tone, what string) string {
	if !scr.colours || t == plain || what == "" {
		return what
	}
	return paints[t].EscapeSeq() + what + text.EscapeReset
}

// state is a word that says how something stands: a lever, a process, a release. It has a sign before it.
type state string

var signs = map[state]struct {
	sign string
	tone tone
}{
	"on": {"●", good}, "off": {"○", faint}, "stopped": {"■", bad}, "moving": {"●", waits},
	"has it": {"●", good}, "serves": {"●", good}, "waiting": {"○", waits}, "not yet": {"○", waits},
	"serves no more": {"!", bad}, "other history": {"!", bad}, "lost": {"!", bad}, "gone": {"○", faint},
	"under-way": {"●", good}, "arriving": {"○", waits}, "asking": {"?", waits}, "held": {"!", bad},
	"through": {"●", waits}, "finished": {"●", faint}, "rolled-back": {"■", faint}, "withdrawn": {"○", faint},
	"harm": {"!", bad}, "clear": {"+", good},
}

func (scr screen) state(s state) string {
	as, known := signs[s]
	if !known {
		return string(s)
	}
	return scr.paint(as.tone, as.sign+" "+string(s))
}

// toASCII says with ASCII what this program says with other signs.
var toASCII = strings.NewReplacer("●", "*", "○", "o", "■", "#", "█", "#", "·", ".", "…", "...", "→", "->", "≥", ">=",
	"≤", "<=", "—", "-", "–", "-", "±", "+-", "×", "x", "▁", ".", "▂", ".", "▃", "-", "▄", "-", "▅", "=", "▆", "=",
	"▇", "#", "’", "'")

// asciiWriter writes to a terminal that shows nothing else.
type asciiWriter struct{ io.Writer }

func (w asciiWriter) Write(p []byte) (int, error) {
	if _, err := io.WriteString(w.Writer, toASCII.Replace(string(p))); err != nil {
		return 0, err
	}
	return len(p), nil
}

// paged prints what a function says, through the pager where the screen is too small for it.
func (s *session) paged(say func()) {
	if s.screen.high == 0 {
		say()
		return
	}
	var held bytes.Buffer
	to := s.out
	s.out = &held
	say()
	s.out = to
	said := held.String()
	if s.screen.ascii { // the pager writes to the terminal itself
		said = toASCII.Replace(said)
	}
	if s.interactive && strings.Count(said, "\n") >= s.screen.high && page([]byte(said)) {
		return
	}
	_, _ = s.out.Write(held.Bytes()) // a terminal that is gone has nobody who reads
}

// page shows a text by the pager that its user has chosen, and says whether it did.
func page(said []byte) bool {
	with := env("GREENLEVER_PAGER", env("PAGER", "less"))
	if with == "cat" || strings.TrimSpace(with) == "" {
		return false
	}
	c := exec.Command("sh", "-c", with)
	if os.Getenv("LESS") == "" {
		c.Env = append(os.Environ(), "LESS=FRX") // quits where one screen is enough, and shows colours
	}
	c.Stdin, c.Stdout, c.Stderr = bytes.NewReader(said), os.Stdout, os.Stderr
	err := c.Run()
	// A pager that ran and failed, as of a signal, has shown something; one that is not there has not.
	var failed *exec.ExitError
	return err == nil || errors.As(err, &failed) && failed.ExitCode() != notThere
}

// notThere is the shell's exit code for a command that there is not (POSIX, 2.8.2).
const notThere = 127
