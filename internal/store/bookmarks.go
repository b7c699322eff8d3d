package store

import (
	"fmt"

	"greenlever.example/greenlever/internal/app/bookmarks"
)

var _ = keeps(Kept{Table: "bookmarks", Why: "notes on flags; kept"})

var _ = writes(func(t *Tx, b *bookmarks.Bookmark) error {
	if err := t.exec("REPLACE INTO bookmarks (project_id, flag, note) VALUES (?, ?, ?)", b.ProjectID, b.Flag, b.Note); err != nil {
		return err
	}
	return t.touch(bookmarkRecord(*b))
})

var _ = speaks("project", func(v *reading, id int64) {
	read(v, bookmarkRecord, "SELECT project_id, flag, note FROM bookmarks WHERE project_id = ?", id)
})

func bookmarkRecord(b bookmarks.Bookmark) row {
	return row{of: fmt.Sprintf("bookmarks/%d/%s", b.ProjectID, b.Flag), content: []any{b.Note}}
}
