package manage

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

var _ = listed(
	op[none, historyPage]("GET", "/history", "The access chain, newest first", (*call).history).takes("person",
		"from", "to", "cursor", "limit").installation(),
	op[none, historyPage]("GET", atProject+"/history", "Who changed what, newest first",
		(*call).history).takes("environment", "flag", "person", "from", "to", "cursor", "limit").needs(app.Read),
	raw("GET", "/export", (*call).export).installation(),
	raw("GET", atProject+"/export", (*call).export).needs(app.Read),
)

// HistoryEntry is one thing that happened, as the History page shows it.
type HistoryEntry struct {
	Chain       string       `json:"chain"`
	Sequence    int64        `json:"sequence"`
	Digest      string       `json:"digest"`
	At          int64        `json:"at"`
	Actor       app.Actor    `json:"actor"`
	Name        string       `json:"name"` // of the person
	Action      string       `json:"action"`
	Environment string       `json:"environment,omitempty"`
	Subject     string       `json:"subject,omitempty"`
	Change      string       `json:"change"`
	Revision    int64        `json:"revision,omitempty"`
	Version     int64        `json:"version,omitempty"`
	Reason      string       `json:"reason,omitempty"`
	Difference  []words.Said `json:"difference"`
}

type historyPage struct {
	Items  []HistoryEntry `json:"items"`
	Cursor string         `json:"cursor,omitempty"` // of the next page
}

func readAll(texts []string) []words.Said {
	all := make([]words.Said, len(texts))
	for i, t := range texts {
		all[i] = words.Read(t)
	}
	return all
}

const maxPage = 200

func (c *call) history(*none) (any, error) {
	q, names, err := c.query()
	if err != nil {
		return nil, err
	}
	limit := q.Limit
	q.Limit++
	rows, err := c.api.Records.History(c.ctx, *q)
	if err != nil {
		return nil, err
	}
	page := &historyPage{Items: []HistoryEntry{}}
	if len(rows) > limit {
		rows = rows[:limit]
		last := rows[limit-1]
		page.Cursor = fmt.Sprintf("%d.%d.%s", last.At, last.Sequence, last.Chain)
	}
	accounts, err := c.names()
	if err != nil {
		return nil, err
	}
	for i := range rows {
		e, err := rows[i].Read()
		if err != nil {
			return nil, err
		}
		page.Items = append(page.Items, HistoryEntry{e.Chain, e.Sequence, rows[i].Digest, e.At, e.Actor,
			accounts[e.Actor.ID], e.Action,
			names[e.Environment], e.Subject, e.Change, e.Revision, e.Version, e.Reason, readAll(e.Difference)})
	}
	return page, nil
}

// query reads the filter from the address, and gives the names of the environments.
func (c *call) query() (*audit.Query, map[int64]string, error) {
	q := &audit.Query{Limit: 50, Actor: c.QueryParam("person"), Subject: c.QueryParam("flag")}
	names := map[int64]string{}
	if c.p != nil {
		p := c.p
		q.Project = p.ID
		envs, err := c.api.Records.Ever(c.ctx, p.ID)
		if err != nil {
			return nil, nil, err
		}
		for _, e := range envs {
			names[e.ID] = e.Key
			if e.Key == c.QueryParam("environment") {
				q.Environment = e.ID
			}
		}
		if key := c.QueryParam("environment"); key != "" && q.Environment == 0 {
			return nil, nil, app.InvalidField("environment", "there is no environment %s in this project", key)
		}
	}
	for name, into := range map[string]*int64{"from": &q.From, "to": &q.To} {
		if v := c.QueryParam(name); v != "" {
			at, err := parseTime(v)
			if err != nil {
				return nil, nil, app.InvalidField(name, "must be a time such as 2026-11-23T08:00:00Z, a date, or "+
					"Unix milliseconds")
			}
			*into = at
		}
	}
	if v := c.QueryParam("limit"); v != "" {
		n, err := strconv.Atoi(v)
		if err != nil || n < 1 || n > maxPage {
			return nil, nil, app.InvalidField("limit", "must be 1 to %d", maxPage)
		}
		q.Limit = n
	}
	if v := c.QueryParam("cursor"); v != "" {
		parts := strings.SplitN(v, ".", 3)
		if len(parts) == 3 {
			q.Before.At, _ = strconv.ParseInt(parts[0], 10, 64)
			q.Before.Sequence, _ = strconv.ParseInt(parts[1], 10, 64)
			q.Before.Chain = parts[2]
		}
		if q.Before.At == 0 {
			return nil, nil, app.InvalidField("cursor", "is none that this list gave")
		}
	}
	return q, names, nil
}

func parseTime(s string) (int64, error) {
	if ms, err := strconv.ParseInt(s, 10, 64); err == nil {
		return ms, nil
	}
	for _, layout := range []string{time.RFC3339, time.DateOnly} {
		if t, err := time.Parse(layout, s); err == nil {
			return t.UnixMilli(), nil
		}
	}
	return 0, fmt.Errorf("no time: %s", s)
}

// chains gives the chains that the address is about.
func (c *call) chains() ([]audit.Head, error) {
	project := int64(0)
	if c.p != nil {
		project = c.p.ID
	}
	return c.api.Records.Chains(c.ctx, project)
}

// export streams the chains as lines of JSON that can be verified without the service.
func (c *call) export() error {
	a := c.api
	c.ctx = c.Request().Context() // it takes as long as it takes
	if err := a.Sign(c.ctx); err != nil {
		return err
	}
	heads, err := c.chains()
	if err != nil {
		return err
	}
	kept, err := a.Heads()
	if err != nil {
		return err
	}
	w := c.Response()
	stream := http.NewResponseController(w)
	w.Header().Set("Content-Type", "application/jsonl")
	w.Header().Set("Content-Disposition", `attachment; filename="history.jsonl"`)
	var rows int64
	put := func(l audit.Line) error {
		if l.Digest != "" {
			rows++
		}
		raw, err := audit.Encode(l)
		if err != nil {
			return err
		}
		_ = stream.SetWriteDeadline(time.Now().Add(a.Limits.Time))
		_, err = w.Write(raw)
		return err
	}
	for _, h := range heads {
		if err := a.Records.Rows(c.ctx, h.Chain, 0, h.Sequence, func(r *audit.Row) error {
			return put(audit.ExportRow(r))
		}); err != nil {
			return err
		}
		signed, err := a.Records.SignedHeads(c.ctx, h.Chain)
		if err != nil {
			return err
		}
		for i := range signed {
			if signed[i].Sequence > h.Sequence {
				continue // signed after the rows were read
			}
			if err := put(audit.Line{Head: &signed[i]}); err != nil {
				return err
			}
		}
		for i := range kept {
			if kept[i].Chain == h.Chain && kept[i].Sequence <= h.Sequence {
				if err := put(audit.Line{Head: &kept[i]}); err != nil { // out of reach of who can write to the records
					return err
				}
			}
		}
	}
	return put(audit.Line{End: &rows})
}
