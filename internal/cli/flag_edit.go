package cli

import (
	"context"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/app/preview"
)

// edit changes a document: it shows the difference first, asks where the environment asks
// first, and saves.
func (s *session) edit(ctx context.Context, key string, alter func(*flag.Document) error) error {
	a, path, v, err := s.getFlag(ctx, key)
	if err != nil {
		return err
	}
	if err := alter(v.Document); err != nil {
		return err
	}
	body := map[string]any{"document": v.Document, "reason": s.because}
	if v.Environment.AskFirst && s.because == "" {
		body["reason"] = "not said yet" // a dry run shows the difference before the question
	}
	var tried struct {
		flags.Saved
		Preview *preview.Preview `json:"preview"`
	}
	var saved flags.Saved
	if err := a.do(ctx, request{method: "PUT", path: path + "?dryRun=true", body: body, version: v.Version},
		&tried); err != nil {
		return err
	}
	if len(tried.Difference) == 0 {
		s.note("%s is like that already in %s: nothing was changed", key, s.env)
		return s.show(tried.Saved, func() {})
	}
	if s.try {
		return s.tried(tried, tried.Difference, tried.Preview, tried.Document)
	}
	s.notePreview(tried.Difference, tried.Preview, tried.Document)
	if err := s.confirm(nil, v.Environment.AskFirst); err != nil {
		return err
	}
	body["reason"] = s.because
	if v.Environment.AskFirst {
		if body["units"], err = s.confirmSweep(tried.Preview); err != nil {
			return err
		}
	}
	body["document"] = withSalts(v.Document, tried.Document)
	if err := a.do(ctx, request{method: "PUT", path: path, body: body, version: v.Version}, &saved); err != nil {
		return err
	}
	return s.show(saved, func() {
		s.note("saved as version %d, revision %d of %s", saved.Version, saved.Revision, s.env)
		s.say("%s: %s", s.env, wrap(said(saved.Sentence), s.wide(), len(s.env)+2))
	})
}

// withSalts gives conditions, and shares that are drawn anew, the salts that the dry run
// chose, so that what was shown is what happens.
func withSalts(d, tried *flag.Document) *flag.Document {
	take := func(g *flag.Gives, as flag.Gives) {
		if g.Shares != nil && g.Shares.DrawAnew && as.Shares != nil {
			g.Shares.Salt = as.Shares.Salt
		}
	}
	for i := range d.Rules {
		d.Rules[i].When = tried.Rules[i].When
		take(&d.Rules[i].Gives, tried.Rules[i].Gives)
	}
	take(&d.End, tried.End)
	return d
}
