package accept

import (
	"bytes"
	"context"
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/cli"
	"greenlever.example/greenlever/internal/gltest"
)

// shell runs the command line as its user would, with a home of its own.
type shell struct {
	t        *testing.T
	out, err string
}

func newShell(t *testing.T, s *gltest.Service) *shell {
	t.Helper()
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	t.Setenv("GREENLEVER_URL", s.URL())
	t.Setenv("GREENLEVER_TOKEN", strings.TrimPrefix(s.Keeper.Header.Get("Authorization"), "Bearer "))
	t.Setenv("GREENLEVER_ENV", "")
	t.Setenv("GREENLEVER_PROJECT", "")
	return &shell{t: t}
}

// run runs a command line, split at spaces but for parts between single quotes, and
// expects an exit code.
func (sh *shell) run(want int, line string) *shell {
	sh.t.Helper()
	var code int
	code, sh.out, sh.err = ran(line)
	if code != want {
		sh.t.Errorf("greenlever %s: exit code %d, want %d\n%s%s", line, code, want, sh.out, sh.err)
	}
	return sh
}

// says expects texts on standard output, or after "!" on standard error.
func (sh *shell) says(texts ...string) *shell {
	sh.t.Helper()
	for _, text := range texts {
		in, where := sh.out, "output"
		if after, ok := strings.CutPrefix(text, "!"); ok {
			in, where, text = sh.err, "errors", after
		}
		if !strings.Contains(in, text) {
			sh.t.Errorf("standard %s does not say %q:\n%s", where, text, in)
		}
	}
	return sh
}

// From a project to an audited stop, on the command line alone.
func TestCommandLine(t *testing.T) {
	s := gltest.Start(t)
	s.Environment(t, "night", true)
	sh := newShell(t, s)
	sh.run(0, "sign-in --env night").says("!signed in to " + s.URL() + " as Ida Holm")
	t.Setenv("GREENLEVER_URL", "") // from here on by the profile
	t.Setenv("GREENLEVER_TOKEN", "")
	sh.run(0, "project list").says("pinecrest")
	sh.run(0, "environment list").says("night", "staging")
	sh.run(7, "flag make One").says("!key: must be")
	sh.run(7, "flag make one-touch-open --because start").says("!goneBy")
	sh.run(0, "flag make one-touch-open --title 'One-touch open' --gone-by 2027-03-31 --because start").says(
		"!its lever is off everywhere")
	sh.run(0, "flag make arrival-estimate --type string --variant timetable=t --variant learned=l --resting "+
		"timetable --gone-by stays --recipe side-by-side --because start")
	sh.run(7, "flag make x --type number --variant a=1 --variant b=two --gone-by stays --because start").says(
		"!must be a number")
	sh.run(0, "board").says("one-touch-open", "Off: all get `off`.", "revision")

	// A change in an environment that asks first.
	sh.run(2, "flag turn one-touch-open on").says("!lever off → on", "!say why with --because")
	sh.run(2, "flag turn one-touch-open on --because now").says("!add --yes")
	sh.run(0, "flag turn one-touch-open on --because now --yes").says("!lever off → on", "night: All get `off`.")
	sh.run(0, "flag turn one-touch-open on --because now --yes").says("!nothing was changed")
	sh.run(2, "flag turn one-touch-open up --because now --yes").says("!on or off")
	sh.run(0, "flag name one-touch-open recipient-17 recipient-18 --because me --yes").says(
		"!rule \"Named units\" added")
	sh.run(0, "flag name one-touch-open recipient-18 --remove --because less --yes").says("!− \"recipient-18\"")
	sh.run(0, "flag share one-touch-open on=8% --by site.id --because first --yes").says("8 % of units by site.id " +
		"get `on`; all others get")
	sh.run(0, "flag share one-touch-open on=30 --because more --yes").says("!share of `on` 8 % → 30 %")
	sh.run(2, "flag share one-touch-open on=130 --because more --yes").says("!percentage")
	sh.run(2, "flag share one-touch-open on=80 off=30 --because more --yes").says("!more than 100 %")
	sh.run(0, "flag park one-touch-open Shares --because quiet --yes").says("!parked")
	sh.run(0, "flag park one-touch-open Shares --back --because quiet --yes").says("!no longer parked")
	sh.run(4, "flag park one-touch-open Nothing --because quiet --yes").says("!the rules are Named units, Shares")
	sh.run(0, "flag end arrival-estimate learned --because try --yes").says("!end gives")
	sh.run(7, "flag end arrival-estimate nothing --because try --yes").says("!is no variant of this flag")
	sh.run(0, "flag show one-touch-open").says("rule 2", "version", "(resting)")
	sh.run(4, "flag show nothing").says("!no flag nothing")

	sh.run(0, "why one-touch-open recipient-17").says("gives on true", "->  rule \"Named units\" takes the unit",
		"the key is")
	sh.run(0, "why one-touch-open recipient-99 --set site.id=site-1 --set crew_size=3").says("lies at", "<- here")
	sh.run(2, "why one-touch-open x --set crew").says("!NAME=VALUE")
	sh.run(7, "why one-touch-open --set n=9007199254740993").says("!send it as a string")

	// A whole document, out and in again.
	sh.run(0, "flag show one-touch-open -o json")
	var view struct{ Document json.RawMessage }
	if err := json.Unmarshal([]byte(sh.out), &view); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(t.TempDir(), "flag.json")
	if err := os.WriteFile(file, bytes.Replace(view.Document, []byte("Named units"), []byte("Me"), 1),
		0o600); err != nil {
		t.Fatal(err)
	}
	sh.run(0, "flag save one-touch-open "+file+" --because 'a better name' --yes").says("!rule \"Named units\" " +
		"renamed \"Me\"")
	sh.run(0, "flag remove-rule one-touch-open Me --because done --yes").says("!rule \"Me\" removed")

	sh.run(0, "segment make staff --when {\"test\":\"present\",\"attribute\":\"badge\"} --because new")
	sh.run(0, "segment save staff --when {\"test\":\"absent\",\"attribute\":\"badge\"} --because turned --yes").says(
		"!condition badge is present → badge is absent")
	sh.run(0, "segment list").says("staff", "badge is absent")

	sh.run(0, "stop one-touch-open --because 'doors jam'").says("!stopped in night")
	stop := strings.TrimSpace(sh.out)
	sh.run(0, "lift").says(stop, "doors jam")
	sh.run(2, "lift "+stop).says("!say why")
	sh.run(0, "lift "+stop+" --because calm --yes").says("!lifted in night")
	sh.run(7, "lift "+stop+" --because calm --yes").says("!lifted already")
	sh.run(0, "instances").says("delivered to 0 of 0")

	sh.run(0, "history --flag one-touch-open --limit 5").says("flag.lifted", "because calm", "by Ida Holm through cli")
	sh.run(0, "history --access --limit 3").says("through")
	sh.run(0, "verify").says("signed heads", "!sound")
	sh.run(0, "verify --access").says("access")
	sh.run(0, "export")
	export := sh.out
	exported := filepath.Join(t.TempDir(), "history.jsonl")
	if err := os.WriteFile(exported, []byte(export), 0o600); err != nil {
		t.Fatal(err)
	}
	sh.run(0, "verify --file "+exported).says("!sound")
	if err := os.WriteFile(exported, []byte(strings.Replace(export, "doors jam", "doors jan", 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	sh.run(8, "verify --file "+exported).says("!NOT sound", "!does not match its digest")

	sh.run(0, "key make --kind browser --purpose desk")
	if !strings.HasPrefix(sh.out, "glb_") {
		t.Errorf("a browser key: %q", sh.out)
	}
	sh.run(0, "key list -o json")
	var keys []struct{ ID, Purpose string }
	if err := json.Unmarshal([]byte(sh.out), &keys); err != nil || len(keys) != 3 {
		t.Fatalf("%v %s", err, sh.out)
	}
	for _, k := range keys {
		if k.Purpose == "desk" {
			sh.run(0, "key revoke "+k.ID)
		}
	}
	sh.run(4, "key revoke nothing")
	var made struct{ Secret string }
	s.Session(t, gltest.KeeperEmail).Do(t, "POST", "/me/tokens", object{"name": "script", "days": 3}, 201, &made)
	token := made.Secret
	sh.run(0, "token list").says("script")
	sh.run(0, "person make noor.berg@pinecrest.example --name Noor --password long-enough-password").says("!Noor")
	sh.run(0, "person roles noor.berg@pinecrest.example developer releaser")
	sh.run(0, "person list").says("Noor", "developer, releaser")
	sh.run(7, "person password noor.berg@pinecrest.example --password short")
	sh.run(0, "person password noor.berg@pinecrest.example --password another-long-password")
	sh.run(4, "person password nobody@pinecrest.example --password another-long-password")
	sh.run(2, "epoch new").says("!--yes")
	sh.run(0, "epoch new --yes")
	sh.run(0, "project make harbour --title Harbour")
	sh.run(2, "board").says("!say which project with --project: harbour, pinecrest")
	sh.run(0, "environment make night --project harbour").says("GREENLEVER_KEY=gls_", "GREENLEVER_BROWSER_KEY=glb_")
	sh.run(0, "environment make dusk --project harbour")
	sh.run(5, "environment remove dusk --project harbour --yes").says("!archive it first")
	sh.run(0, "environment archive dusk --project harbour --try").says("!nothing was changed")
	sh.run(0, "environment archive dusk --project harbour").says("!it can be brought back")
	sh.run(0, "environment list --project harbour --archived").says("dusk")
	sh.run(0, "history --project harbour --env dusk").says("environment.archived")
	sh.run(5, "stop night-light --project harbour --env dusk").says("!bring it back first")
	sh.run(0, "environment bring-back dusk --project harbour").says("!lives again")
	sh.run(0, "environment archive dusk --project harbour")
	sh.run(2, "environment remove dusk --project harbour").says("!--yes")
	sh.run(0, "environment remove dusk --project harbour --yes").says("!is gone")
	sh.run(4, "environment bring-back dusk --project harbour")
	sh.run(0, "board --project harbour -o yaml").says("environments:")
	sh.run(2, "board --project harbour -o xml")
	sh.run(2, "flag show")
	sh.run(2, "board --nothing")
	sh.run(0, "openapi").says(`"openapi":"3.1.0"`)
	sh.run(0, "completion bash").says("greenlever")

	t.Setenv("GREENLEVER_TOKEN", token)
	sh.run(0, "board --project pinecrest")
	t.Setenv("GREENLEVER_TOKEN", "glt_wrong")
	sh.run(3, "board --project pinecrest").says("!not known")
	sh.run(6, "board --url http://127.0.0.1:1 --project pinecrest").says("!no connection")
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	t.Setenv("GREENLEVER_TOKEN", "")
	sh.run(2, "board").says("!greenlever sign-in")
}

func TestServeOptions(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	sh := &shell{t: t}
	file := filepath.Join(t.TempDir(), "serve.yaml")
	if err := os.WriteFile(file, []byte("listne: x\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	sh.run(2, "serve --config "+file).says(`!there is no option "listne"`)
	if err := os.WriteFile(file, []byte("listen: 127.0.0.1:none\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	sh.run(1, "serve --config "+file).says("!127.0.0.1:none", "!choose another address")
	t.Setenv("GREENLEVER_SERVE_LIMIT_BODY", "much")
	sh.run(2, "serve").says("!GREENLEVER_SERVE_LIMIT_BODY")
	t.Setenv("GREENLEVER_SERVE_LIMIT_BODY", "")
	sh.run(1, "serve --listen 127.0.0.1:0 --dsn nonsense --dir "+t.TempDir()).says("!the database's address")
}

// Targeting on the command line: conditions as text, what an edit would move, the
// population, test units, checks, overrides and long lists.
func TestCommandLineTargeting(t *testing.T) {
	s, _ := populated(t, 300)
	s.Keeper.Do(t, "PATCH", inProd, object{"askFirst": true, "reason": "from now on"}, 200, nil)
	sh := newShell(t, s)
	sh.run(0, "sign-in --env production")
	t.Setenv("GREENLEVER_URL", "")
	t.Setenv("GREENLEVER_TOKEN", "")

	sh.run(0, `condition 'version(firmware) >= version("4.2.0") && !present(badge)'`).says("firmware is version ≥ " +
		"4.2.0 and badge is not present")
	sh.run(7, `condition 'firmware >= "4"'`).says("!line 1, column 10: strings have no order")
	sh.run(0, "condition help").says("inSegment(", "weekly(")

	// Trying shows and changes nothing.
	sh.run(0, "flag share night-batching on=30% --rule 'First sites' --try").says("night-batching: moves",
		"from off to on, such as recipient-", "of 60 different site.id get on", "!share of `on` 8 % → 30 %")
	if v := s.Get(t, "production", "night-batching"); v.Version != 2 {
		t.Errorf("trying saved version %d", v.Version)
	}
	sh.run(2, "flag make x --gone-by stays --because y --try").says("!cannot be tried, only done")
	sh.run(0, "stop night-batching --try").says("night-batching: moves")
	sh.run(0, "flag rule night-batching --name Old --when 'version(firmware) < version(\"4.2.0\")' --gets off "+
		"--place 1 --because 'old lockers' --yes").says("!night-batching: moves",
		"firmware is version < 4.2.0: all get `off`")
	sh.run(2, "flag rule night-batching --name New --because x --yes").says("!which with --gets")
	sh.run(0, "flag order night-batching 'First sites' Old --because order --yes").says("!rules now in the order " +
		"\"First sites\", \"Old\"")
	sh.run(4, "flag order night-batching Nothing --because order --yes").says("!no rule \"Nothing\"")
	salt := s.Get(t, "production", "night-batching").Document.Rules[0].Gives.Shares.Salt
	sh.run(0, "flag draw-anew night-batching --rule 'First sites' --because fair --yes").says("!shares drawn anew")
	if now := s.Get(t, "production", "night-batching").Document.Rules[0].Gives.Shares.Salt; now == salt {
		t.Error("the salt stayed")
	}
	sh.run(0, "flag show night-batching").says(`version(firmware) < version("4.2.0")`)
	sh.run(0, "flag snippet night-batching --for Go").says(`flags.Bool(ctx, "night-batching", unit, false)`,
		`greenlever.String("site.id", siteID)`)

	// Everybody at once takes the number.
	s.Flag(t, "one-touch-open")
	sh.run(0, "flag end one-touch-open on --because all --yes")
	sh.run(2, "flag turn one-touch-open on --because all --yes").says("!add --units 300")
	sh.run(7, "flag turn one-touch-open on --because all --yes --units 7").says("!this moves about 300 units")
	sh.run(0, "flag turn one-touch-open on --because all --yes --units 300")

	sh.run(0, "attribute list").says("crew_size", "is sent, but not declared", "personal")
	sh.run(0, "attribute declare firmware --type version --loose").says("!is declared as version")
	sh.run(0, "attribute declare firmware --type version --description again")
	sh.run(7, "attribute declare firmware --type number --loose").says("!only versions can be loose")
	sh.run(7, "flag rule night-batching --name Wrong --when 'firmware > 4' --gets on --because x --yes").says(
		"!firmware is declared as a version")
	sh.run(0, "attribute remove firmware")
	sh.run(4, "attribute remove firmware")

	sh.run(0, "population show").says("300", "site.id")
	sh.run(0, "population units --has recipient-12").says("recipient-12", "@pinecrest.example")
	sh.run(0, "unit show recipient-12").says("as they were last seen", "night-batching")
	sh.run(0, "unit save t-1 --name 'My phone' --set site.id=site-3 --expect night-batching=on")
	sh.run(0, "unit list").says("t-1", "My phone")
	s.Flag(t, "door-retries")
	s.Edit(t, "production", "door-retries", func(d *flag.Document) { // half of the recipients, whatever the salt
		d.Lever = flag.On
		d.End = flag.Gives{Shares: &flag.Shares{By: []string{"targetingKey"},
			Parts: []flag.Part{{Variant: "on", Share: 500_000}, {Variant: "off", Share: 500_000}}}}
	})
	sh.run(0, "roster").says("t-1", "1 of 1 get on; 1 would be usual", "0 to 1 would be usual")
	sh.run(0, "why night-batching t-1 --against recipient-12").says("of the test unit", "against recipient-12")
	sh.run(0, "unit remove t-1")
	sh.run(0, "population erase recipient-12 --because asked").says("!erased from")
	sh.run(0, "see-as night-batching=on --minutes 5").says("Greenlever-See-As: ey")
	sh.run(7, "see-as night-batching=blue").says("!is no variant of this flag")

	sh.run(0, "flag rule night-batching --name Everybody --gets off --place 1 --because x --yes").says("!careful:",
		"!is never reached")
	sh.run(0, "check night-batching").says("[shadowed]")
	sh.run(2, "check mute night-batching shadowed").says("!say why with --because")
	sh.run(0, "check mute night-batching shadowed --because 'for now'")
	sh.run(0, "check").says("(muted: for now)")
	sh.run(0, "check unmute night-batching shadowed")
	sh.run(0, "check list").says("window-ends")

	file := filepath.Join(t.TempDir(), "units.txt")
	if err := os.WriteFile(file, []byte(strings.Repeat("recipient-1\nrecipient-2\n", 2)), 0o600); err != nil {
		t.Fatal(err)
	}
	sh.run(0, "segment make pilot --title Pilot --when 'present(badge)' --because new")
	sh.run(0, "segment load pilot "+file+" --try")
	sh.run(0, "segment load pilot "+file+" --because wave --yes").says("!listed in: + \"recipient-1\", + " +
		"\"recipient-2\"")
	sh.run(0, "segment save pilot --when 'role == \"courier\"' --because x --yes").says("!condition")
	sh.run(0, "segment units pilot").says("recipient-1\nrecipient-2\n")
	sh.run(0, "segment list").says("2 listed units, and all where role is \"courier\"")
	sh.run(0, "population set --off --because quiet").says("!sampled: false")
}

// A mistyped word is met with what it is like, and never with what stops something for everybody.
func TestMistypedWords(t *testing.T) {
	sh := &shell{t: t}
	for word, like := range map[string]string{"boad": "board", "lft": "lift", "hisory": "history", "stp": "",
		"sto": "", "stpo": "", "stoop": ""} {
		sh.run(2, word).says("!unknown command")
		if like != "" {
			sh.says("!Did you mean " + like + "?")
		} else if strings.Contains(sh.err, "stop") {
			t.Errorf("%s: %s", word, sh.err)
		}
	}
}

// pasted gives the command lines that were printed to be run next.
func (sh *shell) pasted() (lines []string) {
	for line := range strings.Lines(sh.out + sh.err) {
		if _, after, ok := strings.Cut(line, ": "); ok {
			line = after
		}
		if next, is := strings.CutPrefix(strings.TrimSpace(line), "greenlever "); is {
			lines = append(lines, next)
		}
	}
	return lines
}

// Whatever a command prints as the next one runs when it is pasted, also where there are several
// projects and the environment asks first.
func TestPrintedCommandsRun(t *testing.T) {
	s := gltest.Start(t)
	sh := newShell(t, s)
	paste := func(want int) {
		t.Helper()
		lines := sh.pasted()
		if len(lines) != want {
			t.Errorf("%d lines to paste, want %d:\n%s%s", len(lines), want, sh.out, sh.err)
		}
		for _, line := range lines {
			if strings.HasPrefix(line, "lift") {
				line += " --yes" // who pastes it is asked
			}
			sh.run(0, line)
		}
	}
	sh.run(0, "board").says("!There is no flag yet")
	paste(3)
	sh.says("first-flag")
	sh.run(0, "flag make lonely --gone-by stays")
	sh.run(0, "flag turn lonely on --env production").says("!nobody gets anything new")
	paste(1)
	if v := s.Get(t, "production", "lonely"); v.Document.End.Variant != "on" {
		t.Errorf("the printed line has all get %s", v.Document.End.Variant)
	}
	s.Environment(t, "night", true)
	s.Flag(t, "night-batching")
	sh.run(0, "project make second --title Second")
	paste(1)
	sh.run(0, "board --project second").says("!no flag yet")
	paste(3)
	sh.run(0, "person make tove.ek@pinecrest.example --name Tove --password long-enough-for-it --project pinecrest")
	paste(1)
	sh.run(0, "stop night-batching --because jam --env night --project pinecrest")
	paste(2)
	if v := s.Get(t, "night", "night-batching"); strings.HasPrefix(v.Sentence.String(), "Stopped") {
		t.Error("the printed line lifts nothing")
	}
	c := open(t, s, "night", func(o *greenlever.Options) { o.Report = 50 * time.Millisecond })
	gltest.Eventually(t, "the radar sees it", func() bool {
		c.Bool(context.Background(), "It's new", greenlever.Unit("r"), false)
		c.Bool(context.Background(), "night-batch", greenlever.Unit("r"), false)
		return strings.Contains(sh.run(0, "radar --env night --project pinecrest").out, "night-batch ")
	})
	paste(1)
	s.Get(t, "night", "night-batch")
}

// A command does what its words say, or refuses; what it would do is said in the same words.
func TestSharesOfARuleThatIsMeant(t *testing.T) {
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	sh := newShell(t, s)
	t.Setenv("GREENLEVER_ENV", "production")
	sh.run(0, "flag turn night-batching on").says("!it is on, and nobody gets anything new")
	sh.run(0, "flag share night-batching on=8% --by site.id")
	sh.run(2, `flag share night-batching on=30% --when 'present(badge)'`).says("!--rule \"Shares\"", "!--name")
	sh.run(2, "flag share night-batching on=30% --rule Shares --name New").says("!say one of them")
	sh.run(5, "flag share night-batching on=30% --name Shares").says("!already")
	sh.run(2, "flag share night-batching on=30% --place 1").says("!flag order")
	tried := sh.run(0, `flag share night-batching on=50% --name Staff --when 'present(badge)' --place 1 --try`)
	trial := tried.err + tried.out
	done := sh.run(0, `flag share night-batching on=50% --name Staff --when 'present(badge)' --place 1`)
	if !strings.HasPrefix(done.err, trial) || !strings.Contains(trial,
		`rule "Staff" added at place 1: where badge is present: 50 % of units get`) {
		t.Errorf("tried:\n%s\ndone:\n%s", trial, done.err)
	}
	d := s.Get(t, "production", "night-batching").Document
	if len(d.Rules) != 2 || d.Rules[0].Name != "Staff" || d.Rules[1].Gives.Shares.Parts[0].Share != 80_000 ||
		d.Rules[1].When != nil {
		t.Errorf("%+v", d.Rules)
	}
	sh.run(2, "flag share night-batching on=30%").says("!several rules have shares", "!Staff, Shares")
	sh.run(0, "flag rule night-batching --name Twin --gets on")
	s.Edit(t, "production", "night-batching", func(d *flag.Document) {
		d.Rules = append(d.Rules, flag.Rule{Name: "Twin", Gives: flag.Gives{Variant: "off"}})
	})
	sh.run(2, "flag park night-batching Twin").says("!several rules are called", "!its id")
	sh.run(0, "flag turn night-batching on --end on").says("!end gives `off` → `on`", "all others get `on`.")
}

// Every command that is printed as the next one is there.
func TestNextCommandsExist(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("../cli/*.go")
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	for _, file := range files {
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(parsed, func(n ast.Node) bool {
			call, is := n.(*ast.CallExpr)
			if !is {
				return true
			}
			if of, is := call.Fun.(*ast.SelectorExpr); !is || of.Sel.Name != "next" {
				return true
			}
			var words []string
			for _, a := range call.Args {
				text, is := a.(*ast.BasicLit)
				if !is || strings.HasPrefix(text.Value, `"--`) {
					break
				}
				words = append(words, strings.Trim(text.Value, `"`))
			}
			if len(words) == 0 { // it is put together elsewhere
				return true
			}
			found++
			var out, errs bytes.Buffer
			cli.Run(t.Context(), append(slices.Clone(words), "--help"), strings.NewReader(""), &out, &errs)
			usage, is := words[0], false
			for i := range words { // the last ones may be arguments
				usage = strings.Join(words[:i+1], " ")
				is = is || i >= min(1, len(words)-1) && strings.Contains(out.String(), "greenlever "+usage)
			}
			if !is {
				t.Errorf("%s says greenlever %s, and there is no such command", file, usage)
			}
			return true
		})
	}
	if found < 8 {
		t.Errorf("only %d such lines were found", found)
	}
}
