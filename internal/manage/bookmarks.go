package manage

import (
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/bookmarks"
)

var _ = listed(
	op[bookmarkBody, bookmarks.Bookmark]("PUT", atProject+"/flags/:flag/bookmark", "Note something on a flag",
		(*call).putBookmark).change().needs(app.Define),
)

type bookmarkBody struct {
	bookmarks.Put
	Reason string `json:"reason,omitempty"`
}

func (c *call) putBookmark(in *bookmarkBody) (any, error) { return c.apply(in.Reason, c.Param("flag"), &in.Put) }
