package greenlever

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"greenlever.example/core/flag"
)

// memory is a log in memory.
type memory struct {
	mu sync.Mutex
	b  strings.Builder
}

func (m *memory) Write(p []byte) (int, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.b.Write(p)
}

func (m *memory) count(what string) int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return strings.Count(m.b.String(), what)
}

func (m *memory) to(o *Options) { o.Logger = slog.New(slog.NewTextHandler(m, nil)) }

// A resolver that panics is an attribute that is not known, said once, and ends nothing.
func TestResolversThatPanic(t *testing.T) {
	s := newService(t, ruleset(1, 1, crews, boolean("plain", "on")))
	var log memory
	c := s.open(t, log.to, func(o *Options) {
		o.Resolvers = []Resolver{{Name: Named("crew_size"), Find: func(context.Context, Context) (Attribute,
			error) {
			panic("no crew at all")
		}}}
	})
	for range 3 {
		scope := c.Scope(context.Background(), Unit("site-1"))
		if a := scope.Answer("night-batching"); a.Variant != "off" || a.Reason != "DEFAULT" {
			t.Errorf("%+v", a)
		}
		if !scope.Bool("plain", false) {
			t.Error("another flag suffers")
		}
	}
	if n := log.count("panicked and goes on"); n != 1 {
		t.Errorf("said %d times", n)
	}
}

// A list that the service no longer has holds back its own segment and nothing else.
func TestListsThatAreNotThere(t *testing.T) {
	var secret [16]byte
	list := flag.HashUnits(secret, []string{"recipient-1", "recipient-2"})
	s := newService(t, segmented(list.Digest(), len(list), secret))
	c := s.open(t)
	if c.Bool(context.Background(), "f", Unit("recipient-1"), true) {
		t.Error("a list that is not there lets somebody in")
	}
	if st := c.State(); st.Source != FromService {
		t.Errorf("%+v", st)
	}
	s.send("event: revision\ndata: {\"format\":1,\"epoch\":1,\"revision\":2,\"at\":0,\"flags\":[" + boolean("g",
		"on") + "]}\n\n")
	until(t, c, "the next revision", revision(2))
	if !c.Bool(context.Background(), "g", Unit("recipient-1"), false) {
		t.Error("another flag suffers")
	}
}

// A list on the disk of which a bit has turned is not decided by: it is fetched again, and
// while that cannot be done it lets nobody in.
func TestDamagedListsAreNoticed(t *testing.T) {
	var secret [16]byte
	keys := make([]string, 2_000)
	for i := range keys {
		keys[i] = fmt.Sprint("recipient-", i)
	}
	list := flag.HashUnits(secret, keys)
	s := newService(t, segmented(list.Digest(), len(list), secret))
	s.lists = map[string][]byte{list.Digest(): list.Bytes()}
	dir := t.TempDir()
	c := s.open(t, func(o *Options) { o.Dir = dir })
	if err := c.Close(); err != nil {
		t.Fatal(err)
	}
	damaged := 0
	if err := filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.Contains(path, list.Digest()) {
			return err
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		raw[len(raw)/2] ^= 4
		damaged++
		return os.WriteFile(path, raw, 0o600)
	}); err != nil || damaged != 1 {
		t.Fatalf("%d files damaged, %v", damaged, err)
	}
	fetched := s.open(t, func(o *Options) { o.Dir = dir })
	until(t, fetched, "the list from the service", func(State) bool {
		return fetched.Bool(context.Background(), "f", Unit("recipient-0"), false)
	})
	for _, unit := range []string{"recipient-0", "recipient-999", "recipient-1999"} {
		if !fetched.Bool(context.Background(), "f", Unit(unit), false) {
			t.Errorf("%s is not in any more", unit)
		}
	}
	s.mu.Lock()
	asked := len(s.asked)
	s.mu.Unlock()
	if asked < 2 {
		t.Errorf("the list was fetched %d times", asked)
	}
}

// A client that has what the service does not know says so until the service does.
func TestStranded(t *testing.T) {
	s := newService(t, ruleset(1, 5, boolean("f", "on")))
	c := s.open(t)
	beat := func(other bool) {
		s.send(fmt.Sprintf("event: beat\ndata: {\"now\":1,\"epoch\":1,\"revision\":5,\"otherHistory\":%v}\n\n", other))
	}
	beat(true)
	until(t, c, "it is stranded", func(s State) bool {
		return s.Stranded && strings.Contains(s.LastError, "restored from a backup")
	})
	if !c.Bool(context.Background(), "f", Unit("x"), false) {
		t.Error("it does not decide on")
	}
	beat(false)
	until(t, c, "it is at home again", func(s State) bool { return !s.Stranded && s.LastError == "" })
}
