package server

import (
	"context"
	"errors"
	"log/slog"

	"greenlever.example/greenlever/internal/store"
)

// Migrate brings the schema of a database up to date, or only tells which steps are left.
func Migrate(ctx context.Context, dsn string, check bool, log *slog.Logger) ([]store.Step, error) {
	if dsn == "" {
		return nil, errors.New("say which database with --dsn; a private one is brought up to date by serve")
	}
	st, err := store.New(dsn, log)
	if err != nil {
		return nil, err
	}
	defer st.Close()
	if !check {
		if err := st.Migrate(ctx); err != nil {
			return nil, err
		}
	}
	return st.Pending(ctx)
}

// UsualConnections gives how many connections to the records there may be at once, by what they are for.
func UsualConnections() map[string]int { return store.UsualConnections() }

// KeepDays gives for how many days things are kept, by option of serve.
func KeepDays() map[string]int { return store.Days() }
