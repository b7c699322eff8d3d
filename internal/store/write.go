package store

import (
	"fmt"

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

// Enter appends entries to a chain, in order, and posts what webhooks are told of them.
func (t *Tx) Enter(w *audit.Written) (err error) {
	e := w.Event
	if e == nil {
		if _, err = t.AppendAll(w.Chain, w.Entries, w.Personal); err != nil {
			return err
		}
		return t.post(w)
	}
	environment, change := w.Entries[0].Environment, w.Entries[0].Change
	if e.Epoch, err = t.Epoch(); err != nil {
		return err
	}
	if err := t.NoteRevision(environment, e, change); err != nil {
		return err
	}
	if e.Digest, err = t.AppendAll(w.Chain, w.Entries, w.Personal); err != nil {
		return err
	}
	if err := t.AddRevision(environment, e, change); err != nil {
		return err
	}
	return t.post(w)
}
