package guard

import (
	"context"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"time"
)

// lines is a log in memory.
type lines struct {
	mu sync.Mutex
	b  strings.Builder
}

func (l *lines) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lines) count(what string) int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return strings.Count(l.b.String(), what)
}

func TestPanicsAreCaught(t *testing.T) {
	var l lines
	log := slog.New(slog.NewTextHandler(&l, nil))
	before := Panics()
	<-Go(log, "count to three", func() { panic("no three") })
	<-Go(log, "count to three", func() { panic("no three") })
	if Panics() != before+2 || l.count("no three") == 0 || l.count("msg=") != 1 {
		t.Errorf("%d panics, log: %s", Panics()-before, l.b.String())
	}
	if Do(log, "count", func() { panic("x") }) || !Do(log, "count", func() {}) {
		t.Error("Do does not tell how it ended")
	}
}

// A loop that panics is begun again; one that returns is not.
func TestKeep(t *testing.T) {
	var l lines
	runs := 0
	<-Keep(context.Background(), slog.New(slog.NewTextHandler(&l, nil)), "turn", func(context.Context) {
		if runs++; runs < 3 {
			panic("slipped")
		}
	})
	if runs != 3 || l.count("slipped") == 0 || l.count("msg=") != 1 {
		t.Errorf("%d runs, log: %s", runs, l.b.String())
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := Keep(ctx, slog.New(slog.NewTextHandler(&l, nil)), "fall", func(context.Context) {
		cancel()
		panic("fell")
	})
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		t.Error("goes on after its context's end")
	}
}
