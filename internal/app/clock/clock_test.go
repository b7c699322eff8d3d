package clock

import (
	"context"
	"errors"
	"testing"
	"time"
)

// The shared time is the database's, whatever this machine's says, and a jump of it is noticed.
func TestClock(t *testing.T) {
	at := time.Now().Add(-time.Hour)
	var fails error
	c := New(func(context.Context) (int64, error) { return at.UnixMilli(), fails })
	if d := time.Since(c.Now()).Abs(); d > time.Minute {
		t.Errorf("before it is set, %v away from this machine's", d)
	}
	sync := func() {
		t.Helper()
		if err := c.Sync(context.Background()); err != nil {
			t.Fatal(err)
		}
	}
	sync()
	if d := c.Now().Sub(at); d < -time.Second || d > 10*time.Second {
		t.Errorf("%v away from the database's", d)
	}
	if !c.Settled(time.Minute) {
		t.Error("the first reading is no jump")
	}
	sync()
	if !c.Settled(time.Minute) {
		t.Error("a reading as expected is no jump")
	}
	at = at.Add(time.Hour)
	sync()
	if c.Settled(time.Minute) || !c.Settled(0) {
		t.Error("an hour ahead is a jump, and over after a while")
	}
	if d := c.Now().Sub(at); d < -time.Second || d > 10*time.Second {
		t.Errorf("after the jump %v away from the database's", d)
	}
	fails = errors.New("away")
	if err := c.Sync(context.Background()); !errors.Is(err, fails) {
		t.Errorf("%v", err)
	}
	if d := c.Now().Sub(at); d < -time.Second || d > 20*time.Second {
		t.Errorf("while the database is away, %v away from it", d)
	}
}
