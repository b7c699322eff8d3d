package accept

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
	"greenlever.example/greenlever/internal/server"
	"greenlever.example/greenlever/internal/web"
)

// can is the answer to who may do what.
type can struct {
	May   bool
	Why   string
	Could []string
}

func mayDo(t *testing.T, c gltest.Caller, who, do, environment string) (out can) {
	t.Helper()
	c.Do(t, "GET", "/projects/pinecrest/can?who="+who+"&do="+do+"&environment="+environment, nil, 200, &out)
	return out
}

// Who has a role in one environment does there what it says, and nothing elsewhere; a refusal names who could.
func TestRolesInOneEnvironment(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "one-touch-open")
	const email = "juno.lind@pinecrest.example"
	juno := s.Person(t, "juno.lind")
	account := s.Account(t, email)
	roles := "/projects/pinecrest/people/" + account
	juno.Do(t, "GET", inProd+"/flags/one-touch-open", nil, 404, nil)
	s.Keeper.Do(t, "PUT", roles, object{"roles": []string{}, "in": object{"staging": []string{"developer", "on-call"}}}, 200,
		nil)
	var me struct {
		Roles map[string][]string
		In    map[string]map[string][]string
	}
	juno.Do(t, "GET", "/me", nil, 200, &me)
	if len(me.Roles["pinecrest"]) != 0 || len(me.In["pinecrest"]["staging"]) != 2 {
		t.Errorf("%+v", me)
	}
	edit := func(environment string, want int) string {
		var v struct {
			Version  int64
			Document flag.Document
		}
		at := "/projects/pinecrest/environments/" + environment + "/flags/one-touch-open"
		juno.Do(t, "GET", at, nil, 200, &v)
		v.Document.Lever = flag.On
		status, answer, _, err := juno.With("If-Match", itoa(v.Version)).Send("PUT", at, mustJSON(t, object{
			"document": v.Document, "reason": "it is time"}))
		if err != nil || status != want {
			t.Errorf("an edit in %s: %d %s %v", environment, status, answer, err)
		}
		return string(answer)
	}
	if refusal := edit("production", 403); !strings.Contains(refusal, "Ida Holm could") {
		t.Errorf("nobody is named: %s", refusal)
	}
	edit("staging", 200)
	juno.Do(t, "POST", inProd+"/stops", object{"flags": []string{"one-touch-open"}}, 403, nil)
	juno.Do(t, "POST", "/projects/pinecrest/environments/staging/stops", object{"flags": []string{"one-touch-open"}}, 201, nil)
	juno.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "lamp", "goneBy": "stays"}, 201, nil)
	juno.With("If-Match", "1").Do(t, "PATCH", "/projects/pinecrest/flags/lamp", object{"title": "Lamp"}, 403, nil)
	juno.Do(t, "POST", "/projects/pinecrest/segments", object{"key": "crews"}, 403, nil)
	for _, c := range []struct {
		do, environment string
		may             bool
	}{{"release", "production", false}, {"release", "staging", true}, {"make", "", true}, {"define", "", false},
		{"read", "production", true}, {"stop", "staging", true}} {
		got := mayDo(t, s.Keeper, email, c.do, c.environment)
		if got.May != c.may || c.may && !strings.Contains(got.Why, "in this environment") || len(got.Could) == 0 {
			t.Errorf("%s in %s: %+v", c.do, c.environment, got)
		}
	}
	s.Keeper.Do(t, "PUT", roles, object{"roles": []string{}, "in": object{"staging": []string{"keeper"}}}, 400, nil)
	s.Keeper.Do(t, "PUT", roles, object{"roles": []string{}, "in": object{"nowhere": []string{"developer"}}}, 400, nil)
	s.Keeper.Do(t, "PUT", roles, object{"roles": []string{}}, 200, nil)
	juno.Do(t, "GET", inProd+"/flags/one-touch-open", nil, 404, nil)
}

// What a team holds its members hold, as long as they are in it.
func TestTeams(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "one-touch-open")
	const email = "noor.berg@pinecrest.example"
	noor := s.Person(t, "noor.berg")
	team := func(members ...string) object { return object{"title": "Doors", "members": members} }
	noor.Do(t, "PUT", "/teams/doors", team(email), 403, nil)
	s.Keeper.Do(t, "PUT", "/teams/doors", team("nobody@pinecrest.example"), 400, nil)
	s.Keeper.Do(t, "PUT", "/teams/Doors!", team(email), 400, nil)
	s.Keeper.Do(t, "PUT", "/teams/doors", team(email), 200, nil)
	stop := object{"flags": []string{"one-touch-open"}}
	noor.Do(t, "POST", inProd+"/stops", stop, 404, nil)
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/teams/doors", object{"roles": []string{"on-call"}}, 200, nil)
	noor.Do(t, "POST", inProd+"/stops", stop, 201, nil)
	if got := mayDo(t, s.Keeper, email, "stop", "production"); !got.May || !strings.Contains(got.Why, "of the team doors") {
		t.Errorf("%+v", got)
	}
	s.Keeper.Do(t, "PUT", "/teams/elsewhere", object{"title": "Of another project", "members": []string{email}}, 200, nil)
	var teams struct{ Items []struct{ Key string } }
	noor.Do(t, "GET", "/projects/pinecrest/teams", nil, 200, &teams)
	if len(teams.Items) != 1 || teams.Items[0].Key != "doors" {
		t.Errorf("a member of a project sees %+v", teams)
	}
	var people struct {
		Items []struct {
			Email string
			Teams []string
		}
	}
	noor.Do(t, "GET", "/projects/pinecrest/people", nil, 200, &people)
	found := false
	for _, p := range people.Items {
		found = found || p.Email == email && len(p.Teams) == 1 && p.Teams[0] == "doors"
	}
	if !found {
		t.Errorf("%+v", people)
	}
	// A team does not take the place of a keeper who is one by themselves.
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/teams/doors", object{"roles": []string{"keeper"}}, 200, nil)
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/people/"+s.Account(t, gltest.KeeperEmail), object{"roles": []string{}}, 409,
		nil)
	s.Keeper.Do(t, "PUT", "/teams/doors", team(), 200, nil)
	noor.Do(t, "POST", inProd+"/stops", stop, 404, nil)
	s.Keeper.Do(t, "PUT", "/teams/doors", team(email), 200, nil)
	noor.Do(t, "GET", inProd+"/stops", nil, 200, nil)
	s.Keeper.Do(t, "DELETE", "/teams/doors", nil, 200, nil)
	noor.Do(t, "GET", inProd+"/stops", nil, 404, nil)
	s.Keeper.Do(t, "DELETE", "/teams/doors", nil, 404, nil)
	s.Keeper.Do(t, "PUT", "/teams/doors", team(email), 200, nil)
	noor.Do(t, "GET", inProd+"/stops", nil, 404, nil) // the same key is another team
}

// A robot does what it is let do, in its own name, and is nobody who signs in.
func TestRobots(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "one-touch-open")
	var robot struct{ ID, Email string }
	s.Keeper.Do(t, "POST", "/robots", object{"key": "widener", "name": "Widener"}, 201, &robot)
	s.Keeper.Do(t, "POST", "/robots", object{"key": "widener"}, 400, nil)
	s.Keeper.Do(t, "POST", "/robots", object{"key": "Not a key"}, 400, nil)
	for _, password := range []string{"", gltest.Password} {
		status, _, _, _ := gltest.Caller{URL: s.URL()}.Send("POST", "/sign-in", mustJSON(t, object{"email": robot.Email,
			"password": password}))
		if status < 400 {
			t.Errorf("a robot signs in with %q: %d", password, status)
		}
	}
	s.Keeper.Do(t, "POST", "/accounts/"+robot.ID+"/password", object{"password": gltest.Password}, 409, nil)
	s.Keeper.Do(t, "PATCH", "/accounts/"+robot.ID, object{"keeper": true}, 400, nil)
	s.Keeper.Do(t, "POST", "/accounts/"+s.Account(t, gltest.KeeperEmail)+"/tokens", object{"name": "x", "days": 1}, 409, nil)
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/people/"+robot.ID, object{"roles": []string{"releaser"}}, 200, nil)
	token := func(body object) gltest.Caller {
		t.Helper()
		var made struct{ Secret string }
		body["name"], body["days"] = "ci", 3
		s.Keeper.Do(t, "POST", "/accounts/"+robot.ID+"/tokens", body, 201, &made)
		return bearer(s.URL(), made.Secret)
	}
	stop := object{"flags": []string{"one-touch-open"}}
	staging := "/projects/pinecrest/environments/staging/stops"
	only := token(object{"only": []object{{"project": "pinecrest", "environment": "staging", "role": "releaser"}}})
	only.Do(t, "POST", inProd+"/stops", stop, 403, nil)
	only.Do(t, "POST", staging, stop, 201, nil)
	more := token(object{"only": []object{{"project": "pinecrest", "role": "keeper"}}})
	more.Do(t, "POST", staging, stop, 404, nil) // a token gives nothing that its account does not have
	token(object{}).Do(t, "POST", inProd+"/stops", stop, 201, nil)
	s.Keeper.Do(t, "POST", "/accounts/"+robot.ID+"/tokens", object{"name": "x", "days": 1, "only": []object{{
		"project": "nowhere", "role": "releaser"}}}, 400, nil)
	var history struct {
		Items []struct {
			Name   string
			Action string
			Actor  struct{ Kind, ID, OnBehalfOf string }
		}
	}
	s.Keeper.Do(t, "GET", "/projects/pinecrest/history?environment=staging", nil, 200, &history)
	at := history.Items[0]
	if at.Action != "flag.stopped" || at.Name != "Widener" || at.Actor.Kind != "robot" || at.Actor.ID != robot.ID ||
		at.Actor.OnBehalfOf != s.Account(t, gltest.KeeperEmail) {
		t.Errorf("the history says %+v", at)
	}
	s.Keeper.Do(t, "PATCH", "/accounts/"+robot.ID, object{"disabled": true}, 200, nil)
	only.Do(t, "GET", "/me", nil, 401, nil)
}

// A person's own token can be held to less than they may do, and keeps nothing of the installation then.
func TestNarrowTokens(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "one-touch-open")
	session := s.Session(t, gltest.KeeperEmail)
	var made struct {
		Secret string
		Narrow struct{ Only []object }
	}
	session.Do(t, "POST", "/me/tokens", object{"name": "read", "days": 3, "only": []object{{"project": "pinecrest",
		"role": "keeper", "environment": "staging"}}}, 201, &made)
	narrow := bearer(s.URL(), made.Secret)
	if !strings.HasPrefix(made.Secret, "gln_") || len(made.Narrow.Only) != 1 {
		t.Errorf("%+v", made)
	}
	narrow.Do(t, "GET", inProd+"/flags/one-touch-open", nil, 200, nil)
	narrow.Do(t, "GET", "/accounts", nil, 403, nil)
	narrow.Do(t, "POST", inProd+"/stops", object{"flags": []string{"one-touch-open"}}, 403, nil)
	narrow.Do(t, "POST", "/me/tokens", object{"name": "more", "days": 3}, 403, nil)
	narrow.Do(t, "POST", "/projects", object{"key": "other"}, 403, nil)
}

// On the command line roles are given by oneself or by a team, everywhere or in one environment, and what was not
// named stays.
func TestCommandLineRoles(t *testing.T) {
	s := gltest.Start(t)
	const email = "juno.lind@pinecrest.example"
	s.Person(t, "juno.lind")
	sh := newShell(t, s)
	sh.run(0, "person roles "+email+" auditor --in staging=developer,releaser").says("!auditor, developer in staging")
	sh.run(0, "can "+email+" release --env staging").says("may: by the role", "who could: ")
	sh.run(3, "can "+email+" release --env production").says("may not: ", "Ida Holm")
	sh.run(0, "person roles "+email+" --in staging=releaser").says("!auditor, releaser in staging")
	sh.run(0, "person roles "+email+" auditor on-call").says("!auditor, on-call, releaser in staging")
	sh.run(0, "person list").says("auditor, on-call, releaser in staging")
	sh.run(0, "person roles "+email+" --in staging=").says("!auditor, on-call")
	sh.run(7, "person roles "+email+" boss").says("!must be one of auditor")
	sh.run(2, "person roles "+email+" --in staging").says("!--in takes")
	sh.run(7, "can "+email+" fly").says("!must be one of read")
	sh.run(0, "person roles "+email)
	sh.run(7, "can "+email+" fly")
	sh.run(0, "team save doors --title Doors --member "+email).says("!team roles doors")
	sh.run(0, "team roles doors releaser --in staging=on-call")
	sh.run(0, "can "+email+" release --env production").says("of the team doors")
	sh.run(0, "team save doors --title 'Door crew'")
	sh.run(0, "team list").says("Door crew", email)
	sh.run(2, "team remove doors").says("!--yes")
	sh.run(0, "team remove doors --yes")
	sh.run(4, "team remove doors --yes")
	sh.run(0, "robot make deployer").says("!robot:deployer")
	for _, line := range sh.pasted() {
		sh.run(0, line)
	}
	if !strings.HasPrefix(sh.out, "gln_") {
		t.Errorf("the token is %q", sh.out)
	}
	sh.run(0, "robot token deployer --only pinecrest/staging=auditor").says("gln_")
	sh.run(2, "robot token deployer --only auditor").says("!--only takes")
	sh.run(4, "robot token nobody")
}

// Where an environment says so, only owners change what a flag gives: by their address, or in a team. Stops are
// anybody's who may stop, and a flag that nobody owns is everybody's.
func TestOwnersOnly(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	for key, owner := range map[string]string{"one-touch-open": "doors", "night-batching": "Juno.Lind@pinecrest.example",
		"weather-holds": ""} {
		body := object{"key": key, "goneBy": "stays", "reason": "first"}
		if owner != "" {
			body["owners"] = []string{owner}
		}
		s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", body, 201, nil)
	}
	juno := s.Person(t, "juno.lind", "releaser")
	noor := s.Person(t, "noor.berg", "releaser")
	s.Keeper.Do(t, "PUT", "/teams/doors", object{"title": "Doors", "members": []string{"noor.berg@pinecrest.example"}}, 200, nil)
	s.Keeper.Do(t, "PATCH", inProd, object{"ownersOnly": true, "reason": "doors are of the door crew"}, 200, nil)
	turned := func(d *flag.Document) {
		if d.Lever == flag.On {
			d.Lever = flag.Off
		} else {
			d.Lever = flag.On
		}
	}
	for key, may := range map[string]map[*gltest.Caller]int{
		"one-touch-open": {&juno: 403, &noor: 200, &s.Keeper: 403},
		"night-batching": {&juno: 200, &noor: 403},
		"weather-holds":  {&juno: 200, &noor: 200, &s.Keeper: 200},
	} {
		for who, want := range may {
			answer := saves(t, *who, "production", key, "", want, turned)
			if want == 403 && !strings.Contains(answer, "is owned by") {
				t.Errorf("the refusal names no owner: %s", answer)
			}
			saves(t, *who, "staging", key, "", 200, turned)
		}
	}
	s.Edit(t, "staging", "one-touch-open", func(d *flag.Document) { d.Lever = flag.On })
	noorTurns := func(d *flag.Document) { d.Lever = flag.On }
	saves(t, noor, "production", "one-touch-open", "", 200, noorTurns)
	plan := object{"from": "off", "to": "on", "reason": "it is time", "stages": []object{{"name": "8 %", "share": 80_000,
		"least": "1h"}}}
	juno.Do(t, "POST", inProd+"/flags/one-touch-open/releases", plan, 403, nil)
	noor.Do(t, "POST", inProd+"/flags/one-touch-open/releases", plan, 201, nil)
	juno.Do(t, "POST", inProd+"/stops", object{"flags": []string{"one-touch-open"}}, 201, nil)
	s.Keeper.Do(t, "PATCH", inProd, object{"ownersOnly": false, "reason": "enough"}, 200, nil)
	saves(t, juno, "production", "one-touch-open", "", 200, func(d *flag.Document) { d.Lever = flag.Off })
}

// Over every route of a project, every role, held everywhere, in one environment, by a team, by a robot or by a narrow
// token: the route lets in whom the table of rights says, and the answer to "who may" is the same.
func TestRightsOfRoutes(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t, func(c *server.Config) { c.Limits = web.DefaultLimits(); c.Limits.Rate = 1e6 })
	s.Flag(t, "a")
	type actor struct {
		caller gltest.Caller
		who    string // as "who may" is asked of them; empty for tokens that may less than their account
		grants app.Grants
	}
	const project, production, staging = 1, 2, 3 // as the grants here call them
	session := s.Session(t, gltest.KeeperEmail)
	actors := map[string]actor{}
	roles := func(path string, role app.Role, in string) {
		body := object{"roles": []app.Role{role}}
		if in != "" {
			body = object{"roles": []app.Role{}, "in": object{in: []app.Role{role}}}
		}
		s.Keeper.Do(t, "PUT", path, body, 200, nil)
	}
	var robot struct{ ID string }
	for i, role := range app.Roles() {
		where := map[string]int64{"": 0}
		if role != app.Keeper {
			where["production"], where["staging"] = production, staging
		}
		for in, id := range where {
			name := fmt.Sprintf("%s-%d-%s", "person", i, in)
			caller := s.Person(t, name)
			roles("/projects/pinecrest/people/"+s.Account(t, name+"@pinecrest.example"), role, in)
			held := app.Grants{{Project: project, Environment: id, Role: role}}
			actors[name] = actor{caller, name + "@pinecrest.example", held}
			if role != app.Releaser && role != app.Keeper { // the other ways are the same for every role
				continue
			}
			name = fmt.Sprintf("member-%d-%s", i, in)
			caller = s.Person(t, name)
			team := fmt.Sprintf("team-%d%s", i, in)
			s.Keeper.Do(t, "PUT", "/teams/"+team, object{"members": []string{name + "@pinecrest.example"}}, 200, nil)
			roles("/projects/pinecrest/teams/"+team, role, in)
			actors[name] = actor{caller, name + "@pinecrest.example", held}
			only := object{"project": "pinecrest", "role": role}
			if in != "" {
				only["environment"] = in
			}
			var made struct{ Secret string }
			s.Keeper.Do(t, "POST", "/robots", object{"key": fmt.Sprintf("robot-%d%s", i, in)}, 201, &robot)
			roles("/projects/pinecrest/people/"+robot.ID, role, "")
			s.Keeper.Do(t, "POST", "/accounts/"+robot.ID+"/tokens", object{"name": "x", "days": 1, "only": []object{only}}, 201, &made)
			actors["robot"+name] = actor{bearer(s.URL(), made.Secret), "", held}
			if role == app.Keeper {
				session.Do(t, "POST", "/me/tokens", object{"name": "narrow", "days": 1, "only": []object{only}}, 201, &made)
				actors["narrow"+name] = actor{bearer(s.URL(), made.Secret), "", held}
			}
		}
	}
	parameter := regexp.MustCompile(`:[a-z]+`)
	tried := 0
	for _, r := range manage.RouteRights() {
		if strings.HasSuffix(r.Path, "/live") {
			continue // it goes on
		}
		environment := int64(0)
		path := strings.Replace(r.Path, ":project", "pinecrest", 1)
		if strings.Contains(path, ":environment") {
			environment = production
			path = strings.Replace(path, ":environment", "production", 1)
		}
		path = parameter.ReplaceAllString(path, "nothing-such")
		for name, who := range actors {
			_, want := who.grants.Allows(r.Action, project, environment)
			if r.Action == "" {
				want = true // whoever reads the project
			}
			status, answer, _, err := who.caller.Send(r.Method, path, []byte("{"))
			if err != nil || (status == 403) == want || status == 401 || status >= 500 {
				t.Errorf("%s %s (%s) as %s: %d %.120s %v", r.Method, path, r.Action, name, status, answer, err)
			}
			tried++
		}
	}
	for name, who := range actors {
		for _, action := range app.Actions() {
			for in, id := range map[string]int64{"": 0, "production": production, "staging": staging} {
				if _, want := who.grants.Allows(action, project, id); who.who != "" && mayDo(t, s.Keeper, who.who, string(action), in).May != want {
					t.Errorf("may %s %s in %q: not %v", name, action, in, want)
				}
			}
		}
	}
	if tried < 1_500 {
		t.Errorf("only %d were tried", tried)
	}
}
