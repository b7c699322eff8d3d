package accept

import (
	"database/sql"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/gltest"
)

func verify(t *testing.T, s *gltest.Service) *audit.Report {
	t.Helper()
	for cursor := ""; ; {
		var r audit.Report
		s.Keeper.Do(t, "GET", "/projects/pinecrest/verify?cursor="+cursor, nil, 200, &r)
		if cursor = r.Cursor; cursor == "" {
			return &r
		}
	}
}

// Whatever is altered in the rows of the audit by going round the service is found, by the
// service and offline from an export.
func TestAlteredRowsAreFound(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "one-touch-open")
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"one-touch-open"}}, 201, nil)
	if r := verify(t, s); !r.Sound() || r.Entries < 6 {
		t.Fatalf("%+v", r)
	}
	_, export, _, _ := s.Keeper.Send("GET", "/projects/pinecrest/export", nil) // signs the heads
	if r, err := audit.VerifyExport(strings.NewReader(string(export)), "", nil); err != nil || !r.Sound() ||
		r.Signed != 3 {
		t.Fatalf("export: %+v %v", r, err)
	}
	db, err := sql.Open("mysql", s.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	where := " WHERE chain LIKE 'environment:%' AND subject = 'one-touch-open' AND action = 'flag.changed'"
	run := func(q string) {
		t.Helper()
		res, err := db.Exec(q)
		if err != nil {
			t.Fatalf("%s: %v", q, err)
		}
		if n, _ := res.RowsAffected(); n == 0 {
			t.Fatalf("%s: nothing was altered", q)
		}
	}
	run("CREATE TABLE kept AS SELECT * FROM audit")
	back := func() {
		run("DELETE FROM audit")
		run("INSERT INTO audit SELECT * FROM kept")
	}
	for name, alter := range map[string]string{
		"one byte of the entry": "UPDATE audit SET entry = REPLACE(entry, 'off', 'oft')" + where,
		"the first byte":        "UPDATE audit SET entry = CONCAT(' ', SUBSTRING(entry, 2))" + where,
		"the digest":            "UPDATE audit SET digest = REVERSE(digest)" + where,
		"the time column":       "UPDATE audit SET at = at + 1" + where,
		"the subject column":    "UPDATE audit SET subject = 'weather-holds'" + where,
		"the actor column":      "UPDATE audit SET actor = 'somebody'" + where,
		"the action column":     "UPDATE audit SET action = 'flag.made'" + where,
		"the personal values":   "UPDATE audit SET personal = '[{}]'" + where,
		"a row taken out":       "DELETE FROM audit" + where,
		"the tail cut":          "DELETE FROM audit WHERE action = 'flag.stopped'",
	} {
		run(alter)
		if verify(t, s).Sound() {
			t.Errorf("%s: not found", name)
		}
		_, export, _, _ := s.Keeper.Send("GET", "/projects/pinecrest/export", nil)
		if r, err := audit.VerifyExport(strings.NewReader(string(export)), "", nil); err == nil && r.Sound() {
			switch name { // an export is made from the entries, not from the columns that repeat them
			case "the time column", "the subject column", "the actor column", "the action column":
			default:
				t.Errorf("%s: not found in the export", name)
			}
		}
		back()
		if r := verify(t, s); !r.Sound() {
			t.Fatalf("after %s was put back: %v", name, r.Findings)
		}
	}
	// Who also cuts the head back is found by the head that was signed.
	run("DELETE FROM audit WHERE action = 'flag.stopped'")
	run("UPDATE audit_heads h SET sequence = sequence - 1, digest = (SELECT a.digest FROM audit a " +
		"WHERE a.chain = h.chain ORDER BY a.sequence DESC LIMIT 1) WHERE chain LIKE 'environment:%' " +
		"AND sequence = (SELECT MAX(k.sequence) FROM kept k WHERE k.action = 'flag.stopped')")
	if r := verify(t, s); r.Sound() || !strings.Contains(fmt.Sprint(r.Findings), "was signed") {
		t.Errorf("a tail cut with its head: %v", r.Findings)
	}
}

// Personal values can be erased; the chain stays sound and the rest stays readable.
func TestErasedPersonalValues(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Person(t, "noor.berg", "developer")
	db, err := sql.Open("mysql", s.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var page struct {
		Items []struct {
			Action     string
			Difference []words.Said
		}
	}
	s.Keeper.Do(t, "GET", "/history?limit=200", nil, 200, &page)
	if !strings.Contains(fmt.Sprint(page), "noor.berg@pinecrest.example") {
		t.Errorf("the history does not name the account: %+v", page)
	}
	var plain int
	if err := db.QueryRow("SELECT COUNT(*) FROM audit WHERE entry LIKE '%noor.berg%'").Scan(&plain); err != nil ||
		plain != 0 {
		t.Errorf("%d entries of the chain name an address: %v", plain, err)
	}
	if _, err := db.Exec("UPDATE audit SET personal = 'null'"); err != nil {
		t.Fatal(err)
	}
	var r audit.Report
	s.Keeper.Do(t, "GET", "/verify", nil, 200, &r)
	if !r.Sound() {
		t.Errorf("%v", r.Findings)
	}
	s.Keeper.Do(t, "GET", "/history?limit=200", nil, 200, &page)
	if strings.Contains(fmt.Sprint(page), "noor.berg@pinecrest.example") || !strings.Contains(fmt.Sprint(page),
		"account ⟨0⟩ of ⟨1⟩ made") {
		t.Errorf("after erasing: %+v", page)
	}
}

// Each column of each table that the chain speaks of: whoever alters it by going round the
// service is found, and the finding names the table.
func TestAlteredRecordsAreFound(t *testing.T) {
	t.Parallel()
	var by atomic.Int64
	s := gltest.Start(t, shifted(&by))
	s.Flag(t, "one-touch-open")
	s.Keeper.Do(t, "POST", "/projects/pinecrest/segments", object{"key": "staff", "when": object{"test": "present",
		"attribute": "badge"}}, 201, nil)
	s.Edit(t, "production", "one-touch-open", turnOn)
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"one-touch-open"}}, 201, nil)
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/attributes/badge", attributeBody("badge", "string"), 200, nil)
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/test-units",
		object{"units": []object{{"unit": "recipient-1", "name": "Me", "attributes": object{"badge": "B-7"},
			"expected": object{"one-touch-open": "on"}}}}, 200, nil)
	s.Keeper.Do(t, "PUT", inProd+"/population", object{"days": 14}, 200, nil)
	s.Environment(t, "over", false)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/environments/over/archive", object{}, 200, nil)
	s.Flag(t, "night-batching")
	s.Edit(t, "production", "night-batching", func(d *flag.Document) { d.Lever = flag.On })
	// It waits, so that it takes no step of its own while its rows are altered.
	s.Keeper.Do(t, "POST", inProd+"/flags/night-batching/releases", object{"stages": []object{{"name": "8 %",
		"share": 80_000, "least": "1d"}}, "begin": time.Now().Add(24 * time.Hour).UnixMilli()}, 201, nil)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/ladders/in-a-day/remove", object{}, 200, nil)
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/metrics/door-open-ms", object{"metric": object{"title": "Door opens",
		"kind": "typical", "measure": "ms"}}, 200, nil)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/webhooks", object{"webhook": object{"title": "Tickets",
		"url": "https://tickets.pinecrest.example"}}, 201, nil)
	s.Flag(t, "spare")
	wire := wired(t, s, object{"title": "Spare", "flags": []string{"spare"}, "identity": "alert.id"})
	ring(t, s, wire.Secret, nil, `{"id":"a"}`, 200)
	s.Person(t, "noor.berg", "developer")
	noor := s.Account(t, "noor.berg@pinecrest.example")
	s.Keeper.Do(t, "PATCH", "/accounts/"+noor, object{"disabled": true}, 200, nil)
	s.Keeper.Do(t, "PUT", "/teams/doors", object{"members": []string{"noor.berg@pinecrest.example"}}, 200, nil)
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/teams/doors", object{"roles": []string{"auditor"}}, 200, nil)
	s.Keeper.Do(t, "POST", inProd+"/freezes", object{"freeze": object{"reason": "the fair", "from": time.Now().Add(
		90 * time.Hour).UnixMilli(), "to": time.Now().Add(99 * time.Hour).UnixMilli()}}, 201, nil)
	s.Keeper.Do(t, "PATCH", inProd, object{"ownersOnly": true, "reason": "first"}, 200, nil)
	s.Person(t, "per.lund", "developer") // has a token
	by.Store(int64(46 * time.Second))    // nobody was there for the first revisions
	c := open(t, s, "production", func(o *greenlever.Options) { o.Report = 50 * time.Millisecond })
	until(t, c, "the clocks are compared", func(st greenlever.State) bool { return st.Skew > 45*time.Second })
	until(t, c, "the edit", at(s.Edit(t, "production", "one-touch-open", func(d *flag.Document) {
		d.Lever = flag.Off
	}).Revision))
	db, err := sql.Open("mysql", s.DSN+"?multiStatements=true")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	const taken = " WHERE at > 0 AND JSON_VALUE(body, '$.expected') > 0"
	// Two of them: the newest is recorded again by the service itself where it is not found.
	for i, lever := range []flag.Lever{flag.On, flag.Off} {
		gltest.Eventually(t, "a delivery is recorded", func() bool {
			var n int
			return db.QueryRow("SELECT COUNT(*) FROM deliveries"+taken).Scan(&n) == nil && n > i
		})
		until(t, c, "one more edit", at(s.Edit(t, "production", "one-touch-open", func(d *flag.Document) {
			d.Lever = lever
		}).Revision))
	}
	gltest.Eventually(t, "the last delivery is recorded", func() bool { // not while rows are put back
		var n int
		return db.QueryRow("SELECT COUNT(*) FROM deliveries"+taken).Scan(&n) == nil && n > 2
	})
	if err := c.Close(); err != nil {
		t.Fatal(err)
	}
	savePolicy(t, s, app.Policy{Key: "say-why", Title: "Say why", Nouns: []string{"flag"}, When: "false",
		Outcome: app.Note, Mend: "say why"})
	s.Keeper.Do(t, "POST", "/projects/pinecrest/calendar/addresses", nil, 201, nil)
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/places", object{"repository": "lockers", "branch": "main", "commit": "4be1f0c",
		"at": 1_000_000_000_000, "places": []object{}, "unknown": []object{}}, 200, nil)
	s.Keeper.Do(t, "POST", inProd+"/branch", object{"key": "review-1", "for": 3_600_000, "reason": "x"}, 200, nil)
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/flags/one-touch-open/family", object{"family": "review", "variant": "on"}, 200, nil)
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/bundles/opening", object{"bundle": object{"flags": []string{
		"one-touch-open"}}}, 200, nil)
	var p struct{ ID string }
	s.Keeper.With("If-Match", "1").Do(t, "PATCH", "/projects/pinecrest/segments/staff?propose=new", object{"title": "Better"}, 202, &p)
	s.Keeper.With("If-Match", "1").Do(t, "PATCH", atProposals+"/"+p.ID, object{"at": time.Now().Add(24 * time.Hour).UnixMilli()}, 200, nil)
	others := " WHERE account_id <> (SELECT id FROM accounts WHERE email = '" + gltest.KeeperEmail + "')"
	where := map[string]string{
		"accounts": " WHERE email <> '" + gltest.KeeperEmail + "'",
		"tokens":   others, "roles": others,
		"environments": " WHERE environment_key = 'production'",
		"sampling":     " WHERE days = 14",
		"deliveries":   taken + " ORDER BY revision",
	}
	free := map[string]string{
		"environments.behind":        "says how far behind its followers the service is, and may change at any time",
		"installation.id":            "is 1 by a constraint",
		"installation.secret":        "would make every digest another one: all tables would be named",
		"installation.set_up_digest": "is taken away at the first start",
		"tripwires.refused":          "says when refused calls were told of last",
		"definitions.id":             "is a number that nothing refers to",
		"sampling.seed":              "is drawn at the first use: another one begins the sample anew",
		"sampling.see_as":            "is drawn at the first use: another one ends all overrides",
		"projects.id":                "leaves no project to verify: every route answers that it does not exist",
	}
	// Where the project's chains name what is looked for, that of access need not be read as well.
	findings := func(project, of string) string {
		var r, access audit.Report
		s.Keeper.Do(t, "GET", "/projects/"+project+"/verify", nil, 200, &r)
		if said := fmt.Sprint(r.Findings); of != "" && strings.Contains(said, of) {
			return said
		}
		s.Keeper.Do(t, "GET", "/verify", nil, 200, &access)
		return fmt.Sprint(r.Findings, access.Findings)
	}
	if f := findings("pinecrest", ""); f != "[] []" {
		t.Fatal(f)
	}
	altered := 0
	for _, table := range []string{"flags", "flag_versions", "segments", "segment_versions", "revisions", "stops",
		"deliveries", "sampling", "environments", "environment_states", "projects",
		"definitions", "segment_definitions", "attributes", "test_units", "accounts", "disabled_accounts", "tokens",
		"access_keys", "roles", "installation", "releases", "release_steps", "ladders", "webhooks", "metrics",
		"tripwires", "tripwire_alerts", "grants", "teams", "team_members", "environment_freezes", "environment_asks", "proposals", "policies", "bundles", "scans", "environment_lives", "family_gives", "calendar_addresses"} {
		rows, err := db.Query("SELECT column_name, data_type FROM information_schema.columns "+
			"WHERE table_schema = DATABASE() AND table_name = ?", table)
		if err != nil {
			t.Fatal(err)
		}
		columns := map[string]string{}
		for rows.Next() {
			var name, kind string
			if err := rows.Scan(&name, &kind); err != nil {
				t.Fatal(err)
			}
			columns[name] = kind
		}
		rows.Close()
		if len(columns) == 0 {
			t.Fatalf("no table %s", table)
		}
		alone := "SET FOREIGN_KEY_CHECKS = 0; "
		if _, err := db.Exec("CREATE TABLE kept_rows AS SELECT * FROM " + table); err != nil {
			t.Fatal(err)
		}
		for column, kind := range columns {
			name := table + "." + column
			if free[name] != "" {
				continue
			}
			value := "CONCAT(COALESCE(" + column + ", ''), 'x')"
			switch kind {
			case "tinyint":
				value = "1 - " + column
			case "bigint", "int":
				value = "COALESCE(" + column + ", 0) + 1000"
			case "varbinary":
				value = "UNHEX(REVERSE(HEX(" + column + ")))"
			case "char", "varchar":
				value = "CONCAT(LEFT(" + column + ", 9), 'x')"
			}
			if _, err := db.Exec(alone + "UPDATE " + table + " SET " + column + " = " + value + where[table] +
				" LIMIT 1"); err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			project := "pinecrest"
			if name == "projects.project_key" {
				project = "pinecrestx"
			}
			of := table
			if table == "disabled_accounts" {
				of = "accounts" // one record for both
			}
			if table == "team_members" {
				of = "teams" // here as well
			}
			found := findings(project, of)
			if !strings.Contains(found, of) {
				t.Errorf("%s: the verifier says %s", name, found)
			}
			altered++
			if _, err := db.Exec(alone + "DELETE FROM " + table + "; INSERT INTO " + table +
				" SELECT * FROM kept_rows"); err != nil {
				t.Fatalf("%s: %v", name, err)
			}
		}
		if f := findings("pinecrest", ""); f != "[] []" {
			t.Fatalf("after %s was put back: %s", table, f)
		}
		if _, err := db.Exec("DROP TABLE kept_rows"); err != nil {
			t.Fatal(err)
		}
	}
	if altered < 80 {
		t.Errorf("only %d columns were altered", altered)
	}
}
