package accept

import (
	"context"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/server"
)

// shifted gives a service a clock that the test can move.
func shifted(by *atomic.Int64) func(*server.Config) {
	return func(c *server.Config) {
		c.Beat = 50 * time.Millisecond
		c.Now = func() time.Time { return time.Now().Add(time.Duration(by.Load())) }
	}
}

// spread is what the service says of where a revision is.
type spread struct {
	Revision         int64
	Alive, Delivered int
	Lost             []struct{ ID, Application string }
	Newest           *struct {
		Revision                           int64
		Expected, Reached, Half, Most, All int
		Lost, Waiting                      []struct{ ID string }
	}
}

func (s *spread) read(t *testing.T, from *gltest.Service) *spread {
	t.Helper()
	*s = spread{}
	from.Keeper.Do(t, "GET", inProd+"/instances", nil, 200, s)
	return s
}

// Who has a change, who left, and who is lost, by name, until a person vouches for it.
func TestDelivery(t *testing.T) {
	var by atomic.Int64
	s := gltest.Start(t, shifted(&by))
	s.Flag(t, "a")
	often := func(o *greenlever.Options) { o.Report = 50 * time.Millisecond }
	one, two := open(t, s, "production", often), open(t, s, "production", often)
	leaves := open(t, s, "production", often)
	// A process that reports once and is never heard of again.
	bearer(s.URL(), s.Keys["production"]).Do(t, "POST", "/follow/v1/report", object{"instance": "f00dfeed",
		"sequence": 1, "application": "rounds", "version": "7", "epoch": 1, "revision": 1, "source": "service"}, 200,
		nil)
	var d spread
	gltest.Eventually(t, "all four are known", func() bool { return d.read(t, s).Alive == 4 })
	if err := leaves.Close(); err != nil {
		t.Fatal(err)
	}
	gltest.Eventually(t, "one left", func() bool { return d.read(t, s).Alive == 3 })
	saved := s.Edit(t, "production", "a", turnOn)
	until(t, one, "the edit", at(saved.Revision))
	until(t, two, "the edit", at(saved.Revision))
	gltest.Eventually(t, "two of three have it", func() bool {
		n := d.read(t, s).Newest
		return n != nil && n.Expected == 3 && n.Reached == 2 && n.Half >= 0 && n.All == -1 && len(n.Waiting) == 1 &&
			n.Waiting[0].ID == "f00dfeed"
	})
	status, raw, _, _ := s.Keeper.Send("POST", inProd+"/instances/f00dfeed/gone", []byte(`{"reason":"we think"}`))
	if status != 409 || !strings.Contains(string(raw), "not lost") {
		t.Errorf("a live one was vouched for: %d %s", status, raw)
	}
	by.Store(int64(46 * time.Second))
	gltest.Eventually(t, "the silent one is lost, by name, and the others are not", func() bool {
		d.read(t, s)
		return d.Alive == 2 && len(d.Lost) == 1 && d.Lost[0].ID == "f00dfeed" && d.Newest != nil &&
			len(d.Newest.Lost) == 1
	})
	by.Store(int64(3 * time.Hour))
	gltest.Eventually(t, "hours later it is still lost", func() bool {
		d.read(t, s)
		return d.Alive == 2 && len(d.Lost) == 1
	})
	var history struct {
		Items []struct {
			Action     string
			Difference []words.Said
			Reason     string
		}
	}
	said := func(action, text string) bool {
		s.Keeper.Do(t, "GET", "/projects/pinecrest/history?limit=100", nil, 200, &history)
		for _, e := range history.Items {
			if e.Action == action && strings.Contains(strings.Join(words.Texts(e.Difference), "\n"), text) {
				return true
			}
		}
		return false
	}
	gltest.Eventually(t, "the audit says who has it and who is lost", func() bool {
		return said("revision.delivered", fmt.Sprintf("revision %d: 2 of 3 instances", saved.Revision)) &&
			said("revision.delivered", "rounds 7 f00dfeed is lost with revision 1")
	})
	s.Keeper.Do(t, "POST", inProd+"/instances/f00dfeed/gone", object{"reason": "the machine was scrapped"}, 200, nil)
	if d.read(t, s); len(d.Lost) != 0 {
		t.Errorf("after somebody vouched for it: %+v", d)
	}
	if !said("instance.gone", "rounds 7 f00dfeed, silent with revision 1, decides no more") {
		t.Errorf("%+v", history)
	}
	// It comes back after all.
	bearer(s.URL(), s.Keys["production"]).Do(t, "POST", "/follow/v1/report", object{"instance": "f00dfeed",
		"sequence": 2, "application": "rounds", "version": "7", "epoch": 1, "revision": 1, "source": "disk"}, 200, nil)
	if d.read(t, s); d.Alive != 3 {
		t.Errorf("it is back: %+v", d)
	}
	again := s.Edit(t, "production", "a", func(d *flag.Document) { d.Lever = flag.Off })
	until(t, one, "one more edit", at(again.Revision))
}

// A window of time ends: services and browsers change on time, by the service's clock, and a
// process whose clock is 40 s off is corrected and named.
func TestWindowEndsOnTime(t *testing.T) {
	var by atomic.Int64
	by.Store(int64(40 * time.Second)) // the service's clock is right, say: this machine's is 40 s slow
	s := gltest.Start(t, shifted(&by))
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "market-day", "goneBy": "stays",
		"visible": true}, 201, nil)
	c := open(t, s, "production", func(o *greenlever.Options) { o.Report = 50 * time.Millisecond })
	until(t, c, "the clocks are compared", func(st greenlever.State) bool {
		return st.Skew > 39*time.Second && st.Skew < 41*time.Second
	})
	end := time.Now().Add(time.Duration(by.Load())).Add(3 * time.Second).Truncate(time.Millisecond)
	saved := s.Edit(t, "production", "market-day", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "Until the market closes", When: &condition.Node{Test: "clock.before",
			Text: []string{end.UTC().Format("2006-01-02T15:04:05.000Z")}}, Gives: flag.Gives{Variant: "on"}}}
	})
	until(t, c, "the window", at(saved.Revision))
	url := streamOf(t, s, s.Browse["production"])
	events := changes(t, url)
	if time.Now().Add(time.Duration(by.Load())).Before(end) && !c.Bool(context.Background(), "market-day",
		greenlever.Unit("x"), false) {
		t.Error("the window is over too soon")
	}
	gltest.Eventually(t, "the window ends in the client", func() bool {
		return !c.Bool(context.Background(), "market-day", greenlever.Unit("x"), true)
	})
	late := time.Now().Add(time.Duration(by.Load())).Sub(end)
	if late < 0 {
		t.Errorf("the client changed %v before the end", -late)
	}
	if told := toldBy(t, events); !strings.Contains(told, "refetchEvaluation") {
		t.Errorf("browsers were told %q", told)
	}
	// One that opens its stream only now has answers of before the end, and is told as well.
	if told := toldBy(t, changes(t, url)); !strings.Contains(told, "refetchEvaluation") {
		t.Errorf("who came late was told %q", told)
	}
	if st := c.State(); st.Revision != saved.Revision {
		t.Errorf("there was a change: %+v", st)
	}
	var r struct{ Old []struct{ ID, Says string } }
	gltest.Eventually(t, "the wrong clock is named", func() bool {
		s.Keeper.Do(t, "GET", inProd+"/radar", nil, 200, &r)
		for _, o := range r.Old {
			if o.ID == c.State().Instance && strings.Contains(o.Says, "clock") {
				return true
			}
		}
		return false
	})
}

// Two processes of the service: what is done once is done once, by whoever is there.
func TestLeases(t *testing.T) {
	var by atomic.Int64
	s := gltest.Start(t, shifted(&by))
	second := s.Serve(t, shifted(&by))
	s.Flag(t, "a")
	c := open(t, s, "production", func(o *greenlever.Options) { o.URL, o.Report = second.URL(), 50*time.Millisecond })
	var want []int64
	for i := range 6 {
		saved := s.Edit(t, "production", "a", func(d *flag.Document) {
			d.Lever = []flag.Lever{flag.On, flag.Off}[i%2]
		})
		until(t, c, "an edit", at(saved.Revision))
		want = append(want, saved.Revision)
		if i == 2 { // whoever had the lease leaves
			if err := s.Stop(); err != nil {
				t.Fatal(err)
			}
			s.Server = second
			s.Keeper.URL = second.URL()
		}
	}
	by.Store(int64(46 * time.Second)) // for the first revisions, which nobody was there for
	gltest.Eventually(t, "each revision's delivery is in the audit once", func() bool {
		_, raw, _, _ := s.Keeper.Send("GET", "/projects/pinecrest/history?limit=200", nil)
		for _, revision := range want {
			if n := strings.Count(string(raw), fmt.Sprintf(`"tokens":[{"text":"revision %d: `, revision)); n > 1 {
				t.Fatalf("revision %d is there %d times", revision, n)
			} else if n == 0 {
				return false
			}
		}
		return true
	})
}
