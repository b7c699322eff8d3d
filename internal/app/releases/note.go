package releases

import (
	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
	"greenlever.example/core/stage"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
)

// Note is what is handed over to who comes next: who is affected, what they see, and how it is stopped.
func Note(rel *app.Release, env *app.Environment, def *app.Definition, doc *flag.Document,
	names words.Names) []words.Said {
	p := &rel.State.Plan
	var out []words.Said
	add := func(format string, args ...any) { out = append(out, words.Say(format, args...)) }
	add("%s in %s goes from %s to %s.", words.Name(def.Title), words.Key(env.Key), words.Variant(p.From),
		p.Gives())
	switch at := stage.Serves(p, rel.State.At, names); {
	case rel.State.Is == stage.RolledBack:
		add("Nobody has it by this release any more.")
	case len(at) == 0:
		add("Nobody has it by this release yet.")
	case p.Where != nil:
		add("%s have it, where %s.", at, p.Where.Said(names))
	default:
		add("%s have it.", at)
	}
	add("In all: %s", sentence.Of(doc, false, names))
	if rel.Expected != "" {
		add("Expected: %s", words.Plain(rel.Expected))
	}
	if def.Description != "" {
		add("%s", words.Plain(def.Description))
	}
	if rel.Running() {
		add("To take back what it gave and nothing else: greenlever release roll-back %s --env %s",
			words.Key(rel.Flag),
			words.Key(env.Key))
		stop := words.Say("To give %s to everybody at once: greenlever stop %s --env %s", words.Variant(doc.Resting),
			words.Key(rel.Flag), words.Key(env.Key))
		if def.Loses != "" {
			stop = words.Say("%s (then %s)", stop, words.Plain(def.Loses))
		}
		out = append(out, stop)
	}
	return out
}

// HandOver is what webhooks are told of a release beside the entry of a step.
type HandOver struct {
	ID    string   `json:"id"`
	Is    stage.Is `json:"is"`
	Stage string   `json:"stage,omitempty"` // the name of the present one
	Share uint32   `json:"share"`           // parts per million that have the new variant, of those whom it is for
	Says  string   `json:"says"`
	Note  []string `json:"note"`
}

func handOver(t tx, rel *app.Release, env *app.Environment, doc *flag.Document, names words.Names,
	now int64) (*HandOver, error) {
	def, err := t.Definition(rel.Project, rel.Flag)
	if err != nil {
		return nil, err
	}
	out := &HandOver{ID: rel.ID, Is: rel.State.Is, Share: rel.State.Plan.Reaches(rel.State.At),
		Says: stage.Says(&rel.State, nil, names, now).String(), Note: []string{}}
	if s := rel.State.Stage(); s != nil {
		out.Stage = s.Name
	}
	for _, said := range Note(rel, env, def, doc, names) {
		out.Note = append(out.Note, said.Print(withoutUnits))
	}
	return out, nil
}

// withoutUnits leaves out who is named: other systems are told how it goes, and not of whom.
func withoutUnits(t words.Token) string {
	if t.Kind == words.AUnit {
		return "…"
	}
	return t.String()
}
