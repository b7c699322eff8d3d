package localdb

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A server keeps its data over an orderly stop and over a kill, whatever the length of its path.
func TestServer(t *testing.T) {
	ctx := context.Background()
	dir := filepath.Join(t.TempDir(), strings.Repeat("a-long-name/", 10), "db")
	s, err := Start(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	if _, err := Start(ctx, dir); !errors.Is(err, ErrInUse) {
		t.Errorf("twice on one directory: %v", err)
	}
	dsn, err := s.DSN("lockers")
	if err != nil {
		t.Fatal(err)
	}
	query := func(q string) (n int) {
		t.Helper()
		db, err := sql.Open("mysql", dsn)
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		if strings.HasPrefix(q, "SELECT") {
			err = db.QueryRow(q).Scan(&n)
		} else {
			_, err = db.Exec(q)
		}
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	query("CREATE TABLE sites (id INT)")
	query("INSERT INTO sites VALUES (7)")
	if err := s.Kill(); err != nil {
		t.Fatal(err)
	}
	if err := s.Again(ctx); err != nil {
		t.Fatal(err)
	}
	if query("SELECT id FROM sites") != 7 {
		t.Error("a kill lost what was committed")
	}
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	if err := s.Stop(); err != nil {
		t.Errorf("stopping twice: %v", err)
	}
	next, err := Start(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	defer next.Stop()
	if dsn, err = next.DSN("lockers"); err != nil {
		t.Fatal(err)
	}
	if query("SELECT id FROM sites") != 7 {
		t.Error("the second start lost the data")
	}
}

func TestBrokenDirectory(t *testing.T) {
	dir := t.TempDir()
	if err := os.MkdirAll(filepath.Join(dir, "data", "mysql"), 0o700); err != nil {
		t.Fatal(err)
	}
	if _, err := Start(context.Background(), dir); err == nil || !strings.Contains(err.Error(), "MariaDB did not") {
		t.Errorf("%v", err)
	}
}
