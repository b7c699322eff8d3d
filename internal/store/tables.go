package store

import (
	"cmp"
	"fmt"
	"reflect"
	"slices"
)

// Each table group has a file, which says of its tables here how long rows are kept, what a use case
// may write into them, and which of their rows a chain of the audit speaks of.

// Kept says for how long the rows of a table are kept, and why. There is one for every table:
// nothing grows without somebody having thought of it.
type Kept struct {
	Table  string
	Option string // of serve, in days; empty: see Why
	Days   int    // where the option is not given
	Why    string // what the rows are, and when they go
	Bytes  int    // that a change of a flag adds here, about, where 500 instances follow
}

var retention []Kept

// keeps says for how long the rows of tables are kept.
func keeps(all ...Kept) struct{} {
	retention = append(retention, all...)
	return struct{}{}
}

// Retention lists all tables, by name.
func Retention() []Kept {
	all := slices.Clone(retention)
	slices.SortFunc(all, func(a, b Kept) int { return cmp.Compare(a.Table, b.Table) })
	return all
}

var writers = map[reflect.Type]func(*Tx, any) error{}

// writes says how a record of one type is written.
func writes[T any](write func(*Tx, *T) error) struct{} {
	writers[reflect.TypeFor[*T]()] = func(t *Tx, record any) error { return write(t, record.(*T)) }
	return struct{}{}
}

// write writes a record to the table that it belongs to.
func (t *Tx) write(record any) error {
	if write := writers[reflect.TypeOf(record)]; write != nil {
		return write(t, record)
	}
	return fmt.Errorf("%T is nothing that is written", record)
}

var spoken = map[string][]func(v *reading, id int64){}

// speaks says which rows the chains of one kind speak of: environment and project have an id, access
// has none.
func speaks(kind string, rows func(v *reading, id int64)) struct{} {
	spoken[kind] = append(spoken[kind], rows)
	return struct{}{}
}
