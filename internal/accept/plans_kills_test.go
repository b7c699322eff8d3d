package accept

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/gltest"
)

// A plan that a process is killed at is made whole or not at all, and can be made then once; of two nodes that are
// asked for the same at once one makes it.
func TestPlansUnderKills(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	var keys []string
	for i := range 12 {
		keys = append(keys, fmt.Sprintf("door-%d", i))
	}
	flagsOn(t, s, keys...)
	planned := func(variant string) object {
		var changes []object
		for _, key := range keys {
			f := s.Get(t, "production", key)
			d := *f.Document
			d.End = flag.Gives{Variant: variant}
			changes = append(changes, put(key, "production", f.Version, &d))
		}
		return object{"reason": "all at once", "changes": changes}
	}
	variants := [2]string{"off", "on"}
	stands := func(round int) int64 { // the version that all have
		t.Helper()
		first := s.Get(t, "production", keys[0])
		for _, key := range keys[1:] {
			if f := s.Get(t, "production", key); f.Version != first.Version || f.Document.End != first.Document.End {
				t.Fatalf("round %d: %s is at version %d, %s at %d", round, key, f.Version, keys[0], first.Version)
			}
		}
		return first.Version
	}
	dir, made, nothing := t.TempDir(), 0, 0
	node := func() *child {
		c := &child{at: freeAddress(t)}
		c.args = []string{"serve", "--listen", c.at, "--admin", "127.0.0.1:0", "--dsn", s.DSN, "--dir", dir}
		c.start(t)
		c.up(t)
		return c
	}
	ask := func(at string, plan object, answered chan<- int) {
		raw, _ := json.Marshal(plan) // plain values
		status, _, _, _ := gltest.Caller{URL: at, Header: s.Keeper.Header}.Send("POST", atPine+"/changes", raw)
		answered <- status
	}
	version := stands(-1)
	for round := range 6 {
		plan, c, answered := planned(variants[round%2]), node(), make(chan int, 1)
		go ask("http://"+c.at, plan, answered)
		time.Sleep(time.Duration(round*25) * time.Millisecond) // the moment is what is tried
		c.kill()
		<-answered
		moved := stands(round) - version
		switch moved {
		case 0:
			nothing++
			s.Keeper.Do(t, "POST", atPine+"/changes", plan, 200, nil)
		case 1:
			made++
			s.Keeper.Do(t, "POST", atPine+"/changes", plan, 412, nil)
		}
		if version++; stands(round) != version {
			t.Fatalf("round %d: moved by %d and stands at %d, not %d", round, moved, stands(round), version)
		}
	}
	t.Logf("killed before %d and after %d", nothing, made)
	second := node()
	defer second.kill()
	for round := range 6 {
		plan, answered := planned(variants[round%2]), make(chan int, 2)
		go ask(s.Keeper.URL, plan, answered)
		go ask("http://"+second.at, plan, answered)
		a, b := <-answered, <-answered
		if min(a, b) != 200 || max(a, b) != 412 {
			t.Fatalf("round %d: two nodes answered %d and %d", round, a, b)
		}
		if version++; stands(round) != version {
			t.Fatalf("round %d: version %d after two nodes, not %d", round, stands(round), version)
		}
	}
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
}
