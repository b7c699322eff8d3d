package store

import (
	"context"
	"fmt"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

var _ = keeps(
	Kept{Table: "test_units", Why: "kept until somebody takes them away"},
)

var _ = writes(func(t *Tx, r *app.TestUnitRecord) error {
	if r.Gone {
		return t.RemoveTestUnit(r.ProjectID, r.Unit)
	}
	return t.PutTestUnit(r.ProjectID, r.TestUnit)
})

var _ = speaks("project", func(v *reading, id int64) {
	read(v, func(u testUnitRow) row { return testUnitRecord(id, u) }, "SELECT unit, name, context, expected "+
		"FROM test_units WHERE project_id = ?", id)
})

type testUnitRow struct {
	Unit     string `db:"unit"`
	Name     string `db:"name"`
	Context  []byte `db:"context"`
	Expected []byte `db:"expected"`
}

// TestUnits lists the test units of a project.
func (s *Store) TestUnits(ctx context.Context, project int64) ([]app.TestUnit, error) {
	rows, err := list[testUnitRow](ctx, s.pages, "SELECT unit, name, context, expected FROM test_units "+
		"WHERE project_id = ? ORDER BY unit", project)
	out := make([]app.TestUnit, 0, len(rows))
	for _, r := range rows {
		expected, e := decode[map[string]string](r.Expected)
		if e != nil {
			return nil, e
		}
		out = append(out, app.TestUnit{Unit: r.Unit, Name: r.Name, Attributes: r.Context, Expected: expected})
	}
	return out, err
}

// PutTestUnit saves a test unit.
func (t *Tx) PutTestUnit(project int64, u *app.TestUnit) error {
	expected := encode(u.Expected)
	if err := t.exec("INSERT INTO test_units (project_id, unit, name, context, expected) VALUES (?, ?, ?, ?, ?) "+
		"ON DUPLICATE KEY UPDATE name = VALUES(name), context = VALUES(context), expected = VALUES(expected)", project,
		u.Unit, u.Name, []byte(u.Attributes), expected); err != nil {
		return err
	}
	return t.touch(testUnitRecord(project, testUnitRow{u.Unit, u.Name, u.Attributes, []byte(expected)}))
}

// RemoveTestUnit takes a test unit away.
func (t *Tx) RemoveTestUnit(project int64, unit string) error {
	res, err := t.tx.ExecContext(t.ctx, "DELETE FROM test_units WHERE project_id = ? AND unit = ?", project, unit)
	if err != nil {
		return err
	}
	n, err := res.RowsAffected()
	if err != nil {
		return err
	}
	if n == 0 {
		return app.Faultf(app.NotFound, "there is no test unit %q", unit)
	}
	gone := testUnitRecord(project, testUnitRow{Unit: unit})
	gone.content = nil
	return t.touch(gone)
}

// testUnitRecord names the unit by a digest: it may be a person.
func testUnitRecord(project int64, u testUnitRow) row {
	return row{of: fmt.Sprintf("test_units/%d/%s", project, audit.Digest([]byte(u.Unit))[:16]),
		content: []any{u.Unit, u.Name, string(u.Context), string(u.Expected)}}
}
