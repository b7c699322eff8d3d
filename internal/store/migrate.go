package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	"greenlever.example/greenlever/internal/app/guard"
)

var _ = keeps(
	Kept{Table: "goose_db_version", Why: "a row for each step of the schema"},
)

// Migrations are steps of one statement each, numbered by release and place: 00207 is step 7
// of release 2. (Release 1 has the numbers 1 to 3.) Every step can be repeated, since its
// statement may have run without being noted. A release only adds, so that a program of the
// release before goes on beside it; what it makes superfluous the next release takes away.
//
//go:embed migrations/*.sql
var migrations embed.FS

// Release is the newest schema that this program knows. It also runs beside one that is a
// single release ahead, and refuses one that is further.
const Release = 2

// ErrTooNew is returned where the schema is newer than this program can run beside.
var ErrTooNew = errors.New("the records' schema is too new for this program")

func releaseOf(version int64) int { return max(1, int(version/100)) }

// Step is a step that brings the schema up to date.
type Step struct {
	Version int64
	Name    string
}

// Pending lists the steps that are still to be taken.
func (s *Store) Pending(ctx context.Context) ([]Step, error) {
	db, err := s.patient()
	if err != nil {
		return nil, err
	}
	defer db.Close()
	return s.pending(ctx, db)
}

func (s *Store) pending(ctx context.Context, db *sqlx.DB) ([]Step, error) {
	have, err := s.version(ctx, db)
	if err != nil {
		return nil, err
	}
	all, err := steps()
	var left []Step
	for _, one := range all {
		if one.Version > have {
			left = append(left, one)
		}
	}
	return left, err
}

func steps() (all []Step, err error) {
	files, err := fs.ReadDir(migrations, "migrations")
	for _, f := range files {
		number, name, _ := strings.Cut(strings.TrimSuffix(path.Base(f.Name()), ".sql"), "_")
		v, e := strconv.ParseInt(number, 10, 64)
		err = errors.Join(err, e)
		all = append(all, Step{v, strings.ReplaceAll(name, "_", " ")})
	}
	return all, err
}

// version is the last step that was taken; 0 in an empty database. It returns [ErrTooNew].
func (s *Store) version(ctx context.Context, db *sqlx.DB) (int64, error) {
	var version int64
	err := db.GetContext(ctx, &version, "SELECT COALESCE(MAX(version_id), 0) FROM "+goose.DefaultTablename)
	var e *mysql.MySQLError
	if errors.As(err, &e) && e.Number == erNoTable {
		return 0, nil
	}
	if err != nil {
		return 0, fmt.Errorf("the records at %s: %w: %w", s.config.Addr, fault(err), err)
	}
	if r := releaseOf(version); r > Release+1 {
		return 0, fmt.Errorf("%w: the schema is of release %d, and this program knows up to release %d: use a "+
			"program of release %d or newer", ErrTooNew, r, Release, r-1)
	}
	return version, nil
}

const erNoTable = 1146

// patient opens a pool whose statements may take as long as they need.
func (s *Store) patient() (*sqlx.DB, error) {
	c := s.config.Clone()
	c.ReadTimeout, c.WriteTimeout = 0, time.Minute
	c.Params["lock_wait_timeout"] = "10" // for a table that others use; tried again
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	return sqlx.NewDb(sql.OpenDB(connector), "mysql"), nil
}

// Migrate brings the tables up to date, one process at a time, and says how far it is. Killed
// at whatever moment, the next process goes on where it stopped. It returns [ErrTooNew].
func (s *Store) Migrate(ctx context.Context) error {
	db, err := s.patient()
	if err != nil {
		return err
	}
	defer db.Close()
	left, err := s.pending(ctx, db)
	if err != nil {
		return err
	}
	if len(left) == 0 {
		return s.settle(ctx)
	}
	release, err := s.holdMigration(ctx, db)
	if err != nil {
		return err
	}
	defer release()
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	if err := ensureVersions(ctx, db); err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectMySQL, db.DB, files, goose.WithSlog(slog.New(slog.DiscardHandler)))
	if err != nil {
		return err
	}
	if left, err = s.pending(ctx, db); err != nil { // another process may have been at it meanwhile
		return err
	}
	for i, step := range left {
		started := time.Now()
		s.log.Info("bringing the records' schema up to date", "step", fmt.Sprintf("%d of %d", i+1, len(left)), "what",
			step.Name)
		for {
			_, err = p.UpTo(ctx, step.Version)
			if err == nil || !losing(err) || ctx.Err() != nil {
				break
			}
			s.log.Warn("a table is in use; trying again", "step", step.Name, "held by", s.holders(ctx, db))
		}
		if err != nil {
			return fmt.Errorf("bring the records' schema up to date, step %d (%s): %w", step.Version, step.Name,
				fault(err))
		}
		if took := time.Since(started); took > time.Second {
			s.log.Info("that step took a while", "what", step.Name, "took", took.Round(100*time.Millisecond))
		}
	}
	return s.settle(ctx)
}

// ensureVersions makes the table of steps whole: goose makes it and its first row in two
// steps, and does not go on where it was killed between them.
func ensureVersions(ctx context.Context, db *sqlx.DB) error {
	for _, q := range []string{
		"CREATE TABLE IF NOT EXISTS " + goose.DefaultTablename + " (id SERIAL PRIMARY KEY, version_id BIGINT NOT " +
			"NULL, is_applied BOOLEAN NOT NULL, tstamp TIMESTAMP NULL DEFAULT NOW())",
		"INSERT INTO " + goose.DefaultTablename + " (version_id, is_applied) SELECT 0, TRUE FROM DUAL WHERE NOT " +
			"EXISTS (SELECT 1 FROM " + goose.DefaultTablename + ")",
	} {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return fault(err)
		}
	}
	return nil
}

// settle makes what the schema needs and SQL cannot make.
func (s *Store) settle(ctx context.Context) error {
	var missing bool
	if err := s.changes.GetContext(ctx, &missing, "SELECT secret = '' FROM installation"); err != nil || !missing {
		return fault(err)
	}
	_, err := s.changes.ExecContext(ctx, "UPDATE installation SET secret = ? WHERE secret = ''", newSecret())
	return fault(err)
}

// Life of the lease of who migrates, and how often it is renewed.
const (
	migrationLife  = 15 * time.Second
	migrationRenew = 4 * time.Second
)

// holdMigration waits until this process alone migrates, and names who it waits for.
func (s *Store) holdMigration(ctx context.Context, db *sqlx.DB) (release func(), err error) {
	const table = "CREATE TABLE IF NOT EXISTS leases (name VARCHAR(40) PRIMARY KEY, holder VARCHAR(64) NOT NULL, " +
		"fence BIGINT NOT NULL, until DATETIME(6) NOT NULL)"
	if _, err := db.ExecContext(ctx, table); err != nil {
		return nil, fault(err)
	}
	host, _ := os.Hostname()
	me := fmt.Sprintf("%s process %d", host[:min(len(host), 40)], os.Getpid())
	for said := ""; ; {
		fence, err := lease(ctx, db, "migrate", me, migrationLife)
		if err != nil {
			return nil, err
		}
		if fence > 0 {
			break
		}
		var holder string
		_ = db.GetContext(ctx, &holder, "SELECT holder FROM leases WHERE name = 'migrate'")
		if holder != said {
			s.log.Info("another process brings the records' schema up to date; waiting for it", "holder", holder)
			said = holder
		}
		select {
		case <-ctx.Done():
			return nil, unavailable("the records' schema is being brought up to date by "+holder, ctx.Err())
		case <-time.After(200 * time.Millisecond):
		}
	}
	renew, cancel := context.WithCancel(context.WithoutCancel(ctx))
	done := guard.Go(s.log, "hold the migration", func() {
		tick := time.NewTicker(migrationRenew)
		defer tick.Stop()
		for {
			select {
			case <-renew.Done():
				return
			case <-tick.C:
				if _, err := lease(renew, s.feed, "migrate", me, migrationLife); err != nil && renew.Err() == nil {
					s.log.Warn("the hold on the migration could not be renewed", "error", err)
				}
			}
		}
	})
	return func() {
		cancel()
		<-done
		_, _ = db.ExecContext(context.WithoutCancel(ctx), "UPDATE leases SET until = '2000-01-01' "+
			"WHERE name = 'migrate' AND holder = ?", me)
	}, nil
}

// holders names who uses the database, for a step that waits for a table.
func (s *Store) holders(ctx context.Context, db *sqlx.DB) string {
	var who []string
	_ = db.SelectContext(ctx, &who, "SELECT CONCAT(user, '@', host, ' connection ', id, ' for ', time, ' s: ', "+
		"COALESCE(LEFT(info, 60), command)) "+
		"FROM information_schema.processlist WHERE db = DATABASE() AND id <> CONNECTION_ID() "+
		"ORDER BY time DESC LIMIT 3")
	return strings.Join(who, "; ")
}
