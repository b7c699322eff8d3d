package accept

import (
	"context"
	"path/filepath"
	"strings"
	"testing"

	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/localdb"
)

// Without the records the service goes on deciding and feeding, says that it takes no
// changes, answers those that are asked for with a clear error, and recovers by itself.
func TestWithoutTheRecords(t *testing.T) {
	db, err := localdb.Start(context.Background(), filepath.Join(t.TempDir(), "db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Stop()
	s := &gltest.Service{Keys: map[string]string{}, Browse: map[string]string{}}
	if s.DSN, err = db.DSN("outage"); err != nil {
		t.Fatal(err)
	}
	s.Server = s.Serve(t)
	gltest.Caller{URL: s.URL()}.Do(t, "POST", "/set-up", object{"code": s.SetUpCode, "email": gltest.KeeperEmail,
		"name": "Ida Holm", "password": gltest.Password}, 201, nil)
	s.Keeper = s.Token(t, gltest.KeeperEmail)
	s.Keeper.Do(t, "POST", "/projects", object{"key": "pinecrest"}, 201, nil)
	s.Environment(t, "production", false)
	s.Flag(t, "a")
	saved := s.Edit(t, "production", "a", turnOn)
	c := open(t, s, "production")
	until(t, c, "the edit", at(saved.Revision))
	if err := db.Kill(); err != nil {
		t.Fatal(err)
	}
	remote := gltest.Caller{URL: s.URL()}.With("Authorization", "Bearer "+s.Keys["production"])
	remote.Do(t, "POST", "/ofrep/v1/evaluate/flags/a", `{}`, 200, nil)
	remote.Do(t, "GET", "/follow/v1/snapshot", nil, 200, nil)
	s.Keeper.Do(t, "GET", "/readyz", nil, 200, nil)
	s.Keeper.Do(t, "GET", "/readyz?for=changes", nil, 503, nil)
	status, answer, header, err := s.Keeper.Send("POST", inProd+"/stops", []byte(`{"flags":["a"]}`))
	if err != nil || status != 503 || !strings.Contains(string(answer), "same Idempotency-Key") ||
		header.Get("Retry-After") == "" {
		t.Errorf("a stop without records: %d %s %v", status, answer, err)
	}
	if err := db.Again(context.Background()); err != nil {
		t.Fatal(err)
	}
	var stop struct{ Revision int64 }
	gltest.Eventually(t, "changes again", func() bool {
		status, _, _, err := s.Keeper.Send("GET", "/readyz?for=changes", nil)
		return err == nil && status == 200
	})
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"a"}}, 201, &stop)
	until(t, c, "the stop", at(stop.Revision))
}
