package accept

import (
	"fmt"
	"strings"
	"testing"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/browse"
	"greenlever.example/greenlever/internal/gltest"
)

// as is a window in which somebody is signed in.
func as(t *testing.T, s *gltest.Service, name string) *browse.Window {
	t.Helper()
	b, err := chromium()
	if err != nil {
		t.Fatal(err)
	}
	w, err := b.Window(1280, 900)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.Close)
	w.Go(s.URL()+"/sign-in").Fill("E-mail", name+"@pinecrest.example").Fill("Password", gltest.Password).Click("Sign in").See("Sign out")
	good(t, w)
	return w
}

// An edit is proposed on its page by who may not make it, waits for who may sign, is signed, talked about and made; the
// one count says what waits.
func TestConsoleProposals(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors")
	s.Person(t, "tove.ek", "on-call")
	s.Person(t, "juno.lind", "releaser")
	s.Keeper.Do(t, "PATCH", inProd, object{"signing": object{"need": 1, "roles": []string{"releaser"}}}, 200, nil)
	tove := as(t, s, "tove.ek")
	tove.Go(s.URL() + "/p/pinecrest/production/flags/doors").See("You may propose changes of it")
	tove.Click("off").See("lever on → off").See("production wants a signature before it gives something else")
	tove.Fill("reason", "the shutters jam").Click("Propose it")
	tove.See("production: 0 of 1 signature of releaser").See("It waits for: Ida Holm, juno.lind.").See("Withdraw it")
	good(t, tove)
	juno := as(t, s, "juno.lind")
	juno.Go(s.URL() + "/p/pinecrest/needs").See("Proposals to sign").See("proposed by tove.ek, waits for your signature")
	juno.Click("the shutters jam").See("before").See("after").Fill("comment", "on all sites?").Click("Say it").See("on all sites?")
	juno.Click("Sign it").See("Signed.").See("Take your signature back").Click("Make it now").See("Made.").See("● made")
	good(t, juno)
	if d := s.Get(t, "production", "doors").Document; d.Lever != flag.Off {
		t.Errorf("the lever is %s", d.Lever)
	}
	juno.Go(s.URL() + "/p/pinecrest/proposals").See("Nothing is proposed.").See("Made, withdrawn or expired lately").See("the shutters jam")
	juno.Go(s.URL() + "/p/pinecrest/needs").See("Nothing waits for you in this project.")
	good(t, juno)
}

// Two hundred proposals are listed and found.
func TestConsoleManyProposals(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors", "lights")
	for i := range 200 {
		key := []string{"doors", "lights"}[i%2]
		s.Keeper.With("If-Match", "1").Do(t, "PATCH", "/projects/pinecrest/flags/"+key+"?propose=new&title=Titles+"+fmt.Sprint(i),
			object{"title": fmt.Sprint("Better ", i)}, 202, nil)
	}
	w := window(t, s, 1280, 800)
	w.Go(s.URL()+"/p/pinecrest/proposals").See("Titles 199").See("Titles 0").Fill("find a proposal", "titles 17").See("Titles 170").Gone("Titles 16")
	good(t, w)
}

// A policy begins from the library, is tried on the past, saved, and seen to rule; an address of the calendar is made, and
// answers iCalendar until it is taken away or its owner may not read any more.
func TestConsolePoliciesAndCalendar(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors")
	w := window(t, s, 1280, 800)
	w.Go(s.URL()+"/p/pinecrest/settings").See("There are none: every change that somebody may make is made.").Click("New policy").
		Choose("begin with", "No step over 40 percentage points").Fill("title", "Small steps").Click("Try it on the past").See("It would have ruled on").
		Click("Save the policy").See("Saved: policy Small steps.").See("dry: would refuse")
	good(t, w)
	s.Edit(t, "production", "doors", func(d *flag.Document) { d.End = flag.Gives{Variant: "off"} })
	s.Edit(t, "production", "doors", func(d *flag.Document) { d.End = flag.Gives{Variant: "on"} })
	w.Go(s.URL() + "/p/pinecrest/settings").See("ruled 1 time in 90 days").Click("look at policy Small steps").See("would have refused")
	w.Fill("it bites when", "difference.stepp > 1.0").Click("Save the policy").See("undefined field 'stepp'")
	good(t, w)
	w.Go(s.URL() + "/p/pinecrest/calendar").See("Day by day").Click("Make an address").See("It is shown this once.")
	address := strings.TrimSpace(w.Text("calendar-address"))
	good(t, w)
	guest := gltest.Caller{URL: s.URL()}
	read := func(want int) string {
		t.Helper()
		status, raw, _, err := guest.Send("GET", strings.TrimPrefix(address, s.URL()), nil)
		if err != nil || status != want {
			t.Fatalf("%d, not %d: %s %v", status, want, raw, err)
		}
		return string(raw)
	}
	if raw := read(200); !strings.HasPrefix(raw, "BEGIN:VCALENDAR\r\n") {
		t.Error(raw)
	}
	var has struct{ Items []app.CalendarAddress }
	s.Keeper.Do(t, "GET", "/projects/pinecrest/calendar/addresses", nil, 200, &has)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/calendar/addresses/"+has.Items[0].ID+"/remove", nil, 200, nil)
	read(404)
	tove := s.Person(t, "tove.ek", "on-call")
	var made struct{ Path string }
	tove.Do(t, "POST", "/projects/pinecrest/calendar/addresses", nil, 201, &made)
	address = s.URL() + made.Path
	read(200)
	s.Keeper.Do(t, "PATCH", "/accounts/"+s.Account(t, "tove.ek@pinecrest.example"), object{"disabled": true}, 200, nil)
	read(404)
}
