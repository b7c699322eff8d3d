// Command bench measures speed as ratios to floors: the least that this machine can do for
// the same work, measured in the same run, round by round in turn, so that a busy machine
// slows both. It prints a table and never fails on a number.
//
//	make bench
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"runtime"
	"runtime/debug"
	"slices"
	"time"
)

// row is one line of the table.
type row struct {
	what        string
	ours, floor string
	ratio       float64
	atMost      float64 // the bar; 0: none
	atLeast     float64
	note        string
}

func (r row) bar() (said, verdict string) {
	switch {
	case r.atMost > 0:
		said, verdict = fmt.Sprintf("<= %.2f", r.atMost), "missed"
		if r.ratio <= r.atMost {
			verdict = "met"
		}
	case r.atLeast > 0:
		said, verdict = fmt.Sprintf(">= %.2f", r.atLeast), "missed"
		if r.ratio >= r.atLeast {
			verdict = "met"
		}
	}
	return said, verdict
}

func main() {
	if os.Getenv(childAsks) != "" {
		if err := child(context.Background()); err != nil {
			fmt.Fprintln(os.Stderr, "bench: service:", err)
			os.Exit(1)
		}
		return
	}
	if dsn := os.Getenv(migrates); dsn != "" {
		if err := migrate(context.Background(), dsn); err != nil {
			fmt.Fprintln(os.Stderr, "bench: migrate:", err)
			os.Exit(1)
		}
		return
	}
	rounds := flag.Int("rounds", 21, "how often each pair is measured in turn; the median ratio counts")
	only := flag.String("only", "", "decide, shift, start, remote, bulk, change, policies, lives, push, stop, "+
		"followers, ingest, console, board, year or upgrade")
	flag.Parse()
	if err := run(*rounds, *only); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(rounds int, only string) error {
	ctx := context.Background()
	var rows []row
	for _, part := range []struct {
		name string
		do   func(context.Context, int) ([]row, error)
	}{{"decide", benchDecide}, {"shift", benchShift}, {"start", benchStart}, {"remote", benchRemote},
		{"bulk", benchBulk}, {"change", benchChange}, {"policies", benchPolicies}, {"lives", benchLives}, {"push", benchPush},
		{"stop", benchStop}, {"followers", benchFollowers}, {"ingest", benchIngest},
		{"console", benchConsole}, {"board", benchBoard}, {"year", benchYear}, {"upgrade", benchUpgrade}} {
		if only != "" && only != part.name {
			continue
		}
		fmt.Fprintf(os.Stderr, "measuring: %s ...\n", part.name)
		more, err := part.do(ctx, rounds)
		if err != nil {
			return fmt.Errorf("%s: %w", part.name, err)
		}
		rows = append(rows, more...)
		debug.FreeOSMemory() // a large corpus must not slow what comes after it
	}
	fmt.Printf("%d processors, %s, median of %d rounds\n\n", runtime.NumCPU(), runtime.Version(), rounds)
	fmt.Printf("%-46s %14s %14s %8s %9s  %s\n", "what", "ours", "floor", "ratio", "bar", "")
	for _, r := range rows {
		bar, verdict := r.bar()
		ratio := ""
		if r.ratio > 0 {
			ratio = fmt.Sprintf("%.2f", r.ratio)
		}
		fmt.Printf("%-46s %14s %14s %8s %9s  %s %s\n", r.what, r.ours, r.floor, ratio, bar, verdict, r.note)
	}
	return nil
}

// inTurn measures ours and the floor in turn and gives the medians of both and of their ratio.
func inTurn(rounds int, ours, floor func() float64) (o, f, ratio float64) {
	var os_, fs, rs []float64
	ours()
	floor() // warm
	for i := range rounds {
		var a, b float64
		if i%2 == 0 {
			a, b = ours(), floor()
		} else {
			b, a = floor(), ours()
		}
		os_, fs, rs = append(os_, a), append(fs, b), append(rs, a/b)
	}
	return median(os_), median(fs), median(rs)
}

func median(v []float64) float64 {
	v = slices.Clone(v)
	slices.Sort(v)
	return v[len(v)/2]
}

func percentile(v []time.Duration, p float64) time.Duration {
	v = slices.Clone(v)
	slices.Sort(v)
	return v[min(len(v)-1, int(p*float64(len(v))))]
}
