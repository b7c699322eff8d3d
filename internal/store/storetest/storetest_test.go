package storetest

import (
	"context"
	"database/sql"
	"io"
	"log/slog"
	"strings"
	"testing"

	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/store"
)

func TestMain(m *testing.M) { gltest.Main(m) }

var quiet = slog.New(slog.NewTextHandler(io.Discard, nil))

func TestMariaDB(t *testing.T) {
	dsn := gltest.Bare(t)
	st, err := store.Open(context.Background(), dsn, quiet)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	Run(t, st, db)
	again, err := store.Open(context.Background(), dsn, quiet) // finds its tables up to date
	if err != nil {
		t.Fatal(err)
	}
	again.Close()
}

// The same holds where every statement goes by itself, as on a cluster.
func TestApart(t *testing.T) {
	dsn := gltest.Bare(t)
	st, err := store.Open(context.Background(), dsn, quiet)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	st.Apart()
	db := open(t, dsn)
	Run(t, st, db)
}

func TestOddAddresses(t *testing.T) {
	for dsn, says := range map[string]string{"nonsense": "address", "root@tcp(127.0.0.1:1)/": "names no database",
		"root@tcp(127.0.0.1:1)/x": "127.0.0.1:1"} {
		if _, err := store.Open(context.Background(), dsn, quiet); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", dsn, err)
		}
	}
}
