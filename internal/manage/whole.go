package manage

import (
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/files"
	"greenlever.example/greenlever/internal/folder"
)

var _ = listed(
	op[none, folder.Whole]("GET", atProject+"/whole", "A project as files keep it: all that it owns, and its "+
		"documents in every lasting environment", (*call).whole).needs(app.Read),
)

func (c *call) whole(*none) (any, error) {
	records, id := c.api.Records, c.p.ID
	out := &folder.Whole{Project: *c.p, Flags: []folder.WholeFlag{}, Segments: []folder.WholeSegment{}}
	var err error
	read := func(fn func() error) {
		if err == nil {
			err = fn()
		}
	}
	read(func() (err error) { out.Environments, err = records.Environments(c.ctx, id); return err })
	read(func() (err error) { out.Attributes, err = records.Attributes(c.ctx, id); return err })
	read(func() (err error) { out.Ladders, err = records.Ladders(c.ctx, id); return err })
	read(func() (err error) { out.Recipes, err = records.Recipes(c.ctx, id); return err })
	read(func() (err error) { out.Metrics, err = records.Metrics(c.ctx, id); return err })
	read(func() (err error) { out.Policies, err = records.Policies(c.ctx, id); return err })
	read(func() (err error) { out.Bundles, err = records.Bundles(c.ctx, id); return err })
	defs, e := records.Definitions(c.ctx, id)
	read(func() error { return e })
	titles, e := records.SegmentTitles(c.ctx, id)
	read(func() error { return e })
	if err != nil {
		return nil, err
	}
	for i := range defs {
		out.Flags = append(out.Flags, folder.WholeFlag{Definition: defs[i], In: map[string]folder.WholeDocument{}})
	}
	for key, title := range titles {
		out.Segments = append(out.Segments, folder.WholeSegment{Key: key, Title: title,
			In: map[string]folder.WholeSegmentDocument{}})
	}
	slices.SortFunc(out.Segments, func(a, b folder.WholeSegment) int { return strings.Compare(a.Key, b.Key) })
	for i := range out.Environments {
		if err := c.wholeIn(out, &out.Environments[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (c *call) wholeIn(out *folder.Whole, env *app.Environment) error {
	all, err := c.api.Records.FlagsIn(c.ctx, env.ID)
	if err != nil {
		return err
	}
	for i := range all {
		at := slices.IndexFunc(out.Flags, func(f folder.WholeFlag) bool { return f.Definition.Key == all[i].Key })
		if at >= 0 {
			out.Flags[at].In[env.Key] = folder.WholeDocument{Version: all[i].Version, Document: all[i].Document}
		}
	}
	segs, err := c.api.Records.Segments(c.ctx, env.ID)
	if err != nil {
		return err
	}
	for i := range segs {
		at := slices.IndexFunc(out.Segments, func(s folder.WholeSegment) bool { return s.Key == segs[i].Key })
		if at >= 0 {
			out.Segments[at].In[env.Key] = folder.WholeSegmentDocument{Version: segs[i].Version,
				Document: segs[i].Document}
		}
	}
	return nil
}

// schema answers the JSON Schema of a kind of file, such as /schema/v1/flag.json. It is the same for everybody.
func (a *API) schema(c *echo.Context) error {
	kind, is := strings.CutSuffix(c.Param("kind"), ".json")
	if !is || !slices.Contains(files.Kinds(), kind) && kind != "stages" {
		return app.Faultf(app.NotFound, "there is no such schema; those are %s", strings.Join(files.Kinds(), ", "))
	}
	raw, err := files.Schema(kind)
	if err != nil {
		return err
	}
	c.Response().Header().Set("Cache-Control", "public, max-age=3600")
	return c.Blob(http.StatusOK, "application/schema+json", raw)
}
