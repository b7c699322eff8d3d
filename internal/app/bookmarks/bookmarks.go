// Package bookmarks holds the change of a note on a flag.
package bookmarks

import (
	"context"
	"fmt"

	"greenlever.example/core/diff"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// Bookmark is a note on a flag.
type Bookmark struct {
	ProjectID int64  `json:"-" db:"project_id"`
	Flag      string `json:"flag" db:"flag"`
	Note      string `json:"note" db:"note"`
}

// Put notes something on the flag that the change is of.
type Put struct {
	Note string `json:"note"`
}

// Tx is what the change reads.
type Tx interface {
	LockDefinition(project int64, key string) (*app.Definition, error)
}

// Kinds are the changes of bookmarks.
func Kinds() []*commit.Kind {
	return []*commit.Kind{commit.Of(commit.Kind{Name: "bookmark.put", Says: "Notes something on a flag",
		Action: app.Define, Span: commit.Project, Queued: true}, put)}
}

func put(_ context.Context, m *commit.Moment, in *Put) (*commit.Effects, error) {
	if mend := app.CheckText(in.Note, 1, 500); mend != "" {
		return nil, app.InvalidField("note", "%s", mend)
	}
	if _, err := commit.Narrow[Tx](m).LockDefinition(m.Project.ID, m.Of); err != nil {
		return nil, err
	}
	b := &Bookmark{ProjectID: m.Project.ID, Flag: m.Of, Note: in.Note}
	said := commit.Said("bookmark.put", m.Of, diff.Text(fmt.Sprintf("bookmark: %s", in.Note)))
	return &commit.Effects{Result: b, In: []commit.Effect{{Project: m.Project, Records: []commit.Record{b},
		Entries: []commit.Entry{said}}}}, nil
}
