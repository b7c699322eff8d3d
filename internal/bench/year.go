package main

import (
	"context"
	"crypto/ed25519"
	"database/sql"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/localdb"
	"greenlever.example/greenlever/internal/server"
	"greenlever.example/greenlever/internal/store"
	"greenlever.example/greenlever/internal/year"
)

// yearDir is where a year's database is kept between runs; it is made once.
var yearDir = filepath.Join("bin", "year")

const (
	pageBar    = 300 * time.Millisecond
	portionBar = 5 * time.Second
	slowest    = 12 // that are shown by name
)

// made says what a directory holds.
type made struct {
	Size  year.Size `json:"size"`
	Until time.Time `json:"until"`
}

// benchYear asks every route and runs every job on a year's database, and has MariaDB explain
// each of their queries.
func benchYear(ctx context.Context, _ int) ([]row, error) {
	s, size, err := yearService(ctx)
	if err != nil {
		return nil, err
	}
	defer func() { _ = s.Stop() }() // its records stay
	dsn, err := s.Database().DSN("greenlever")
	if err != nil {
		return nil, err
	}
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	rows, err := kept(ctx, db, size)
	if err != nil {
		return nil, err
	}
	for _, q := range []string{"SET GLOBAL log_output = 'TABLE'", "TRUNCATE mysql.general_log",
		"SET GLOBAL general_log = ON"} {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return nil, fmt.Errorf("%s: %w", q, err)
		}
	}
	pages, err := s.askAll(ctx)
	if err != nil {
		return nil, err
	}
	rows = append(rows, slow("requests on a year's database", pages, pageBar)...)
	jobs, err := s.jobs(ctx, dsn)
	if err != nil {
		return nil, err
	}
	rows = append(rows, slow("jobs on a year's database", jobs, portionBar)...)
	if _, err := db.ExecContext(ctx, "SET GLOBAL general_log = OFF"); err != nil {
		return nil, err
	}
	plans, err := explain(ctx, db)
	return append(rows, plans...), err
}

// yearService starts a service on a year's database, which it makes the first time.
func yearService(ctx context.Context) (*service, year.Size, error) {
	size := year.Busy()
	s := &service{dir: yearDir}
	var have made
	note := filepath.Join(yearDir, "made.json")
	if raw, err := os.ReadFile(note); err == nil {
		_ = json.Unmarshal(raw, &have) // what cannot be read is made anew
	}
	if have.Size != size {
		if err := errors.Join(os.RemoveAll(yearDir), os.MkdirAll(yearDir, 0o700)); err != nil {
			return nil, size, err
		}
		have = made{size, time.Now().UTC()}
		if err := s.makeYear(ctx, have); err != nil {
			return nil, size, err
		}
		raw, err := json.Marshal(have)
		if err != nil {
			return nil, size, err
		}
		if err := os.WriteFile(note, raw, 0o600); err != nil {
			return nil, size, err
		}
	}
	var err error
	if s.Server, err = server.Start(ctx, server.Config{Listen: "127.0.0.1:0", Dir: yearDir, Log: quiet}); err != nil {
		return nil, size, err
	}
	s.at = s.URL()
	if err := s.signIn(ctx); err != nil {
		return nil, size, errors.Join(err, s.Stop())
	}
	return s, size, nil
}

func (s *service) makeYear(ctx context.Context, m made) error {
	begin := m.Until.AddDate(0, 0, -m.Size.Days-1)
	var err error
	if s.Server, err = server.Start(ctx, server.Config{Listen: "127.0.0.1:0", Dir: s.dir, Log: quiet,
		Now: func() time.Time { return begin }}); err != nil {
		return err
	}
	s.at = s.URL()
	account, err := s.account(ctx, s.SetUpCode)
	if err = errors.Join(err, s.Stop()); err != nil {
		return err
	}
	db, err := localdb.Start(ctx, filepath.Join(s.dir, "mariadb"))
	if err != nil {
		return err
	}
	defer func() { _ = db.Stop() }()
	dsn, err := db.DSN("greenlever")
	if err != nil {
		return err
	}
	st, err := store.New(dsn, quiet)
	if err != nil {
		return err
	}
	defer st.Close()
	raw, err := os.ReadFile(filepath.Join(s.dir, "audit.key"))
	if err != nil {
		return err
	}
	block, _ := pem.Decode(raw)
	key := ed25519.NewKeyFromSeed(block.Bytes)
	begun, said := time.Now(), time.Now()
	p := &year.Past{Store: st, Size: m.Size, Until: m.Until, Keeper: account,
		Sign: func(ctx context.Context, at time.Time) error {
			heads, err := st.UnsignedHeads(ctx)
			for _, h := range heads {
				err = errors.Join(err, st.AddSignedHead(ctx, audit.Sign(h, at.UnixMilli(), key)))
			}
			return err
		},
		Said: func(what string, done, of int) {
			if time.Since(said) > 5*time.Second || done == of {
				said = time.Now()
				fmt.Fprintf(os.Stderr, "  making a year: %s, %d of %d, %s\n", what, done, of,
					time.Since(begun).Round(time.Second))
			}
		}}
	return p.Make(ctx)
}

// timed is how long something took, at worst.
type timed struct {
	what string
	took time.Duration
}

// slow shows what took longest, and how many went over the bar.
func slow(what string, all []timed, bar time.Duration) (rows []row) {
	slices.SortFunc(all, func(a, b timed) int { return int(b.took - a.took) })
	over := 0
	for _, t := range all {
		if t.took > bar {
			over++
		}
	}
	rows = append(rows, row{what: fmt.Sprintf("%s: %d", what, len(all)), ours: short(float64(all[0].took)),
		floor: bar.String(), ratio: float64(all[0].took) / float64(bar), atMost: 1,
		note: fmt.Sprintf("the slowest; %d over the bar", over)})
	for _, t := range all[:min(slowest, len(all))] {
		rows = append(rows, row{what: "  " + t.what, ours: short(float64(t.took))})
	}
	return rows
}

var inBraces = regexp.MustCompile(`\{([a-z]+)\}`)

// askAll asks every route that reads, and tries every change that most people make: each five
// times, of which the median counts.
func (s *service) askAll(ctx context.Context) (all []timed, err error) {
	var document struct {
		Paths map[string]map[string]json.RawMessage
	}
	if err := s.call("GET", "/openapi.json", 0, nil, &document); err != nil {
		return nil, err
	}
	var me struct{ Account struct{ ID string } }
	if err := s.call("GET", "/me", 0, nil, &me); err != nil {
		return nil, err
	}
	const env = "/projects/pinecrest/environments/production"
	values := map[string]string{"project": "pinecrest", "environment": "production", "flag": "lever-0007",
		"segment": "round-1", "account": me.Account.ID, "list": "in"}
	var v struct {
		Document flag.Document
		Version  int64
		Revision int64
	}
	if err := s.call("GET", env+"/flags/lever-0007", 0, nil, &v); err != nil {
		return nil, err
	}
	v.Document.Lever, v.Document.End = flag.On, flag.Gives{Shares: &flag.Shares{By: []string{"targetingKey"},
		Parts: []flag.Part{{Variant: v.Document.VariantNames()[0], Share: 400_000},
			{Variant: v.Document.VariantNames()[1], Share: 600_000}}}}
	type ask struct {
		method, path string
		body         any
	}
	var asks []ask
	for path, methods := range document.Paths {
		if methods["get"] == nil || strings.HasSuffix(path, "/live") || strings.HasSuffix(path, "/verify") ||
			strings.HasSuffix(path, "/export") {
			continue // verification and export are jobs
		}
		path = strings.TrimPrefix(path, "/api/v1")
		known := true
		path = inBraces.ReplaceAllStringFunc(path, func(name string) string {
			known = known && values[strings.Trim(name, "{}")] != ""
			return values[strings.Trim(name, "{}")]
		})
		if !known {
			return nil, fmt.Errorf("nothing is known to put into %s", path)
		}
		asks = append(asks, ask{"GET", path, nil})
	}
	monthAgo := time.Now().AddDate(0, 0, -30).UTC().Format(time.RFC3339)
	const dry = "?dryRun=true"
	asks = append(asks, ask{"GET", env + "/usage?flag=lever-0007&span=90d", nil}, ask{"GET", env + "/usage?span=90d",
		nil},
		ask{"GET", "/projects/pinecrest/history?flag=lever-0007", nil},
		ask{"GET", "/projects/pinecrest/history?person=person-4", nil},
		ask{"GET", "/projects/pinecrest/history?environment=production&from=" + monthAgo, nil},
		ask{"GET", "/projects/pinecrest/history?flag=lever-1999&person=person-9&limit=200", nil},
		ask{"GET", "/projects/pinecrest/history?to=" + monthAgo, nil},
		ask{"POST", env + "/unit", object{"unit": "recipient-00001"}}, ask{"POST", env + "/population/units",
			object{"of": "targetingKey"}},
		ask{"POST", env + "/flags/lever-0007/why", object{"context": object{"targetingKey": "recipient-00001"}}},
		ask{"POST", env + "/flags/lever-0007/why", object{"context": object{"targetingKey": "recipient-00001"},
			"at": time.Now().AddDate(0, 0, -30).UnixMilli()}},
		ask{"PUT", env + "/flags/lever-0007" + dry, object{"document": v.Document, "reason": "tried"}},
		ask{"POST", env + "/stops" + dry, object{"flags": []string{"lever-0007"}, "reason": "tried"}},
		ask{"POST", "/projects/pinecrest/flags" + dry, object{"key": "new-lever", "goneBy": "stays",
			"reason": "tried"}},
		ask{"POST", "/projects/pinecrest/segments" + dry, object{"key": "crews", "reason": "tried"}},
		ask{"PUT", env + "/segments/round-1" + dry, object{"when": object{"test": "present", "attribute": "site.plan"},
			"reason": "tried"}},
		ask{"PATCH", "/projects/pinecrest/flags/lever-0007" + dry, object{"title": "Another", "reason": "tried"}})
	for _, a := range asks {
		var took []time.Duration
		for range 5 {
			version := int64(0)
			if a.method == "PUT" || a.method == "PATCH" {
				version = v.Version
				if !strings.Contains(a.path, env+"/flags/") {
					version = 1
				}
			}
			begun := time.Now()
			err := s.ask(ctx, a.method, a.path, version, a.body, nil)
			took = append(took, time.Since(begun))
			if err != nil {
				fmt.Fprintln(os.Stderr, " ", err)
				a.path += " FAILED"
				break
			}
		}
		all = append(all, timed{a.method + " " + a.path, percentile(took, 0.5)})
	}
	return all, nil
}

// jobs runs what goes on behind, and what goes in portions: of those the longest portion counts.
func (s *service) jobs(ctx context.Context, dsn string) (all []timed, err error) {
	st, err := store.New(dsn, quiet)
	if err != nil {
		return nil, err
	}
	defer st.Close()
	envs, epoch, err := st.AllEnvironments(ctx)
	if err != nil {
		return nil, err
	}
	first := envs[0]
	ids := make([]int64, len(envs))
	for i := range envs {
		ids[i] = envs[i].ID
	}
	now := time.Now().UnixMilli()
	for _, job := range []struct {
		what string
		do   func() error
	}{
		{"find the environments that are followed", func() error {
			_, err := st.Followed(ctx, now-86_400_000)
			return err
		}},
		{"look at the heads of all environments", func() error { _, err := st.Heads(ctx, ids); return err }},
		{"read an environment", func() error { _, _, err := st.Ruleset(ctx, first.ID); return err }},
		{"read an environment as it was half a year ago", func() error {
			_, err := st.RulesetAt(ctx, first.ID, first.Revision/2)
			return err
		}},
		{"read 500 revisions", func() error {
			_, err := st.Revisions(ctx, first.ID, first.Revision-500, "", 500)
			return err
		}},
		{"find a revision by time", func() error {
			_, err := st.RevisionAt(ctx, first.ID, now-90*86_400_000)
			return err
		}},
		{"deliveries that are not recorded", func() error {
			_, err := st.DeliveredUpTo(ctx, first.ID, epoch)
			return err
		}},
		{"write counts", func() error { return s.WriteUsage(ctx) }},
		{"keep the sample of units", func() error { return s.Flush(ctx) }},
		{"take personal attributes out of units", func() error { return s.Clean(ctx) }},
		{"heads that are not signed", func() error { _, err := st.UnsignedHeads(ctx); return err }},
		{"gather old counts", func() error { return st.ThinUses(ctx, now) }},
		{"forget what is kept no longer", func() error { return st.Forget(ctx, now, nil) }},
		{"a change through the API", func() error {
			e, err := s.edit("lever-0003")
			if err != nil {
				return err
			}
			return e.because("bench")
		}},
		{"a stop and its lift", func() error {
			var stop struct{ Stop string }
			const in = "/projects/pinecrest/environments/production"
			if err := s.call("POST", in+"/stops", 0, map[string]any{"flags": []string{"lever-0004"},
				"reason": "bench"}, &stop); err != nil {
				return err
			}
			return s.call("POST", in+"/lifts", 0, map[string]any{"stops": []string{stop.Stop}, "reason": "bench"}, nil)
		}},
	} {
		begun := time.Now()
		if err := job.do(); err != nil {
			return nil, fmt.Errorf("%s: %w", job.what, err)
		}
		all = append(all, timed{job.what, time.Since(begun)})
	}
	for _, path := range []string{"/verify", "/projects/pinecrest/verify"} {
		portions, longest, begun := 0, time.Duration(0), time.Now()
		for cursor := ""; ; portions++ {
			at := path
			if cursor != "" {
				at += "?cursor=" + cursor
			}
			var report audit.Report
			portion := time.Now()
			if err := s.call("GET", at, 0, nil, &report); err != nil {
				return nil, err
			}
			longest = max(longest, time.Since(portion))
			if cursor = report.Cursor; cursor == "" {
				if !report.Sound() {
					return nil, fmt.Errorf("%s: %+v", path, report.Findings[:min(5, len(report.Findings))])
				}
				break
			}
		}
		all = append(all, timed{fmt.Sprintf("verify %s, the longest of %d portions (%s in all)", path, portions+1,
			time.Since(begun).Round(time.Second)), longest})
	}
	return all, nil
}

// kept says how much is kept of each change.
func kept(ctx context.Context, db *sql.DB, size year.Size) ([]row, error) {
	rows, err := db.QueryContext(ctx, "SELECT table_name, table_rows, data_length + index_length "+
		"FROM information_schema.tables WHERE table_schema = DATABASE() ORDER BY 3 DESC")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	changes := float64(size.Days * size.PerDay)
	var total float64
	var largest []string
	for rows.Next() {
		var name string
		var n, bytes float64
		if err := rows.Scan(&name, &n, &bytes); err != nil {
			return nil, err
		}
		total += bytes
		if len(largest) < 5 {
			largest = append(largest, fmt.Sprintf("%s %.0f", name, bytes/changes))
		}
	}
	return []row{{what: "bytes kept a change, in a year's mean", ours: fmt.Sprintf("%.1f KB", total/changes/1000),
			floor: "12 KB", ratio: total / changes / 12_000, atMost: 1, note: "bytes: " + strings.Join(largest,
				", ")}},
		rows.Err()
}
