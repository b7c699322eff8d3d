package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"go.yaml.in/yaml/v4"
	"golang.org/x/term"

	"greenlever.example/core/words"
)

// show prints data as asked: as JSON, as YAML, or by the function for people.
func (s *session) show(v any, people func()) error {
	switch s.output {
	case "table":
		people()
		return nil
	case "json":
		enc := json.NewEncoder(s.out)
		enc.SetIndent("", "  ")
		enc.SetEscapeHTML(false)
		return enc.Encode(v)
	case "yaml":
		raw, err := json.Marshal(v) // the API's names, in YAML
		if err != nil {
			return err
		}
		var plain any
		if err := yaml.Unmarshal(raw, &plain); err != nil {
			return err
		}
		out, err := yaml.Marshal(plain)
		if err != nil {
			return err
		}
		_, err = s.out.Write(out)
		return err
	}
	return coded(exitUsage, "--output must be table, json or yaml, not %q", s.output)
}

// rows prints a table.
func (s *session) rows(header []any, rows [][]any) {
	t := table.NewWriter()
	t.SetOutputMirror(s.out)
	style := table.StyleLight
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft = ""
	style.Box.PaddingRight = "   "
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	t.AppendHeader(header)
	for _, r := range rows {
		t.AppendRow(r)
	}
	t.Render()
}

// wide is the number of columns that a line may take.
func (s *session) wide() int {
	if f, ok := s.out.(*os.File); ok {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 40 {
			return w
		}
	}
	return 120
}

// wrap breaks a text into lines of at most n columns, with the next ones indented.
func wrap(s string, n, indent int) string {
	lines := strings.Split(text.WrapSoft(s, max(20, n-indent)), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines, "\n"+strings.Repeat(" ", indent))
}

func (s *session) say(format string, args ...any) { fmt.Fprintf(s.out, format+"\n", args...) }

// note tells who sits there what was done; it is no data.
func (s *session) note(format string, args ...any) { fmt.Fprintf(s.err, format+"\n", args...) }

// said prints what is said, with instants in the reader's own zone.
func said(s words.Said) string {
	return s.Print(func(t words.Token) string {
		if at, err := time.Parse(time.RFC3339Nano, t.Text); t.Kind == words.ATime && err == nil {
			format := "2006-01-02 15:04 MST"
			if at.Nanosecond() != 0 || at.Second() != 0 {
				format = "2006-01-02 15:04:05 MST"
			}
			return at.Local().Format(format)
		}
		return t.String()
	})
}

// sayAll prints several things that are said.
func sayAll(all []words.Said, sep string) string {
	texts := make([]string, len(all))
	for i, s := range all {
		texts[i] = said(s)
	}
	return strings.Join(texts, sep)
}

func when(ms int64) string {
	if ms == 0 {
		return "-"
	}
	return time.UnixMilli(ms).Local().Format("2006-01-02 15:04:05")
}
