package cli

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"go.yaml.in/yaml/v4"

	"greenlever.example/core/words"
)

// show prints data as asked: as JSON, as YAML, or by the function for people.
func (s *session) show(v any, people func()) error {
	switch s.output {
	case "table":
		s.paged(people)
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

// rows prints a table, no wider than the screen.
func (s *session) rows(header []any, rows [][]any) {
	t := table.NewWriter()
	style := table.StyleLight
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft = ""
	style.Box.PaddingRight = "   "
	if s.screen.wide > 0 && s.screen.wide < 100 {
		style.Box.PaddingRight = "  "
	}
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	widths, words := make([]int, len(header)), make([]int, len(header))
	row := func(cells []any, painted func(any) string) {
		out := make(table.Row, len(cells))
		for i, c := range cells {
			out[i] = painted(c)
			widths[i] = max(widths[i], text.StringWidthWithoutEscSequences(out[i].(string)))
			words[i] = max(words[i], text.LongestLineLen(strings.Join(strings.Fields(out[i].(string)), "\n")))
		}
		t.AppendRow(out)
	}
	columns := make([]table.ColumnConfig, len(header))
	row(header, func(c any) string { return s.screen.paint(strong, fmt.Sprint(c)) })
	for _, r := range rows {
		for i, c := range r {
			if number(c) {
				columns[i].Align = text.AlignRight
			}
		}
		row(r, s.cell)
	}
	for i := range columns {
		columns[i].Number = i + 1
	}
	if s.screen.wide > 0 {
		narrow(widths, words, s.screen.wide-len(style.Box.PaddingRight)*(len(header)-1))
		for i := range columns {
			columns[i].WidthMax, columns[i].WidthMaxEnforcer = widths[i], text.WrapSoft
		}
	}
	t.SetColumnConfigs(columns)
	for line := range strings.Lines(t.Render()) {
		s.say("%s", strings.TrimRight(line, " \n"))
	}
}

func number(c any) bool {
	switch reflect.ValueOf(c).Kind() {
	case reflect.Int, reflect.Int64, reflect.Uint64, reflect.Uint32, reflect.Int32, reflect.Float64:
		return true
	}
	return false
}

// cell says a value as people would.
func (s *session) cell(c any) string {
	switch c := c.(type) {
	case state:
		return s.screen.state(c)
	case bool:
		return map[bool]string{true: "yes", false: "no"}[c]
	}
	if v := reflect.ValueOf(c); v.Kind() == reflect.Slice {
		all := make([]string, v.Len())
		for i := range all {
			all[i] = fmt.Sprint(v.Index(i))
		}
		return strings.Join(all, ", ")
	}
	return fmt.Sprint(c)
}

// leastWide is what no column is made narrower than.
const leastWide = 10

// narrow takes from the widest columns until all fit into so many: from those that have long texts
// first, from those with long words where that is not enough.
func narrow(widths, words []int, fit int) {
	sum := 0
	for _, w := range widths {
		sum += w
	}
	for _, least := range [][]int{words, slices.Repeat([]int{leastWide}, len(widths))} {
		for sum > fit {
			widest := -1
			for i, w := range widths {
				if w > max(least[i], leastWide) && (widest < 0 || w > widths[widest]) {
					widest = i
				}
			}
			if widest < 0 {
				break
			}
			widths[widest]--
			sum--
		}
	}
}

// wide is the number of columns that a line may take.
func (s *session) wide() int {
	if s.screen.wide > 0 {
		return max(s.screen.wide, 40)
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

func (s *session) say(format string, args ...any) {
	fmt.Fprintln(s.out, s.screen.fit(s.screen.clean(fmt.Sprintf(format, args...))))
}

// note tells who sits there what was done; it is no data.
func (s *session) note(format string, args ...any) {
	fmt.Fprintln(s.err, s.screen.fit(s.screen.clean(fmt.Sprintf(format, args...))))
}

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

// when says an instant in the reader's own zone; on a screen without the day where it is today.
func (s *session) when(ms int64) string {
	if ms == 0 {
		return "-"
	}
	at, format := time.UnixMilli(ms).Local(), "2006-01-02 15:04:05"
	if s.screen.wide > 0 && at.Format(time.DateOnly) == time.Now().Format(time.DateOnly) {
		format = time.TimeOnly
	}
	return at.Format(format)
}
