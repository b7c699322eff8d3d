package store

import (
	"context"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "device_asks", Why: "programs that wait to be let in; they go after minutes"},
)

const deviceColumns = "digest, user_code, name, address, created, expires, polled, state, account_id"

// AskForDevice keeps that a program waits to be let in; false where there are too many already.
func (s *Store) AskForDevice(ctx context.Context, d *app.DeviceAsk, most int) (bool, error) {
	if _, err := s.door.ExecContext(ctx, "DELETE FROM device_asks WHERE expires < ?", d.Created); err != nil {
		return false, fault(err)
	}
	n, err := get[int](ctx, s.door, "", "SELECT COUNT(*) FROM device_asks")
	if err != nil || *n >= most {
		return false, err
	}
	_, err = s.door.ExecContext(ctx, "INSERT INTO device_asks ("+deviceColumns+") VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
		d.Digest, d.Code, d.Name, d.Address, d.Created, d.Expires, d.Polled, d.State, d.Account)
	return err == nil, fault(err)
}

// DeviceAsk finds the program that waits under a person's code.
func (s *Store) DeviceAsk(ctx context.Context, code string, now int64) (*app.DeviceAsk, error) {
	return get[app.DeviceAsk](ctx, s.door, "no program waits under this code: it was used, or has expired",
		"SELECT "+deviceColumns+" FROM device_asks WHERE user_code = ? AND expires > ? AND state = 0", code, now)
}

// AnswerDevice lets a program in that waits under a code, for an account, or refuses it; false where none waits.
func (s *Store) AnswerDevice(ctx context.Context, code, account string, state app.DeviceState, now int64) (bool,
	error) {
	res, err := s.door.ExecContext(ctx, "UPDATE device_asks SET state = ?, account_id = ? WHERE user_code = ? "+
		"AND expires > ? AND state = 0", state, account, code, now)
	if err != nil {
		return false, fault(err)
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// PollDevice gives how it stood with a program, and notes when it asked; nil where it is not known. One that was
// answered is there once: of two who ask at a time one gets it.
func (s *Store) PollDevice(ctx context.Context, digest []byte, now int64) (*app.DeviceAsk, error) {
	all, err := list[app.DeviceAsk](ctx, s.door, "SELECT "+deviceColumns+" FROM device_asks WHERE digest = ?", digest)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	d := &all[0]
	if d.State == app.DeviceAsked {
		_, err := s.door.ExecContext(ctx, "UPDATE device_asks SET polled = ? WHERE digest = ?", now, digest)
		return d, fault(err)
	}
	res, err := s.door.ExecContext(ctx, "DELETE FROM device_asks WHERE digest = ?", digest)
	if err != nil {
		return nil, fault(err)
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return nil, err
	}
	return d, nil
}
