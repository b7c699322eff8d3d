package commit

import (
	"encoding/json"
	"errors"
	"slices"

	"greenlever.example/greenlever/internal/app"
)

// Back is a change of the same thing by which this one is taken back. The version is the one that this change makes.
func (m *Moment) Back(do any, version ...int64) []Change {
	return []Change{{In: In{Project: m.Project}, Of: m.Of, Do: do, Versions: version}}
}

// reversible keeps what takes a change back.
func (t *transaction) reversible(back []Change) error {
	for _, c := range slices.Backward(back) {
		raw, err := t.service.Kinds.Write(c)
		if err != nil {
			return err
		}
		if t.back == nil {
			t.back = map[int64][]json.RawMessage{}
		}
		id := c.In.Project.ID
		t.back[id] = append([]json.RawMessage{raw}, t.back[id]...)
	}
	return nil
}

// keepBack writes down what takes the changes back.
func (t *transaction) keepBack() error {
	for _, project := range sorted(t.back) {
		if t.request.DryRun {
			break
		}
		if _, err := t.tx.Write(&app.Inverses{ProjectID: project, Change: t.change, At: t.at,
			Items: t.back[project]}); err != nil {
			return err
		}
	}
	return nil
}

// which says of a refusal which of several changes it is of.
func which(err error, c task, of int) error {
	f := new(app.Fault)
	if of < 2 || !errors.As(err, &f) {
		return err
	}
	more := map[string]any{"change": c.at, "of": c.Of}
	if c.In.Environment != nil {
		more["environment"] = c.In.Environment.Key
	}
	for name, v := range f.More {
		more[name] = v
	}
	f.More = more
	return err
}

// sorted are the keys of a map, ascending.
func sorted[T any](ids map[int64]T) []int64 {
	var out []int64
	for id := range ids {
		out = append(out, id)
	}
	slices.Sort(out)
	return out
}

// latest keeps the last of the documents with one key, in the order of the first.
func latest(documents []json.RawMessage) (out []json.RawMessage, err error) {
	at := map[string]int{}
	for _, raw := range documents {
		var d struct{ Key string }
		if err := json.Unmarshal(raw, &d); err != nil {
			return nil, err
		}
		if i, is := at[d.Key]; is {
			out[i] = raw
			continue
		}
		at[d.Key] = len(out)
		out = append(out, raw)
	}
	return out, nil
}
