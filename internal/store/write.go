package store

import (
	"fmt"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

// Write writes a record to the table that it belongs to, and gives what the audit says of the
// rows: whoever writes it enters that.
func (t *Tx) Write(record any) ([]audit.Record, error) {
	if len(t.touched) > 0 {
		return nil, fmt.Errorf("records were written without an entry in the audit: %s", t.touched[0].Of)
	}
	err := t.write(record)
	notes := t.touched
	t.touched = nil
	return notes, err
}

// write is the one list of what a use case can write as a record.
func (t *Tx) write(record any) error {
	switch r := record.(type) {
	case *app.Project:
		return t.AddProject(r)
	case *app.Environment:
		if r.ID == 0 {
			return t.AddEnvironment(r)
		}
		return t.UpdateEnvironment(r)
	case *app.StateRecord:
		return t.SetState(r)
	case *app.Definition:
		if r.Version == 1 {
			return t.AddDefinition(r)
		}
		return t.UpdateDefinition(r)
	case *app.SegmentDefinition:
		return t.AddSegmentDefinition(r)
	case *app.FlagRecord:
		return t.PutFlag(r)
	case *app.SegmentRecord:
		return t.PutSegment(r)
	case *app.ListRecord:
		return t.PutList(r.ProjectID, r.List, r.Base, r.At)
	case *app.StopRecord:
		return t.AddStop(r)
	case *app.Lift:
		return t.LiftStops(r)
	case *app.AccessKey:
		if r.Revoked > 0 {
			return t.RevokeAccessKey(r.ID, r.Revoked)
		}
		return t.AddAccessKey(r)
	case *app.RolesRecord:
		return t.SetRoles(r)
	case *app.AttributeRecord:
		if r.Gone {
			return t.RemoveAttribute(r.ProjectID, r.Name)
		}
		return t.PutAttribute(r.ProjectID, r.Attribute)
	case *app.TestUnitRecord:
		if r.Gone {
			return t.RemoveTestUnit(r.ProjectID, r.Unit)
		}
		return t.PutTestUnit(r.ProjectID, r.TestUnit)
	case *app.SamplingRecord:
		return t.SetSampling(r)
	case *app.Erasure:
		return t.EraseUnit(r)
	case *app.GoneRecord:
		return t.AccountFor(r)
	case *app.Account:
		return t.AddAccount(r)
	case *app.Session:
		return t.AddSession(r)
	case *app.Token:
		return t.AddToken(r)
	case *app.EpochRecord:
		return t.RaiseEpoch(r)
	}
	return fmt.Errorf("%T is nothing that is written", record)
}

// Enter appends entries to a chain, in order. Those of a revision come with its event, which gets
// its epoch, its digest and its proof.
func (t *Tx) Enter(chain string, entries []audit.Entry, personal [][]string, e *flag.Event) (err error) {
	if e == nil {
		_, err = t.AppendAll(chain, entries, personal)
		return err
	}
	environment, change := entries[0].Environment, entries[0].Change
	if e.Epoch, err = t.Epoch(); err != nil {
		return err
	}
	if err := t.NoteRevision(environment, e, change); err != nil {
		return err
	}
	if e.Digest, err = t.AppendAll(chain, entries, personal); err != nil {
		return err
	}
	return t.AddRevision(environment, e, change)
}
