package store

import (
	"fmt"

	"greenlever.example/core/flag"
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
