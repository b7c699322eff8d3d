package store

import (
	"fmt"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "environment_asks", Why: "a row for each environment that asks for more than a reason"},
)

var _ = writes((*Tx).SetAsks)

var _ = speaks("environment", func(v *reading, id int64) {
	read(v, asksRecord, "SELECT environment_id, owners_only, signing FROM environment_asks WHERE environment_id "+
		"= ?", id)
})

type asksRow struct {
	Environment int64  `db:"environment_id"`
	OwnersOnly  bool   `db:"owners_only"`
	Signing     string `db:"signing"`
}

func asksRecord(r asksRow) row {
	out := row{of: fmt.Sprintf("environment_asks/%d", r.Environment)}
	switch {
	case r.Signing != "":
		out.content = []any{r.OwnersOnly, r.Signing}
	case r.OwnersOnly:
		out.content = []any{r.OwnersOnly}
	}
	return out
}

// SetAsks keeps what an environment asks for.
func (t *Tx) SetAsks(r *app.AsksRecord) error {
	if err := t.exec("DELETE FROM environment_asks WHERE environment_id = ?", r.EnvironmentID); err != nil {
		return err
	}
	row := asksRow{Environment: r.EnvironmentID, OwnersOnly: r.OwnersOnly}
	if r.Signing.Need > 0 {
		row.Signing = encode(r.Signing)
	}
	if row.OwnersOnly || row.Signing != "" {
		if err := t.exec("INSERT INTO environment_asks (environment_id, owners_only, signing) VALUES (?, ?, ?)",
			row.Environment, row.OwnersOnly, row.Signing); err != nil {
			return err
		}
	}
	return t.touch(asksRecord(row))
}

// Owners are those who answer for a flag.
func (r reader) Owners(project int64, key string) ([]string, error) {
	bodies, err := list[[]byte](r.ctx, r.q, "SELECT body FROM definitions WHERE project_id = ? AND flag "+
		"= ?", project, key)
	if err != nil || len(bodies) == 0 {
		return nil, err
	}
	d, err := decodeDefinition(bodies[0])
	return d.Owners, err
}
