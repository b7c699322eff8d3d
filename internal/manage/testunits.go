package manage

import (
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/testunits"
)

var _ = listed(
	op[none, listOf[app.TestUnit]]("GET", atProject+"/test-units", "The test units",
		(*call).testUnits).needs(app.Read),
	op[testUnitsBody, savedUnits]("PUT", atProject+"/test-units", "Save test units",
		(*call).putTestUnits).change().needs(app.Define),
	op[testunits.Remove, removedUnit]("POST", atProject+"/test-units/remove", "Take a test unit away",
		(*call).removeTestUnit).change().needs(app.Define),
)

type savedUnits struct {
	Saved int `json:"saved"`
}

type removedUnit struct {
	Removed string `json:"removed"`
}

func (c *call) testUnits(*none) (any, error) {
	p := c.p
	items, err := c.api.Records.TestUnits(c.ctx, p.ID)
	return listOf[app.TestUnit]{items}, err
}

type testUnitsBody struct {
	testunits.Put
	Reason string `json:"reason,omitempty"`
}

func (c *call) putTestUnits(in *testUnitsBody) (any, error) {
	return c.apply(in.Reason, "", &in.Put)
}

func (c *call) removeTestUnit(in *testunits.Remove) (any, error) { return c.apply("", "", in) }
