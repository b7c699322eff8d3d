package main

import (
	"bufio"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"greenlever.example/greenlever/internal/localdb"
	"greenlever.example/greenlever/internal/store"
)

// migrates has a child of the bench bring a database up to date, and names it.
const migrates = "GREENLEVER_BENCH_MIGRATE"

// migrate is such a child. It says each step before it begins.
func migrate(ctx context.Context, dsn string) error {
	st, err := store.Open(ctx, dsn, slog.New(slog.NewTextHandler(os.Stdout, nil)))
	if err != nil {
		return err
	}
	return st.Close()
}

// benchUpgrade puts a year's rows into each released schema and brings that up to date, with the
// process killed in the middle of every step.
func benchUpgrade(ctx context.Context, _ int) ([]row, error) {
	s, _, err := yearService(ctx) // makes it, if it is not there
	if err != nil {
		return nil, err
	}
	if err := s.Stop(); err != nil {
		return nil, err
	}
	db, err := localdb.Start(ctx, filepath.Join(yearDir, "mariadb"))
	if err != nil {
		return nil, err
	}
	defer func() { _ = db.Stop() }()
	files, err := filepath.Glob("internal/store/testdata/released/*.sql")
	if err != nil || len(files) == 0 {
		return nil, fmt.Errorf("no released schemas: run this where the sources are (%w)", err)
	}
	var rows []row
	for n := range files {
		one, err := upgrade(ctx, db, fmt.Sprintf("released_%d", n+1), files[:n+1])
		if err != nil {
			return nil, fmt.Errorf("schema %d: %w", n+1, err)
		}
		rows = append(rows, one)
	}
	return rows, nil
}

var endOfStatement = regexp.MustCompile(`;[ \t]*(--.*)?\n`)

func upgrade(ctx context.Context, server *localdb.Server, name string, files []string) (row, error) {
	dsn, err := server.DSN(name)
	if err != nil {
		return row{}, err
	}
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		return row{}, err
	}
	defer db.Close()
	run := func(q string, args ...any) {
		if err == nil {
			if _, err = db.ExecContext(ctx, q, args...); err != nil {
				err = fmt.Errorf("%s: %w", q, err)
			}
		}
	}
	run("DROP DATABASE " + name)
	run("CREATE DATABASE " + name + " CHARACTER SET utf8mb4 COLLATE utf8mb4_bin")
	run("USE " + name)
	db.SetMaxOpenConns(1) // of which the database was chosen
	run("CREATE TABLE goose_db_version (id SERIAL PRIMARY KEY, version_id BIGINT NOT NULL, is_applied BOOLEAN NOT " +
		"NULL, tstamp TIMESTAMP NULL DEFAULT NOW())")
	run("INSERT INTO goose_db_version (version_id, is_applied) VALUES (0, TRUE)")
	for i, file := range files {
		raw, e := os.ReadFile(file)
		if e != nil {
			return row{}, e
		}
		up, _, _ := strings.Cut(string(raw), "-- +goose Down")
		for _, q := range endOfStatement.Split(up, -1) {
			if strings.TrimSpace(q) != "" {
				run(q)
			}
		}
		run("INSERT INTO goose_db_version (version_id, is_applied) VALUES (?, TRUE)", i+1)
	}
	if err != nil {
		return row{}, err
	}
	before, err := copyRows(ctx, db, name)
	if err != nil {
		return row{}, err
	}
	fmt.Fprintf(os.Stderr, "  %s has a year's rows; it is brought up to date\n", name)
	begun, kills := time.Now(), 0
	for done := false; !done; {
		if done, err = migrateAndKill(ctx, dsn, min(kills+1, 2)); err != nil {
			return row{}, err
		}
		if !done {
			kills++
			// The next one would wait until the lease of the killed one runs out.
			if _, err := db.ExecContext(ctx, "UPDATE leases SET until = '2000-01-01'"); err != nil {
				return row{}, err
			}
		}
	}
	took := time.Since(begun)
	after, err := counted(ctx, db)
	if err != nil {
		return row{}, err
	}
	lost := 0
	for table, n := range before {
		if table != "counts" && table != "goose_db_version" && after[table] < n {
			lost++
		}
	}
	want, err1 := shapeOf(ctx, db, "greenlever")
	got, err2 := shapeOf(ctx, db, name)
	if err := errors.Join(err1, err2); err != nil {
		return row{}, err
	}
	if !slices.Equal(want, got) {
		return row{}, errors.New("the schema is another one than that of a fresh database")
	}
	_, err = db.ExecContext(ctx, "DROP DATABASE "+name)
	return row{what: fmt.Sprintf("a year's rows, from released schema %d", len(files)),
		ours: took.Round(time.Second).String(), floor: "0 lost", ratio: float64(lost),
		note: fmt.Sprintf("killed in each of %d steps; schema as a fresh one; %d rows of the audit", kills,
			after["audit"])}, err
}

// copyRows copies the year's rows into the tables that are there, by the columns that both have,
// and counts them.
func copyRows(ctx context.Context, db *sql.DB, name string) (map[string]int, error) {
	tables, err := counted(ctx, db)
	if err != nil {
		return nil, err
	}
	for table := range tables {
		if table == "goose_db_version" {
			continue
		}
		var columns sql.NullString
		if err := db.QueryRowContext(ctx, "SELECT GROUP_CONCAT(CONCAT('`', a.column_name, '`')) "+
			"FROM information_schema.columns a JOIN information_schema.columns b ON b.table_schema = 'greenlever' "+
			"AND b.table_name = a.table_name AND b.column_name = a.column_name "+
			"WHERE a.table_schema = ? AND a.table_name = ?", name, table).Scan(&columns); err != nil {
			return nil, err
		}
		q := fmt.Sprintf("INSERT IGNORE INTO %s (%s) SELECT %[2]s FROM greenlever.%[1]s", table, columns.String)
		if !columns.Valid { // counts, of the first release
			q = "INSERT IGNORE INTO counts (environment_id, minute, flag, variant, count) SELECT u.environment_id, " +
				"u.minute, k.flag, k.variant, u.count FROM greenlever.uses u FORCE INDEX (PRIMARY) STRAIGHT_JOIN " +
				"greenlever.use_kinds k ON k.environment_id = u.environment_id AND k.kind = u.kind WHERE u.span = 1"
		}
		for _, q := range []string{"SET foreign_key_checks = 0", "DELETE FROM " + table, q} {
			if _, err := db.ExecContext(ctx, q); err != nil {
				return nil, fmt.Errorf("%s: %w", q, err)
			}
		}
	}
	return counted(ctx, db)
}

// counted counts the rows of all tables.
func counted(ctx context.Context, db *sql.DB) (map[string]int, error) {
	names, err := texts(ctx, db, "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()")
	out := map[string]int{}
	for _, name := range names {
		var n int
		if err := db.QueryRowContext(ctx, "SELECT COUNT(*) FROM "+name).Scan(&n); err != nil {
			return nil, err
		}
		out[name] = n
	}
	return out, err
}

func shapeOf(ctx context.Context, db *sql.DB, database string) ([]string, error) {
	columns, err1 := texts(ctx, db, "SELECT CONCAT_WS(' ', table_name, column_name, column_type, is_nullable, "+
		"column_default) FROM information_schema.columns WHERE table_schema = ? ORDER BY 1", database)
	keys, err2 := texts(ctx, db, "SELECT CONCAT_WS(' ', table_name, index_name, seq_in_index, column_name, "+
		"non_unique) FROM information_schema.statistics WHERE table_schema = ? ORDER BY 1", database)
	return append(columns, keys...), errors.Join(err1, err2)
}

func texts(ctx context.Context, db *sql.DB, q string, args ...any) (all []string, err error) {
	rows, err := db.QueryContext(ctx, q, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var one string
		if err := rows.Scan(&one); err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, rows.Err()
}

// migrateAndKill brings a database up to date in a process of its own, and kills that while it is
// at a step, counted from 1: at the first one once, and then always at the second, so that the one
// that was interrupted before is finished. done tells that there was no such step.
func migrateAndKill(ctx context.Context, dsn string, at int) (done bool, err error) {
	program, err := os.Executable()
	if err != nil {
		return false, err
	}
	child := exec.CommandContext(ctx, program)
	child.Env, child.Stderr = append(os.Environ(), migrates+"="+dsn), os.Stderr
	said, err := child.StdoutPipe()
	if err != nil {
		return false, err
	}
	if err := child.Start(); err != nil {
		return false, err
	}
	begun := 0
	for lines := bufio.NewScanner(said); lines.Scan(); {
		if !strings.Contains(lines.Text(), "step=") {
			continue
		}
		if begun++; begun == at {
			time.Sleep(5 * time.Millisecond) // so that its statement runs
			_ = child.Process.Kill()
			_ = child.Wait() // with the error of a killed process
			return false, nil
		}
	}
	return true, child.Wait()
}
