package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("look", (*session).usageCommand)

func (s *session) usageCommand() *cobra.Command {
	var span string
	c := &cobra.Command{Use: "usage [FLAG]", Short: "What was decided, and how", Args: cobra.MaximumNArgs(1),
		Long: "Shows how often flags gave which variant in a span of time, beside the span before.\nWith a flag it " +
			"says by which rules, in which applications and versions, and with which reasons.",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			query := url.Values{"span": {span}}
			if len(args) == 1 {
				query.Set("flag", args[0])
			}
			var u manage.Usage
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/usage?" + query.Encode()},
				&u); err != nil {
				return err
			}
			return s.show(u, func() { s.printUsage(&u, span) })
		}}
	c.Flags().StringVar(&span, "span", "1h", "15m, 1h, 6h, 1d, 7d, 30d or 90d")
	return s.watched(c)
}

func (s *session) printUsage(u *manage.Usage, span string) {
	type key struct{ flag, variant string }
	before, total := map[key]uint64{}, map[string]uint64{}
	for _, l := range u.Past {
		before[key{l.Flag, l.Variant}] = l.Total
	}
	for _, l := range u.Now {
		total[l.Flag] += l.Total
	}
	if len(u.Now) == 0 {
		s.say("nothing was decided in %s in the last %s", s.env, span)
		return
	}
	var rows [][]any
	for _, l := range u.Now {
		k := key{l.Flag, l.Variant}
		rows = append(rows, []any{l.Flag, fallbackOr(l.Variant), l.Total, share(l.Total, total[l.Flag]), before[k],
			spark(l.Counts)})
	}
	s.say("decisions in %s, %s to %s", s.env, s.when(u.From), s.when(u.To))
	s.rows([]any{"flag", "variant", "decisions", "share", "in the " + span + " before", ""}, rows)
	if len(u.Ways) == 0 {
		return
	}
	s.say("")
	rows = nil
	for _, w := range u.Ways {
		rows = append(rows, []any{fallbackOr(w.Variant), w.Reason, w.Name,
			strings.TrimSpace(w.Application + " " + w.Version), versionOr(w.FlagVersion), w.Count,
			share(w.Count, total[w.Flag])})
	}
	s.rows([]any{"variant", "reason", "rule", "application", "version", "decisions", "share"}, rows)
}

// versionOr is a flag's version, where it is known.
func versionOr(version int64) string {
	if version == 0 {
		return "-"
	}
	return strconv.FormatInt(version, 10)
}

func fallbackOr(variant string) string {
	if variant == "" {
		return "(fallback)"
	}
	return variant
}

func share(n, of uint64) string {
	if of == 0 {
		return ""
	}
	return fmt.Sprintf("%.1f %%", 100*float64(n)/float64(of))
}

// spark draws counts as a row of bars, at most 30 of them.
func spark(counts []uint64) string {
	per := (len(counts) + 29) / 30
	var sums []uint64
	most := uint64(0)
	for i := 0; i < len(counts); i += per {
		sum := uint64(0)
		for _, n := range counts[i:min(i+per, len(counts))] {
			sum += n
		}
		sums, most = append(sums, sum), max(most, sum)
	}
	bars := []rune("▁▂▃▄▅▆▇█")
	var b strings.Builder
	for _, n := range sums {
		if n == 0 {
			b.WriteRune(' ')
		} else {
			b.WriteRune(bars[(n*uint64(len(bars))-1)/most])
		}
	}
	return b.String()
}
