package main

import (
	"context"
	"database/sql"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

var (
	literal = regexp.MustCompile(`'(?:[^'\\]|\\.|'')*'|\b\d+\b`)
	many    = regexp.MustCompile(`(?:\?\s*,\s*)+\?`)
	tuples  = regexp.MustCompile(`(?:\(\?\)\s*,\s*)+\(\?\)`)
)

// shape is a statement without its values.
func shape(q string) string {
	q = literal.ReplaceAllString(q, "?")
	q = many.ReplaceAllString(q, "?")
	return tuples.ReplaceAllString(q, "(?)")
}

// scanned is how many rows a query may go through without an index.
const scanned = 1_000

// explain has MariaDB explain one of each shape of the statements in its log, and names those
// that go through many rows of a table without an index.
func explain(ctx context.Context, db *sql.DB) ([]row, error) {
	rows, err := db.QueryContext(ctx, "SELECT argument FROM mysql.general_log "+
		"WHERE command_type IN ('Query', 'Execute')")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	examples := map[string]string{}
	for rows.Next() {
		var q string
		if err := rows.Scan(&q); err != nil {
			return nil, err
		}
		for q := range strings.SplitSeq(q, ";\n") { // messages with several
			word, _, _ := strings.Cut(strings.TrimSpace(q), " ")
			if slices.Contains([]string{"SELECT", "UPDATE", "DELETE", "INSERT"}, word) && !strings.Contains(q,
				"mysql.general_log") && !strings.Contains(q, "information_schema") {
				examples[shape(q)] = q
			}
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	var bad []string
	for s, q := range examples {
		found, err := plan(ctx, db, q)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", s, err)
		}
		for _, f := range found {
			bad = append(bad, f+": "+s)
		}
	}
	slices.Sort(bad)
	out := []row{{what: fmt.Sprintf("queries on it, each explained: %d", len(examples)),
		ours: fmt.Sprintf("%d without an index", len(bad)), floor: "0", ratio: float64(len(bad)),
		note: fmt.Sprintf("over %d rows", scanned)}}
	for _, b := range bad {
		out = append(out, row{what: "  " + b[:min(len(b), 300)]})
	}
	return out, nil
}

// plan names the tables that a statement goes through without an index.
func plan(ctx context.Context, db *sql.DB, q string) (bad []string, err error) {
	rows, err := db.QueryContext(ctx, "EXPLAIN EXTENDED "+q)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var id, n sql.NullInt64
		var filtered sql.NullFloat64
		var selectType, table, kind, possible, key, length, ref, extra sql.NullString
		if err := rows.Scan(&id, &selectType, &table, &kind, &possible, &key, &length, &ref, &n, &filtered,
			&extra); err != nil {
			return nil, err
		}
		// Where all rows of a table are wanted, an index would only be a detour.
		all := possible.Valid && filtered.Float64 >= 99
		if (kind.String == "ALL" || kind.String == "index") && n.Int64 > scanned && !all &&
			!strings.HasPrefix(table.String, "<") {
			bad = append(bad, fmt.Sprintf("%s %s %d rows", table.String, kind.String, n.Int64))
		}
	}
	return bad, rows.Err()
}
