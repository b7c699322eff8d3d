package storetest

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/store"
)

// step is one statement of a migration.
type step struct {
	version   int
	statement string
	last      bool // of its migration: after it the migration is noted
}

var ends = regexp.MustCompile(`;[ \t]*(--.*)?\n`) // of statements

// steps reads the statements of the migrations of a directory, in order.
func steps(t *testing.T, pattern string) (all []step) {
	t.Helper()
	files, _ := filepath.Glob(pattern)
	if len(files) == 0 {
		t.Fatal("no migrations at " + pattern)
	}
	for _, file := range files {
		raw, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		var version int
		if _, err := fmt.Sscanf(filepath.Base(file), "%d_", &version); err != nil {
			t.Fatal(err)
		}
		up, _, _ := strings.Cut(string(raw), "-- +goose Down")
		for _, statement := range ends.Split(up, -1) {
			if statement = strings.TrimSpace(statement); statement != "" {
				all = append(all, step{version: version, statement: statement})
			}
		}
		all[len(all)-1].last = true
	}
	return all
}

// killedAfter makes a database as a process leaves it that was killed after n statements:
// all but the last migration are noted, and of that one not even that it began.
func killedAfter(t *testing.T, all []step, n int) string {
	t.Helper()
	dsn := gltest.Bare(t)
	db := open(t, dsn)
	run := func(q string) {
		if _, err := db.Exec(q); err != nil {
			t.Fatalf("%s: %v", q, err)
		}
	}
	run("CREATE TABLE goose_db_version (id SERIAL PRIMARY KEY, version_id BIGINT NOT NULL, is_applied BOOLEAN NOT " +
		"NULL, tstamp TIMESTAMP NULL DEFAULT NOW())")
	run("INSERT INTO goose_db_version (version_id, is_applied) VALUES (0, TRUE)")
	for i, one := range all[:n] {
		run(one.statement)
		if one.last && i < n-1 {
			run(fmt.Sprintf("INSERT INTO goose_db_version (version_id, is_applied) VALUES (%d, TRUE)", one.version))
		}
	}
	return dsn
}

func open(t *testing.T, dsn string) *sql.DB {
	t.Helper()
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

// shape describes all tables, columns and indexes.
func shape(t *testing.T, dsn string) (all []string) {
	t.Helper()
	db := open(t, dsn)
	for _, q := range []string{
		"SELECT CONCAT_WS(' ', table_name, column_name, column_type, is_nullable, column_default) " +
			"FROM information_schema.columns WHERE table_schema = DATABASE()",
		"SELECT CONCAT_WS(' ', table_name, index_name, seq_in_index, column_name, non_unique) " +
			"FROM information_schema.statistics WHERE table_schema = DATABASE()",
	} {
		rows, err := db.Query(q)
		if err != nil {
			t.Fatal(err)
		}
		for rows.Next() {
			var one string
			if err := rows.Scan(&one); err != nil {
				t.Fatal(err)
			}
			all = append(all, one)
		}
		rows.Close()
	}
	slices.Sort(all)
	return all
}

// A process that is killed at any statement, of this release's steps or of an earlier
// release's migrations, leaves a database that the next one brings up to date, rows and all.
func TestKilledWhileMigrating(t *testing.T) {
	fresh := gltest.Bare(t)
	st, err := store.Open(context.Background(), fresh, quiet)
	if err != nil {
		t.Fatal(err)
	}
	st.Close()
	want := shape(t, fresh)

	released := steps(t, "../testdata/released/*.sql")
	newer := steps(t, "../migrations/002*.sql")
	for _, one := range newer {
		if !one.last {
			t.Errorf("step %d has more than one statement", one.version)
		}
	}
	old := append(slices.Clone(released), newer...)
	// an empty database takes these, the first ones in a form that can be repeated
	now := steps(t, "../migrations/*.sql")
	type where struct {
		of []step
		n  int
	}
	var all []where
	for n := range old {
		all = append(all, where{old, n + 1})
	}
	for n := range now[:len(now)-len(newer)] {
		all = append(all, where{now, n + 1})
	}
	for _, w := range all {
		t.Run(fmt.Sprintf("%d of %d, in %d", w.n, len(w.of), w.of[w.n-1].version), func(t *testing.T) {
			t.Parallel()
			dsn := killedAfter(t, w.of, w.n)
			db := open(t, dsn)
			rows := w.n >= len(released) && len(w.of) == len(old)
			if rows {
				if _, err := db.Exec("INSERT INTO projects (project_key, title, created) " +
					"VALUES ('pinecrest', 'Pinecrest', 1)"); err != nil {
					t.Fatal(err)
				}
			}
			st, err := store.Open(context.Background(), dsn, quiet)
			if err != nil {
				t.Fatal(err)
			}
			defer st.Close()
			if left, err := st.Pending(context.Background()); err != nil || len(left) != 0 {
				t.Errorf("still pending: %v %v", left, err)
			}
			if p, err := st.Projects(context.Background()); rows && (err != nil || len(p) != 1) {
				t.Errorf("projects %v, %v", p, err)
			}
			if got := shape(t, dsn); !slices.Equal(got, want) {
				t.Errorf("the schema differs:\n%s", strings.Join(difference(got, want), "\n"))
			}
		})
	}
}

func difference(a, b []string) (lines []string) {
	for _, x := range a {
		if !slices.Contains(b, x) {
			lines = append(lines, "+ "+x)
		}
	}
	for _, x := range b {
		if !slices.Contains(a, x) {
			lines = append(lines, "- "+x)
		}
	}
	return lines
}

// A program goes on beside a schema that is one release ahead, and refuses one beyond that.
func TestNewerSchemas(t *testing.T) {
	dsn := gltest.Bare(t)
	for _, c := range []struct {
		version int
		refused bool
	}{{store.Release*100 + 99, false}, {(store.Release + 1) * 100, false}, {(store.Release + 2) * 100, true}} {
		st, err := store.Open(context.Background(), dsn, quiet)
		if err != nil {
			t.Fatal(err)
		}
		st.Close()
		db := open(t, dsn)
		if _, err := db.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (?, TRUE)",
			c.version); err != nil {
			t.Fatal(err)
		}
		st, err = store.Open(context.Background(), dsn, quiet)
		if errors.Is(err, store.ErrTooNew) != c.refused || (err != nil) != c.refused {
			t.Errorf("schema %d: %v", c.version, err)
		}
		if err == nil {
			st.Close()
		}
	}
}

// What a process of the release before writes is not said in the chain. The verifier says so,
// and once the next process has taken the rows over they are compared again.
func TestRowsOfAnOlderProcess(t *testing.T) {
	ctx, dsn := context.Background(), gltest.Bare(t)
	st, err := store.Open(ctx, dsn, quiet)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	db := open(t, dsn)
	p := &app.Project{Key: "pinecrest", Title: "Pinecrest"}
	entry := func(action, change string) audit.Entry {
		return audit.Entry{Action: action, Project: p.ID, At: 1, Change: change}
	}
	var chain string
	write := func(fn func(*store.Tx) error) {
		t.Helper()
		if err := st.Write(ctx, fn); err != nil {
			t.Fatal(err)
		}
	}
	run := func(q string) {
		t.Helper()
		if _, err := db.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	found := func() string {
		t.Helper()
		heads, err := st.Chains(ctx, p.ID)
		if err != nil || len(heads) != 1 {
			t.Fatal(heads, err)
		}
		v := audit.NewVerifier(nil, nil)
		if err := st.Rows(ctx, chain, 0, heads[0].Sequence, func(r *audit.Row) error {
			v.Row(r)
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		c, err := st.Comparing(ctx, heads[0])
		if err != nil {
			t.Fatal(err)
		}
		if _, err := audit.Compare(ctx, c, v); err != nil {
			t.Fatal(err)
		}
		return fmt.Sprint(v.Done().Findings)
	}
	write(func(tx *store.Tx) error {
		if err := tx.AddProject(p); err != nil {
			return err
		}
		chain = audit.ProjectChain(p.ID)
		_, err := tx.Append(chain, entry("project.made", "1"), nil)
		return err
	})
	if f := found(); f != "[]" {
		t.Fatal(f)
	}
	run("UPDATE projects SET title = 'Pinecrest yards'")
	write(func(tx *store.Tx) error {
		_, err := tx.Append(chain, entry("definition.changed", "2"), nil)
		return err
	})
	if f := found(); !strings.Contains(f, "older release") {
		t.Errorf("beside an older process: %s", f)
	}
	run("INSERT INTO instances (environment_id, id, application, version, epoch, revision, source, skew_millis, " +
		"sequence, seen, gone, kind, gone_at) VALUES (1, 'node-1', 'greenlever', '1', 1, 1, '', 0, 0, 5, 1, " +
		"'service', 5)")
	adopt := func() {
		t.Helper()
		n := 0
		if err := st.AdoptRecords(ctx, func(string) audit.Entry {
			n++
			return entry(audit.Adopted, fmt.Sprint("taken over ", n))
		}); err != nil {
			t.Fatal(err)
		}
	}
	adopt()
	if f := found(); f != "[]" {
		t.Errorf("taken over: %s", f)
	}
	run("UPDATE projects SET title = 'Somebody was here'")
	adopt() // nothing is taken over without a cause
	if f := found(); !strings.Contains(f, "projects/1 is not as the chain says") {
		t.Errorf("altered after that: %s", f)
	}
}

// Whatever grows has been thought of: each table is in the list of what is kept, that list is
// the operator's guide's, and no table is in it that is not there.
func TestEveryTableIsKeptForAReason(t *testing.T) {
	dsn := gltest.Bare(t)
	st, err := store.Open(context.Background(), dsn, quiet)
	if err != nil {
		t.Fatal(err)
	}
	st.Close()
	rows, err := open(t, dsn).Query("SELECT table_name FROM information_schema.tables " +
		"WHERE table_schema = DATABASE() ORDER BY table_name")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	var there, listed []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			t.Fatal(err)
		}
		there = append(there, name)
	}
	guide, err := os.ReadFile("../../../docs/guide/operator.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range store.Retention() {
		listed = append(listed, k.Table)
		if line := keptLine(k); !strings.Contains(string(guide), line+"\n") {
			t.Errorf("the operator's guide does not have this line:\n%s", line)
		}
	}
	slices.Sort(there)
	slices.Sort(listed)
	if !slices.Equal(there, listed) {
		t.Errorf("differs from the list of what is kept:\n%s", strings.Join(difference(there, listed), "\n"))
	}
}

// keptLine is what the operator's guide says of a table.
func keptLine(k store.Kept) string {
	option, bytes := "", ""
	if k.Option != "" {
		option = fmt.Sprintf("`--%s` %d", k.Option, k.Days)
	}
	if k.Bytes > 0 {
		bytes = fmt.Sprint(k.Bytes)
	}
	return fmt.Sprintf("| `%s` | %s | %s | %s |", k.Table, k.Why, option, bytes)
}
