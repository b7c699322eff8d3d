package store

import (
	"fmt"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "environment_freezes", Why: "a row for each environment that is frozen at times"},
)

var _ = writes((*Tx).SetFreezes)

var _ = speaks("environment", func(v *reading, id int64) {
	read(v, freezeRecord, "SELECT environment_id, body FROM environment_freezes WHERE environment_id = ?", id)
})

type freezeRow struct {
	Environment int64  `db:"environment_id"`
	Body        string `db:"body"`
}

func freezeRecord(r freezeRow) row {
	out := row{of: fmt.Sprintf("environment_freezes/%d", r.Environment)}
	if r.Body != "" {
		out.content = []any{r.Body}
	}
	return out
}

// SetFreezes keeps the freezes of an environment.
func (t *Tx) SetFreezes(r *app.FreezeRecord) error {
	if err := t.exec("DELETE FROM environment_freezes WHERE environment_id = ?", r.EnvironmentID); err != nil {
		return err
	}
	if len(r.Freezes) == 0 {
		return t.touch(freezeRecord(freezeRow{r.EnvironmentID, ""}))
	}
	body := encode(r.Freezes)
	if err := t.exec("INSERT INTO environment_freezes (environment_id, body) VALUES (?, ?)", r.EnvironmentID,
		body); err != nil {
		return err
	}
	return t.touch(freezeRecord(freezeRow{r.EnvironmentID, body}))
}
