package storetest

import (
	"fmt"
	"io"
	"log/slog"
	"testing"
	"time"

	"greenlever.example/greenlever/internal/app/feed"
)

// A look at the log costs what is followed costs, however many environments there are besides.
func (s *suite) idle(t *testing.T) {
	const followed, more = 10, 500
	make := func(from, to int) {
		for i := from; i < to; i++ {
			if _, err := s.db.Exec(`INSERT INTO environments (project_id, environment_key, title, ask_first, revision, created)
				VALUES (?, ?, '', FALSE, 0, 1)`, s.env.ProjectID, fmt.Sprint("idle-", i)); err != nil {
				t.Fatal(err)
			}
		}
	}
	make(0, followed)
	now := time.Now().UnixMilli()
	if _, err := s.db.Exec(`INSERT INTO instances (environment_id, id, application, version, epoch, revision, source, skew_millis, sequence, started, seen, gone)
		SELECT id, CONCAT('i', id), 'door', '1', 1, 0, 'stream', 0, 1, ?, ?, FALSE FROM environments WHERE environment_key LIKE 'idle-%'`, now, now); err != nil {
		t.Fatal(err)
	}
	hub := feed.NewHub(s.st, slog.New(slog.NewTextHandler(io.Discard, nil)))
	if err := hub.Gather(s.ctx); err != nil {
		t.Fatal(err)
	}
	before := len(hub.Places())
	few := s.rowsRead(t, hub)
	make(followed, followed+more)
	if err := hub.Gather(s.ctx); err != nil {
		t.Fatal(err)
	}
	if n := len(hub.Places()); n != before || n < followed {
		t.Errorf("%d environments are in place, %d before there were more", n, before)
	}
	if many := s.rowsRead(t, hub); many > few+few/10+5 {
		t.Errorf("a look reads %d rows with %d environments that nobody follows, and %d without", many, more, few)
	}
}

// read is how many rows MariaDB has read.
func (s *suite) read(t *testing.T) (n int) {
	t.Helper()
	rows, err := s.db.Query("SHOW GLOBAL STATUS LIKE 'Handler_read%'")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		var value int
		if err := rows.Scan(&name, &value); err != nil {
			t.Fatal(err)
		}
		n += value
	}
	return n
}

// rowsRead is how many rows MariaDB reads for ten looks.
func (s *suite) rowsRead(t *testing.T, hub *feed.Hub) int {
	t.Helper()
	read := func() int { return s.read(t) }
	// What reading the counters reads itself is taken off.
	first := read()
	itself := read() - first
	first = read()
	for range 10 {
		if err := hub.Look(s.ctx); err != nil {
			t.Fatal(err)
		}
	}
	return read() - first - itself
}
