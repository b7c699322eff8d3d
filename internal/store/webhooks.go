package store

import (
	"context"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

var _ = keeps(
	Kept{Table: "webhooks", Why: "kept, also when they are taken away, since notices speak of them"},
	Kept{Table: "notices", Option: "keep-notices", Days: 14, Why: "what webhooks were told, or could not be told; " +
		"what waits stays until it arrived or was parked"},
)

var (
	_ = writes((*Tx).PutWebhook)
	_ = writes((*Tx).ReplayNotices)
)

var _ = speaks("project", func(v *reading, id int64) {
	read(v, func(r webhookRow) row { return webhookRecord(r) }, "SELECT id, project_id, gone, quiet, body FROM "+
		"webhooks WHERE project_id = ?", id)
})

type webhookRow struct {
	ID      string `db:"id"`
	Project int64  `db:"project_id"`
	Gone    bool   `db:"gone"`
	Quiet   bool   `db:"quiet"`
	Body    []byte `db:"body"`
}

type webhookBody struct {
	app.Webhook
	Kept []app.Secret `json:"secrets"`
}

func (r webhookRow) webhook() (app.Webhook, error) {
	b, err := decode[webhookBody](r.Body)
	w := b.Webhook
	w.ID, w.Project, w.Gone, w.Secrets = r.ID, r.Project, r.Gone, b.Kept
	return w, err
}

func webhookRecord(r webhookRow) row {
	return row{of: "webhooks/" + r.ID, content: []any{r.Gone, r.Quiet, string(r.Body)}}
}

func webhooks(rows []webhookRow, err error) ([]app.Webhook, error) {
	out := make([]app.Webhook, 0, len(rows))
	for _, r := range rows {
		w, e := r.webhook()
		if e != nil {
			return nil, e
		}
		out = append(out, w)
	}
	return out, err
}

// Webhooks lists the webhooks of a project.
func (r reader) Webhooks(project int64) ([]app.Webhook, error) {
	return webhooks(list[webhookRow](r.ctx, r.q, "SELECT id, project_id, gone, quiet, body FROM webhooks WHERE "+
		"project_id = ? AND gone = 0 ORDER BY id", project))
}

// Webhooks lists the webhooks of a project.
func (s *Store) Webhooks(ctx context.Context, project int64) ([]app.Webhook, error) {
	return reader{ctx, s.pages}.Webhooks(project)
}

// AllWebhooks lists the webhooks of all projects.
func (s *Store) AllWebhooks(ctx context.Context) ([]app.Webhook, error) {
	return webhooks(list[webhookRow](ctx, s.pools.work, "SELECT id, project_id, gone, quiet, body FROM webhooks "+
		"ORDER BY id"))
}

// PutWebhook saves a webhook.
func (t *Tx) PutWebhook(w *app.Webhook) error {
	row := webhookRow{w.ID, w.Project, w.Gone, w.Off, []byte(encode(webhookBody{*w, w.Secrets}))}
	if err := t.later("INSERT INTO webhooks (id, project_id, gone, quiet, body) VALUES (?, ?, ?, ?, ?) ON "+
		"DUPLICATE KEY UPDATE gone = VALUES(gone), quiet = VALUES(quiet), body = VALUES(body)", row.ID, row.Project,
		row.Gone, w.Off, string(row.Body)); err != nil {
		return err
	}
	if w.Gone { // nobody is told any more
		if err := t.later("DELETE FROM notices WHERE webhook = ?", w.ID); err != nil {
			return err
		}
	}
	return t.touch(webhookRecord(row))
}

// post writes what the webhooks of a project are told of the entries that were just appended to a chain, in
// this transaction. Where it has none, nothing is written.
func (t *Tx) post(w *audit.Written) error {
	all, head := w.Notices, t.heads[w.Chain]
	for i := range all {
		n := &all[i]
		n.Sequence = head.Sequence - int64(len(all)-1-i)
		if err := t.later("INSERT INTO notices (webhook, lane, state, due, attempts, answer, sent, project_id, "+
			"environment_id, event, sequence, at, since, action, subject, body) SELECT id, ?, 0, 0, 0, '', 0, "+
			"project_id, ?, ?, ?, ?, ?, ?, ?, ? FROM webhooks WHERE project_id = ? AND gone = 0 AND quiet = 0", n.Lane,
			n.Environment, n.Event, n.Sequence,
			n.At, n.At, n.Action, n.Subject, string(n.Body),
			w.Entries[0].Project); err != nil {
			return err
		}
	}
	return nil
}

const noticeColumns = "id, webhook, lane, state, due, attempts, answer, sent, project_id, environment_id, event, " +
	"sequence, at, since, action, subject, body"

// Due gives the notice that comes next in each lane of each webhook, where its time has come.
func (s *Store) Due(ctx context.Context, now int64) ([]app.Notice, error) {
	return list[app.Notice](ctx, s.pools.work, "SELECT "+noticeColumns+" FROM notices WHERE id IN (SELECT MIN(id) "+
		"FROM notices WHERE state = 0 GROUP BY webhook, lane) AND due <= ?", now)
}

// NoticesAfter gives the notices that come next in a lane.
func (s *Store) NoticesAfter(ctx context.Context, webhook string, lane app.Lane, after int64,
	most int) ([]app.Notice, error) {
	return list[app.Notice](ctx, s.pools.work, "SELECT "+noticeColumns+" FROM notices WHERE state = 0 AND webhook "+
		"= ? AND lane = ? AND id > ? ORDER BY id LIMIT ?", webhook, lane, after, most)
}

// Tried notes how an attempt went.
func (s *Store) Tried(ctx context.Context, n *app.Notice) error {
	_, err := s.pools.work.ExecContext(ctx, "UPDATE notices SET state = ?, due = ?, attempts = ?, answer = ?, sent "+
		"= ? WHERE id = ?", n.State, n.Due, n.Attempts, n.Answer, n.Sent, n.Number)
	return fault(err)
}

// DropNotice forgets a notice that nobody wants.
func (s *Store) DropNotice(ctx context.Context, number int64) error {
	_, err := s.pools.work.ExecContext(ctx, "DELETE FROM notices WHERE id = ?", number)
	return fault(err)
}

// NoticesOf lists the newest notices of a webhook.
func (s *Store) NoticesOf(ctx context.Context, webhook string, most int) ([]app.Notice, error) {
	return list[app.Notice](ctx, s.pages, "SELECT "+noticeColumns+" FROM notices WHERE webhook = ? ORDER BY id DESC "+
		"LIMIT ?", webhook, most)
}

// NoticeCounts counts the notices of the webhooks of a project by how they stand.
func (s *Store) NoticeCounts(ctx context.Context, project int64) (map[string]map[app.NoticeState]int, error) {
	rows, err := list[struct {
		Webhook string          `db:"webhook"`
		State   app.NoticeState `db:"state"`
		N       int             `db:"n"`
	}](ctx, s.pages, "SELECT n.webhook, n.state, COUNT(*) n FROM notices n JOIN webhooks w ON w.id = n.webhook WHERE "+
		"w.project_id = ? GROUP BY n.webhook, n.state", project)
	out := map[string]map[app.NoticeState]int{}
	for _, r := range rows {
		if out[r.Webhook] == nil {
			out[r.Webhook] = map[app.NoticeState]int{}
		}
		out[r.Webhook][r.State] = r.N
	}
	return out, err
}

// ReplayNotices has notices told again.
func (t *Tx) ReplayNotices(r *app.Replay) error {
	where, args := "state = 2", []any{r.Now, r.Now, r.Webhook}
	if len(r.Numbers) > 0 {
		where, args = "id IN ("+marks(len(r.Numbers))+")", append(args, anys(r.Numbers)...)
	}
	res, err := t.tx.ExecContext(t.ctx, "UPDATE notices SET state = 0, attempts = 0, due = ?, since = ? "+
		"WHERE webhook = ? AND "+where,
		args...)
	if err != nil {
		return err
	}
	r.Count, err = res.RowsAffected()
	return err
}

// Around reads what a notice's event says of its place.
func (s *Store) Around(ctx context.Context, n *app.Notice) (*app.Around, error) {
	rows, err := list[struct {
		Project     string  `db:"project"`
		Environment *string `db:"environment"`
		By          *string `db:"by_name"`
		Tags        []byte  `db:"tags"`
	}](ctx, s.pools.work, "SELECT p.project_key project, (SELECT e.environment_key FROM environments e "+
		"WHERE e.id = ?) environment, "+
		"(SELECT a.name FROM accounts a WHERE a.id = ?) by_name, (SELECT JSON_EXTRACT(d.body, '$.tags') FROM "+
		"definitions d WHERE d.project_id = p.id AND d.flag = ?) tags FROM projects p WHERE p.id = ?", n.Environment,
		actorOf(n.Body),
		n.Subject, n.Project)
	if err != nil || len(rows) == 0 {
		return &app.Around{}, err
	}
	out := &app.Around{Project: rows[0].Project}
	if rows[0].Environment != nil {
		out.Environment = *rows[0].Environment
	}
	if rows[0].By != nil {
		out.By = *rows[0].By
	}
	if len(rows[0].Tags) > 0 {
		out.Tags, err = decode[[]string](rows[0].Tags)
	}
	return out, err
}

// actorOf is the id of the account that an event's data says has done it.
func actorOf(body []byte) string {
	data, err := decode[struct {
		Actor app.Actor `json:"actor"`
	}](body)
	if err != nil {
		return ""
	}
	if data.Actor.OnBehalfOf != "" {
		return data.Actor.OnBehalfOf
	}
	return data.Actor.ID
}
