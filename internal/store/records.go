package store

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

// What a transaction writes to the records that the chain speaks of, it notes with touch; the
// next entry of the audit holds the digests, and a transaction that would commit without one
// fails. The verifier reads the rows again with recordsOf and compares. Both make a row's
// digest in one place: the functions below.

// touch notes that a row is written as it is in content; none stands for a row that is gone.
func (t *Tx) touch(r row) error {
	secret, err := t.store.secret(t.ctx)
	if err != nil {
		return err
	}
	t.touched = append(t.touched, r.record(secret))
	return nil
}

// row is a row as the chain speaks of it.
type row struct {
	of       string // table and key
	content  []any  // nil: the row is gone
	mayGo    bool   // it is forgotten some day, without an entry
	revision int64  // that the row is of, and the digest of the entry that it names
	entry    string
}

// record is the row's digest, under the installation's secret: rows hold addresses and names,
// which nobody should find by trying.
func (r row) record(secret []byte) audit.Record {
	out := audit.Record{Of: r.of, MayGo: r.mayGo, Revision: r.revision, Entry: r.entry}
	if r.content != nil {
		mac := hmac.New(sha256.New, secret)
		fmt.Fprintf(mac, "greenlever record\n%s\n%s", r.of, encode(r.content))
		out.Digest = hex.EncodeToString(mac.Sum(nil)[:16])
	}
	return out
}

func documentRecord(table string, d documentRow) row {
	return row{of: fmt.Sprintf("%s/%d/%s", table, d.EnvironmentID, d.Key), content: []any{d.Version, d.Revision,
		string(d.Document)}}
}

func versionRecord(table string, d documentRow) row {
	return row{of: fmt.Sprintf("%s/%d/%s/%d", table, d.EnvironmentID, d.Key, d.Version), content: []any{d.Revision,
		string(d.Document)}, mayGo: true}
}

func revisionRecord(environment, revision, at int64, change, event string) row {
	return row{of: fmt.Sprintf("revisions/%d/%d", environment, revision), content: []any{at, change, event},
		mayGo: true}
}

func stopRecord(r stopRow) row {
	return row{of: "stops/" + r.ID, content: []any{r.EnvironmentID, string(r.Flags), r.By, r.At, r.Reason, r.Revision,
		r.LiftedBy, r.LiftedAt, r.LiftedRevision}, mayGo: r.LiftedAt > 0}
}

func deliveryRecord(environment, epoch, revision, at int64, body string) row {
	return row{of: fmt.Sprintf("deliveries/%d/%d/%d", environment, epoch, revision), content: []any{at, body},
		mayGo: true}
}

// usualDays is for how many days units are kept where nobody said otherwise.
const usualDays = 7

func samplingRecord(environment int64, off bool, days int) row {
	r := row{of: fmt.Sprintf("sampling/%d", environment)}
	if off || days != usualDays { // the row is made with what is usual when it is first read
		r.content = []any{off, days}
	}
	return r
}

func environmentRecord(id, project int64, key, title string, askFirst bool, created int64) row {
	return row{of: fmt.Sprintf("environments/%d", id), content: []any{project, key, title, askFirst, created}}
}

func stateRecord(r app.StateRecord) row {
	out := row{of: fmt.Sprintf("environment_states/%d", r.EnvironmentID)}
	if r.State != app.Active {
		out.content = []any{r.State, r.At, r.By}
	}
	return out
}

func projectRecord(id int64, key, title string, created int64) row {
	return row{of: fmt.Sprintf("projects/%d", id), content: []any{key, title, created}}
}

func definitionRecord(d definitionRow) row {
	return row{of: fmt.Sprintf("definitions/%d/%s", d.ProjectID, d.Flag), content: []any{d.Version, string(d.Body)}}
}

func segmentDefinitionRecord(d app.SegmentDefinition) row {
	return row{of: fmt.Sprintf("segment_definitions/%d/%s", d.ProjectID, d.Key), content: []any{d.Title, d.Created}}
}

func attributeRecord(project int64, a attributeRow) row {
	return row{of: fmt.Sprintf("attributes/%d/%s", project, a.Attribute), content: []any{a.Version, string(a.Body)}}
}

// testUnitRecord names the unit by a digest: it may be a person.
func testUnitRecord(project int64, u testUnitRow) row {
	return row{of: fmt.Sprintf("test_units/%d/%s", project, audit.Digest([]byte(u.Unit))[:16]),
		content: []any{u.Unit, u.Name, string(u.Context), string(u.Expected)}}
}

type accountRow struct {
	ID       string `db:"id"`
	Email    string `db:"email"`
	Name     string `db:"name"`
	Password string `db:"password"`
	Keeper   bool   `db:"keeper"`
	Created  int64  `db:"created"`
	Disabled int64  `db:"disabled"`
	By       string `db:"by_id"`
}

const accountRows = "SELECT a.id, a.email, a.name, a.password, a.keeper, a.created, COALESCE(d.at, 0) disabled, " +
	"COALESCE(d.by_id, '') by_id FROM accounts a LEFT JOIN disabled_accounts d ON d.account_id = a.id"

func accountRecord(a accountRow) row {
	return row{of: "accounts/" + a.ID, content: []any{a.Email, a.Name, a.Password, a.Keeper, a.Created, a.Disabled,
		a.By}}
}

func rolesRecord(project int64, account string, roles []string) row {
	r := row{of: fmt.Sprintf("roles/%d/%s", project, account)}
	if len(roles) > 0 {
		r.content = anys(roles)
	}
	return r
}

type tokenRow struct {
	ID      string `db:"id"`
	Account string `db:"account_id"`
	Name    string `db:"name"`
	Digest  []byte `db:"digest"`
	Created int64  `db:"created"`
	Expires int64  `db:"expires"`
}

func tokenRecord(k tokenRow) row {
	return row{of: "tokens/" + k.ID, content: []any{k.Account, k.Name, hex.EncodeToString(k.Digest), k.Created,
		k.Expires}, mayGo: true}
}

type keyRow struct {
	ID          string `db:"id"`
	Environment int64  `db:"environment_id"`
	Kind        string `db:"kind"`
	Purpose     string `db:"purpose"`
	Hint        string `db:"hint"`
	Digest      []byte `db:"digest"`
	Created     int64  `db:"created"`
	Revoked     int64  `db:"revoked"`
	Origins     []byte `db:"origins"`
}

func keyRecord(k keyRow) row {
	return row{of: "access_keys/" + k.ID, content: []any{k.Environment, k.Kind, k.Purpose, k.Hint,
		hex.EncodeToString(k.Digest), k.Created, k.Revoked, string(k.Origins)}, mayGo: k.Revoked > 0}
}

func epochRecord(epoch int64) row { return row{of: "installation/1", content: []any{epoch}} }

// touchRows reads rows that were just written, and notes them.
func touchRows[T any](t *Tx, record func(T) row, query string, args ...any) error {
	var rows []T
	if err := t.list(&rows, query, args...); err != nil {
		return err
	}
	for _, r := range rows {
		if err := t.touch(record(r)); err != nil {
			return err
		}
	}
	return nil
}

// Records reads all rows that a chain speaks of, with their digests.
func (s *Store) Records(ctx context.Context, chain string, visit func(audit.Record)) error {
	r, err := s.reading(ctx, chain)
	for done := err != nil; !done && err == nil; {
		done, err = r.next(ctx, visit)
	}
	return err
}

// reading reads the rows that a chain speaks of, table by table, and large ones in pages.
type reading struct {
	s      *Store
	secret []byte
	parts  []part
}

// part reads some rows; done tells that there are no more of them.
type part func(ctx context.Context, visit func(row)) (done bool, err error)

func (s *Store) reading(ctx context.Context, chain string) (*reading, error) {
	secret, err := s.secret(ctx)
	if err != nil {
		return nil, err
	}
	v := &reading{s: s, secret: secret}
	kind, number, _ := strings.Cut(chain, ":")
	id, _ := strconv.ParseInt(number, 10, 64)
	switch kind {
	case "environment":
		v.environment(id)
	case "project":
		v.project(id)
	case audit.Access:
		v.access()
	}
	return v, nil
}

// next reads one part; done tells that it was the last.
func (v *reading) next(ctx context.Context, visit func(audit.Record)) (done bool, err error) {
	if len(v.parts) == 0 {
		return true, nil
	}
	over, err := v.parts[0](ctx, func(r row) {
		if r.content != nil {
			visit(r.record(v.secret))
		}
	})
	if err == nil && over {
		v.parts = v.parts[1:]
	}
	return len(v.parts) == 0, err
}

// read adds a table that is read at once.
func read[T any](v *reading, record func(T) row, query string, args ...any) {
	v.parts = append(v.parts, func(ctx context.Context, visit func(row)) (bool, error) {
		return true, stream(ctx, v.s, func(one T) { visit(record(one)) }, query, args...)
	})
}

// pageRows is how many rows of a large table are read at a time.
const pageRows = 4_000

// readPages adds a table that is read in pages, in an order; behind says what comes after a row.
func readPages[T any](v *reading, record func(T) row, query string, args []any, order string,
	behind func(T) (string, []any)) {
	var last *T
	v.parts = append(v.parts, func(ctx context.Context, visit func(row)) (bool, error) {
		page, with := query, args
		if last != nil {
			condition, more := behind(*last)
			page, with = page+" AND "+condition, append(slices.Clone(with), more...)
		}
		n := 0
		err := stream(ctx, v.s, func(one T) {
			visit(record(one))
			last = &one
			n++
		}, fmt.Sprintf("%s ORDER BY %s LIMIT %d", page, order, pageRows), with...)
		return n < pageRows, err
	})
}

func stream[T any](ctx context.Context, s *Store, visit func(T), query string, args ...any) error {
	rows, err := s.pages.QueryxContext(ctx, query, args...)
	if err != nil {
		return fault(err)
	}
	defer rows.Close()
	for rows.Next() {
		var one T
		if err := rows.StructScan(&one); err != nil {
			return err
		}
		visit(one)
	}
	return fault(rows.Err())
}

func (v *reading) environment(id int64) {
	for _, t := range []struct{ table, versions, key string }{{"flags", "flag_versions", "flag"},
		{"segments", "segment_versions", "segment"}} {
		columns := "environment_id, " + t.key + " doc_key, version, revision, document"
		read(v, func(d documentRow) row { return documentRecord(t.table, d) }, "SELECT "+columns+" FROM "+t.table+
			" WHERE environment_id = ?", id)
		readPages(v, func(d documentRow) row { return versionRecord(t.versions, d) },
			"SELECT "+columns+" FROM "+t.versions+" WHERE environment_id = ?", []any{id}, t.key+", version",
			func(d documentRow) (string, []any) {
				return "(" + t.key + " > ? OR " + t.key + " = ? AND version > ?)", []any{d.Key, d.Key, d.Version}
			})
	}
	type revision struct {
		Revision int64  `db:"revision"`
		At       int64  `db:"at"`
		Change   string `db:"change_id"`
		Event    []byte `db:"event"`
		Digest   string `db:"digest"`
	}
	readPages(v, func(r revision) row {
		out := revisionRecord(id, r.Revision, r.At, r.Change, string(r.Event))
		out.revision, out.entry = r.Revision, r.Digest
		return out
	}, "SELECT revision, at, change_id, event, digest FROM revisions WHERE environment_id = ?", []any{id}, "revision",
		func(r revision) (string, []any) { return "revision > ?", []any{r.Revision} })
	read(v, stateRecord, "SELECT environment_id, state, at, by_id FROM environment_states WHERE environment_id = ?",
		id)
	read(v, stopRecord, "SELECT "+stopColumns+" FROM stops WHERE environment_id = ?", id)
	type delivery struct {
		Epoch    int64  `db:"epoch"`
		Revision int64  `db:"revision"`
		At       int64  `db:"at"`
		Body     []byte `db:"body"`
	}
	readPages(v, func(d delivery) row { return deliveryRecord(id, d.Epoch, d.Revision, d.At, string(d.Body)) },
		"SELECT epoch, revision, at, body FROM deliveries WHERE environment_id = ? AND at > 0 "+
			"AND JSON_VALUE(body, '$.expected') > 0", []any{id}, "epoch, revision",
		func(d delivery) (string, []any) {
			return "(epoch > ? OR epoch = ? AND revision > ?)", []any{d.Epoch, d.Epoch, d.Revision}
		})
	type sampling struct {
		Off  bool `db:"off"`
		Days int  `db:"days"`
	}
	read(v, func(r sampling) row { return samplingRecord(id, r.Off, r.Days) }, "SELECT off, days FROM sampling "+
		"WHERE environment_id = ?", id)
	type place struct {
		ID       int64  `db:"id"`
		Project  int64  `db:"project_id"`
		Key      string `db:"environment_key"`
		Title    string `db:"title"`
		AskFirst bool   `db:"ask_first"`
		Created  int64  `db:"created"`
		Revision int64  `db:"revision"`
	}
	read(v, func(p place) row { return environmentRecord(p.ID, p.Project, p.Key, p.Title, p.AskFirst, p.Created) },
		"SELECT id, project_id, environment_key, title, ask_first, created, revision FROM environments WHERE id = ?",
		id)
}

func (v *reading) project(id int64) {
	type place struct {
		Key     string `db:"project_key"`
		Title   string `db:"title"`
		Created int64  `db:"created"`
	}
	read(v, func(p place) row { return projectRecord(id, p.Key, p.Title, p.Created) },
		"SELECT project_key, title, created FROM projects WHERE id = ?", id)
	read(v, definitionRecord, "SELECT "+definitionColumns+" FROM definitions WHERE project_id = ?", id)
	read(v, segmentDefinitionRecord, "SELECT project_id, segment, title, created FROM segment_definitions "+
		"WHERE project_id = ?", id)
	read(v, func(a attributeRow) row { return attributeRecord(id, a) }, "SELECT attribute, version, body "+
		"FROM attributes WHERE project_id = ?", id)
	read(v, func(u testUnitRow) row { return testUnitRecord(id, u) }, "SELECT unit, name, context, expected "+
		"FROM test_units WHERE project_id = ?", id)
}

func (v *reading) access() {
	read(v, accountRecord, accountRows)
	read(v, tokenRecord, "SELECT "+tokenColumns+" FROM tokens")
	read(v, keyRecord, "SELECT "+keyColumns+" FROM access_keys")
	type roles struct {
		Project int64  `db:"project_id"`
		Account string `db:"account_id"`
		Roles   string `db:"roles"`
	}
	read(v, func(r roles) row { return rolesRecord(r.Project, r.Account, strings.Split(r.Roles, ",")) },
		"SELECT project_id, account_id, GROUP_CONCAT(role ORDER BY role SEPARATOR ',') roles FROM roles "+
			"GROUP BY project_id, account_id")
	type installation struct {
		Epoch int64 `db:"epoch"`
	}
	read(v, func(i installation) row { return epochRecord(i.Epoch) }, "SELECT epoch FROM installation")
}

// perEntry is how many records one entry takes over.
const perEntry = 500

// AdoptRecords has the chains speak of rows as they stand that were written by programs which
// do not say what they write, so that they are compared from now on: those of before the chain
// held digests, and those that a process of the release before wrote beside this one. Such a
// process is among the instances; it is taken out once it is away and its rows are taken over.
func (s *Store) AdoptRecords(ctx context.Context, entry func(chain string) audit.Entry) error {
	var older bool
	if err := s.pages.GetContext(ctx, &older,
		"SELECT EXISTS (SELECT 1 FROM instances WHERE kind = 'service')"); err != nil {
		return fault(err)
	}
	chains, err := list[string](ctx, s.pages, "SELECT chain FROM audit_heads WHERE sequence > 0 AND (? "+
		"OR NOT EXISTS (SELECT 1 FROM audit a WHERE a.chain = audit_heads.chain AND a.entry LIKE '%\"records\":[%'))",
		older)
	if err != nil {
		return err
	}
	for _, chain := range chains {
		if err := s.background(ctx, func(t *Tx) error { return t.adopt(chain, older, entry(chain)) }); err != nil {
			return err
		}
	}
	if !older {
		return nil
	}
	_, err = s.work.ExecContext(ctx, "DELETE FROM instances WHERE kind = 'service' AND (gone "+
		"OR seen < (UNIX_TIMESTAMP() - ?) * 1000)", awayAfter)
	return fault(err)
}

// awayAfter is after how many seconds without a word a process of the release before is away.
const awayAfter = 120

// adopt reads the rows while the chain's head is held: whoever writes one now waits for that.
func (t *Tx) adopt(chain string, again bool, entry audit.Entry) error {
	var sequence int64
	if err := t.get(&sequence, "SELECT sequence FROM audit_heads WHERE chain = ? FOR UPDATE", chain); err != nil {
		return err
	}
	var has bool // another node may have been first
	if err := t.get(&has, "SELECT EXISTS (SELECT 1 FROM audit WHERE chain = ? AND action = ?)", chain,
		audit.Adopted); err != nil || has && !again {
		return err
	}
	var all []audit.Record
	if err := t.store.Records(t.ctx, chain, func(r audit.Record) { all = append(all, r) }); err != nil {
		return err
	}
	for i := 0; i < len(all); i += perEntry {
		t.touched = all[i:min(i+perEntry, len(all))]
		if _, err := t.Append(chain, entry, nil); err != nil {
			return err
		}
	}
	return nil
}

// NoteInstallation has the next entry speak of the installation's row.
func (t *Tx) NoteInstallation() error {
	epoch, err := t.Epoch()
	if err != nil {
		return err
	}
	return t.touch(epochRecord(epoch))
}
