package admit

import (
	"context"
	"strings"
	"testing"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

// What an environment wants signed is signed by those who count; the lever alone may be turned; an author without the
// right has that of one who signed; in a freeze it takes one signature more.
func TestSigned(t *testing.T) {
	who := func(kind string, grants app.Grants, is ...string) app.Actor {
		return app.Actor{Kind: kind, ID: "x", Grants: grants, Is: is}
	}
	dev, rel := app.Everywhere(1, app.Developer), app.Everywhere(1, app.Releaser)
	oncall := app.Everywhere(1, app.OnCall)
	on, off := &flag.Document{Key: "doors", Lever: flag.On}, &flag.Document{Key: "doors", Lever: flag.Off}
	other := &flag.Document{Key: "doors", Lever: flag.Off, Resting: "off"}
	two := app.Signing{Need: 2, Roles: []app.Role{app.Releaser}, Teams: []string{"doors"}, Lever: true}
	for name, c := range map[string]struct {
		author  app.Actor
		signing app.Signing
		signers []app.Actor
		after   *flag.Document
		frozen  bool
		says    string // empty: it passes
	}{
		"alone":                        {who("person", dev), two, nil, other, false, "wants 2 signatures of releaser, team doors"},
		"one":                          {who("person", dev), two, []app.Actor{who("person", rel)}, other, false, "and has 1"},
		"two":                          {who("person", dev), two, []app.Actor{who("person", rel), who("person", oncall, "doors")}, other, false, ""},
		"who does not count":           {who("person", dev), two, []app.Actor{who("person", rel), who("person", oncall)}, other, false, "and has 1"},
		"a robot":                      {who("person", dev), two, []app.Actor{who("person", rel), who("robot", rel)}, other, false, "and has 1"},
		"the lever alone":              {who("person", dev), two, nil, off, false, ""},
		"nothing wanted":               {who("person", dev), app.Signing{}, nil, other, false, ""},
		"no right, and nobody signs":   {who("person", oncall), app.Signing{}, nil, other, false, "roles developer"},
		"no right, and one signs":      {who("person", oncall), app.Signing{}, []app.Actor{who("person", rel)}, other, false, ""},
		"no right, and one without":    {who("person", oncall), app.Signing{}, []app.Actor{who("person", oncall)}, other, false, "roles developer"},
		"nobody here, and one signs":   {who("person", app.Everywhere(1, app.Auditor)), app.Signing{}, []app.Actor{who("person", rel)}, other, false, "to propose"},
		"frozen":                       {who("person", dev), two, []app.Actor{who("person", rel), who("person", rel)}, other, true, "is frozen"},
		"frozen, and one more signs":   {who("person", dev), two, []app.Actor{who("person", rel), who("person", rel), who("person", rel)}, other, true, ""},
		"frozen, of one without wants": {who("person", dev), app.Signing{}, []app.Actor{who("person", rel)}, other, true, ""},
	} {
		env := &app.Environment{ID: 5, ProjectID: 1, Key: "production", Signing: c.signing}
		if c.frozen {
			env.Freezes = app.Freezes{{Reason: "fair", From: 1, To: 100}}
		}
		err := Pass(context.Background(), &Case{Actor: &c.author, Action: app.ReleaseIt, Project: 1, Environment: env, Now: 50,
			Guarded: true, Signs: true, Signers: c.signers, Before: on, After: c.after})
		if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
