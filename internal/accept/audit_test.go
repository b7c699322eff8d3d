package accept

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"

	_ "github.com/go-sql-driver/mysql"

	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/gltest"
)

func verify(t *testing.T, s *gltest.Service) *audit.Report {
	t.Helper()
	var r audit.Report
	s.Keeper.Do(t, "GET", "/projects/pinecrest/verify", nil, 200, &r)
	return &r
}

// Whatever is altered in the rows of the audit by going round the service is found, by the
// service and offline from an export.
func TestAlteredRowsAreFound(t *testing.T) {
	s := gltest.Start(t)
	s.Flag(t, "one-touch-open")
	s.Edit(t, "production", "one-touch-open", turnOn)
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"one-touch-open"}}, 201, nil)
	if r := verify(t, s); !r.Sound() || r.Entries < 6 {
		t.Fatalf("%+v", r)
	}
	_, export, _, _ := s.Keeper.Send("GET", "/projects/pinecrest/export", nil) // signs the heads
	if r, err := audit.VerifyExport(strings.NewReader(string(export)), "", nil); err != nil || !r.Sound() || r.Signed != 3 {
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
	run("UPDATE audit_heads h SET sequence = sequence - 1, digest = (SELECT a.digest FROM audit a WHERE a.chain = h.chain ORDER BY a.sequence DESC LIMIT 1) WHERE chain LIKE 'environment:%' AND sequence = (SELECT MAX(k.sequence) FROM kept k WHERE k.action = 'flag.stopped')")
	if r := verify(t, s); r.Sound() || !strings.Contains(fmt.Sprint(r.Findings), "was signed") {
		t.Errorf("a tail cut with its head: %v", r.Findings)
	}
}

// Personal values can be erased; the chain stays sound and the rest stays readable.
func TestErasedPersonalValues(t *testing.T) {
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
			Difference []string
		}
	}
	s.Keeper.Do(t, "GET", "/history?limit=200", nil, 200, &page)
	if !strings.Contains(fmt.Sprint(page), "noor.berg@pinecrest.example") {
		t.Errorf("the history does not name the account: %+v", page)
	}
	var plain int
	if err := db.QueryRow("SELECT COUNT(*) FROM audit WHERE entry LIKE '%noor.berg%'").Scan(&plain); err != nil || plain != 0 {
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
	if strings.Contains(fmt.Sprint(page), "noor.berg@pinecrest.example") || !strings.Contains(fmt.Sprint(page), "account ⟨0⟩ of ⟨1⟩ made") {
		t.Errorf("after erasing: %+v", page)
	}
}
