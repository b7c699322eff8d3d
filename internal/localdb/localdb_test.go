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

// Nobody else of this machine reaches the server: it has no port, its socket lies in a
// directory of its owner's, and over loopback, where it is asked for, it wants a password.
func TestOwnersOnly(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "db")
	s, err := Start(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	if info, err := os.Stat(dir); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("the socket's directory: %v %v", info, err)
	}
	db, err := sql.Open("mysql", s.config("mysql").FormatDSN())
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var network, files string
	if err := db.QueryRow("SELECT @@skip_networking, @@secure_file_priv").Scan(&network, &files); err != nil ||
		network != "1" || !strings.HasPrefix(files, dir) {
		t.Errorf("networking is off: %s, files go to %s, %v", network, files, err)
	}
	over, err := Start(context.Background(), filepath.Join(t.TempDir(), "db"), OverTCP())
	if err != nil {
		t.Fatal(err)
	}
	defer over.Stop()
	for dsn, may := range map[string]bool{over.TCP("mysql", ""): true, "root@tcp(" + over.TCPAddress() +
		")/mysql": false, "over_tcp@tcp(" + over.TCPAddress() + ")/mysql": false} {
		db, err := sql.Open("mysql", dsn)
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		if err := db.Ping(); (err == nil) != may {
			t.Errorf("%s: %v", dsn, err)
		}
	}
}

// A server that starts removes all temporary tables that it finds, so each has a place of its own.
func TestOwnTemporaryTables(t *testing.T) {
	dir := t.TempDir()
	db, err := Start(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Stop()
	dsn, err := db.DSN("own")
	if err != nil {
		t.Fatal(err)
	}
	c, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	var tmp string
	if err := c.QueryRow("SELECT @@tmpdir").Scan(&tmp); err != nil || tmp != filepath.Join(dir, "tmp") {
		t.Errorf("temporary tables are in %q, not below %s: %v", tmp, dir, err)
	}
	if info, err := os.Stat(tmp); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("%v %v", info, err)
	}
}
