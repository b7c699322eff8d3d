package store

import (
	"context"
	"encoding/hex"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "calendar_addresses", Why: "kept until somebody takes them away"},
)

var _ = writes((*Tx).AddCalendarAddress)

var _ = writes((*Tx).DropCalendarAddress)

var _ = speaks("project", func(v *reading, id int64) {
	read(v, calendarRecord, "SELECT "+calendarColumns+" FROM calendar_addresses WHERE project_id = ?", id)
})

const calendarColumns = "id, account_id, project_id, made, digest"

func calendarRecord(a app.CalendarAddress) row {
	out := row{of: "calendar_addresses/" + a.ID}
	if len(a.Digest) > 0 {
		out.content = []any{a.AccountID, a.Made, hex.EncodeToString(a.Digest)}
	}
	return out
}

// AddCalendarAddress keeps an address.
func (t *Tx) AddCalendarAddress(a *app.CalendarAddress) error {
	if err := t.exec("INSERT INTO calendar_addresses ("+calendarColumns+") VALUES (?, ?, ?, ?, ?)", a.ID, a.AccountID,
		a.ProjectID, a.Made, a.Digest); err != nil {
		return err
	}
	return t.touch(calendarRecord(*a))
}

// DropCalendarAddress takes an address away.
func (t *Tx) DropCalendarAddress(a *app.CalendarGone) error {
	if err := t.exec("DELETE FROM calendar_addresses WHERE id = ?", a.ID); err != nil {
		return err
	}
	return t.touch(calendarRecord(app.CalendarAddress{ID: a.ID}))
}

// CalendarAddresses lists those of somebody in a project.
func (r reader) CalendarAddresses(account string, project int64) ([]app.CalendarAddress, error) {
	return list[app.CalendarAddress](r.ctx, r.q, "SELECT "+calendarColumns+" FROM calendar_addresses WHERE "+
		"account_id = ? "+
		"AND project_id = ? ORDER BY made", account, project)
}

// CalendarAddresses lists those of somebody in a project.
func (s *Store) CalendarAddresses(ctx context.Context, account string, project int64) ([]app.CalendarAddress, error) {
	return reader{ctx, s.door}.CalendarAddresses(account, project)
}

// CalendarAddress finds an address by the digest of its secret.
func (s *Store) CalendarAddress(ctx context.Context, digest []byte) (*app.CalendarAddress, error) {
	return get[app.CalendarAddress](ctx, s.door, "there is no calendar at this address: it was taken away, or "+
		"mistyped",
		"SELECT "+calendarColumns+" FROM calendar_addresses WHERE digest = ?", digest)
}
