// Package intake is the way in for what clients report: it is checked ([Check]) and bounded, what is
// counted is folded in memory ([Counts]), and all is written in batches ([Gather]), so that thousands of
// instances that all report at once, as they do after each revision, are a few transactions
// and nothing that a change or a stop waits for.
//
// Its noun is an [Intake]. A report is answered once it is in the records:
//
//	taken, err := in.Take(ctx, environment, app.Incoming{Report: r, Key: key.ID})
//
// What waits is bounded; past that, reporters are told to come again, and do, with the same
// report.
package intake

import (
	"context"
	"log/slog"
	"time"

	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

// Records take reports of one environment in one transaction, and tell of each whether it was new.
type Records interface {
	TakeReports(ctx context.Context, environment int64, all []app.Incoming, now int64) ([]bool, error)
}

// Intake gathers reports.
type Intake struct {
	Gather[app.Incoming]
	Records Records
	// Sampled takes what new reports say of units, all of one environment together.
	Sampled func(ctx context.Context, environment int64, all []*wire.Report) error
	Now     func() time.Time
	Log     *slog.Logger
}

// New makes an intake; its job keeps it going.
func New(records Records, now func() time.Time, log *slog.Logger) *Intake {
	in := &Intake{Records: records, Now: now, Log: log}
	in.Name, in.Says, in.Write = "reports", "write reports", in.write
	return in
}

func (in *Intake) write(ctx context.Context, environment int64, all []app.Incoming) ([]bool, error) {
	taken, err := in.Records.TakeReports(ctx, environment, all, in.Now().UnixMilli())
	if err != nil || in.Sampled == nil {
		return taken, err
	}
	var fresh []*wire.Report
	for i, is := range taken {
		if is {
			fresh = append(fresh, all[i].Report)
		}
	}
	if err := in.Sampled(ctx, environment, fresh); err != nil {
		// A sample: the next report brings more.
		in.Log.Warn("what clients saw of units could not be kept", "error", err)
	}
	return taken, nil
}
