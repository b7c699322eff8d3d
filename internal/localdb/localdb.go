// Package localdb runs a private MariaDB server: for the demo, for tests, and for a service
// that was given no address of a database. It is reached through a socket in a directory that
// its owner alone can enter, and listens on no network unless it is told to.
//
// Its noun is a [Server]. The smallest use:
//
//	db, err := localdb.Start(ctx, dir)
//	defer db.Stop()
//	db.DSN("greenlever") // for package store
package localdb

import (
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"

	"greenlever.example/greenlever/internal/app/guard"
)

// ErrNotInstalled is returned where there is no MariaDB server on this machine.
var ErrNotInstalled = errors.New("no MariaDB server is installed: install it (apt-get install mariadb-server-core " +
	"mariadb-client-core), or give the address of one")

// ErrInUse is returned where another process runs a server on the same directory.
var ErrInUse = errors.New("the database's directory is in use by another process")

// Server is a running MariaDB server with its data in one directory.
type Server struct {
	dir    string
	over   bool   // it also listens on loopback
	secret string // of who comes over loopback
	short  string // a directory for the socket, where dir's path is too long for one
	more   func() []string
	port   int
	cmd    *exec.Cmd
	mu     sync.Mutex
	exited chan struct{}
}

// startTimeout bounds a start, recovery after a crash included.
const startTimeout = 60 * time.Second

// Option changes how a server is started.
type Option func(*Server)

// OverTCP has the server listen on a free port of loopback too, for who knows a password that
// is made for this start: see [Server.TCP].
func OverTCP() Option { return func(s *Server) { s.over, s.secret = true, rand.Text() } }

// Secret is the password of who comes over loopback, for servers that share their accounts.
func Secret(secret string) Option { return func(s *Server) { s.secret = secret } }

// With gives the server more options, which are asked for at each start.
func With(options func() []string) Option { return func(s *Server) { s.more = options } }

// Start starts a server with its data below dir, which is made and filled
// at the first start. It returns when the server takes connections.
func Start(ctx context.Context, dir string, options ...Option) (*Server, error) {
	mariadbd, err := find("mariadbd")
	if err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	s := &Server{dir: dir}
	if err := s.checkUnused(); err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(dir, "data", "mysql")); err != nil {
		if err := install(ctx, dir); err != nil {
			return nil, err
		}
	}
	for _, o := range options {
		o(s)
	}
	if s.over {
		if s.port, err = freePort(); err != nil {
			return nil, err
		}
	}
	if err := s.run(ctx, mariadbd); err != nil {
		return nil, err
	}
	if err := s.closeDoors(ctx); err != nil {
		return nil, errors.Join(err, s.Stop())
	}
	return s, nil
}

func find(name string) (string, error) {
	for _, p := range []string{name, "/usr/sbin/" + name, "/usr/bin/" + name, "/usr/local/sbin/" + name} {
		if path, err := exec.LookPath(p); err == nil {
			return path, nil
		}
	}
	return "", ErrNotInstalled
}

func install(ctx context.Context, dir string) error {
	tool, err := find("mariadb-install-db")
	if err != nil {
		return err
	}
	fresh := filepath.Join(dir, "data.new")
	if err := os.RemoveAll(fresh); err != nil {
		return err
	}
	tmp, err := ownTmp(dir)
	if err != nil {
		return err
	}
	args := append([]string{"--no-defaults", "--datadir=" + fresh, "--tmpdir=" + tmp,
		"--auth-root-authentication-method=normal",
		"--skip-test-db", "--innodb-log-file-size=16M"}, asRoot()...)
	if out, err := exec.CommandContext(ctx, tool, args...).CombinedOutput(); err != nil {
		return fmt.Errorf("make the database's directory: %w: %s", err, bytes.TrimSpace(out))
	}
	return os.Rename(fresh, filepath.Join(dir, "data")) // an interrupted first start leaves nothing half made
}

// ownTmp makes the server's own directory for temporary tables: a server that starts removes all
// that it finds, also those of another one that runs.
func ownTmp(dir string) (string, error) {
	tmp := filepath.Join(dir, "tmp")
	return tmp, os.MkdirAll(tmp, 0o700)
}

func asRoot() []string {
	if os.Geteuid() == 0 {
		return []string{"--user=root"}
	}
	return nil
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// checkUnused returns [ErrInUse] where the pid file names a living server.
func (s *Server) checkUnused() error {
	raw, err := os.ReadFile(filepath.Join(s.dir, "pid"))
	if err != nil {
		return nil
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(raw)))
	if err != nil {
		return nil
	}
	name, _ := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
	if strings.HasPrefix(string(name), "maria") || strings.HasPrefix(string(name), "mysqld") {
		return fmt.Errorf("%w: process %d, directory %s", ErrInUse, pid, s.dir)
	}
	return nil
}

func (s *Server) run(ctx context.Context, mariadbd string) error {
	if s.short != "" {
		if err := os.Mkdir(s.short, 0o700); err != nil { // the place of the start before
			return err
		}
	} else if len(s.socket()) >= 100 { // the system's limit on the path of a socket
		short, err := os.MkdirTemp("", "gl-db-")
		if err != nil {
			return err
		}
		s.short = short
	}
	if err := os.MkdirAll(filepath.Join(s.dir, "files"), 0o700); err != nil {
		return err
	}
	tmp, err := ownTmp(s.dir)
	if err != nil {
		return err
	}
	network := []string{"--skip-networking"}
	if s.over {
		network = []string{"--port=" + strconv.Itoa(s.port), "--bind-address=127.0.0.1"}
	}
	logFile, err := os.OpenFile(filepath.Join(s.dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer logFile.Close()
	args := append([]string{"--no-defaults", "--datadir=" + filepath.Join(s.dir, "data"), "--tmpdir=" + tmp,
		"--socket=" + s.socket(),
		"--pid-file=" + filepath.Join(s.dir, "pid"), "--secure-file-priv=" + filepath.Join(s.dir, "files"),
		"--skip-name-resolve", "--character-set-server=utf8mb4", "--collation-server=utf8mb4_bin",
		"--innodb-log-file-size=16M", "--innodb-buffer-pool-size=128M", "--max-connections=200",
		"--max-allowed-packet=64M"}, append(network, asRoot()...)...)
	if s.more != nil {
		args = append(args, s.more()...)
	}
	s.cmd = exec.Command(mariadbd, args...)
	s.cmd.Stdout, s.cmd.Stderr = logFile, logFile
	// In a group of its own, so that Ctrl-C reaches the owner first, which stops it in order;
	// and it dies with its owner, however that ends.
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	if err := s.cmd.Start(); err != nil {
		return fmt.Errorf("start MariaDB: %w", err)
	}
	s.exited = make(chan struct{})
	exited := s.exited
	guard.Go(slog.Default(), "wait for MariaDB to end", func() { defer close(exited); _ = s.cmd.Wait() })
	if err := s.await(ctx); err != nil {
		_ = s.Stop()
		return err
	}
	return nil
}

func (s *Server) await(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, startTimeout)
	defer cancel()
	db, err := sql.Open("mysql", s.config("").FormatDSN())
	if err != nil {
		return err
	}
	defer db.Close()
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for {
		if _, err := db.ExecContext(ctx, "DO 1"); err == nil { // one of a cluster answers a ping before it takes part
			return nil
		}
		select {
		case <-s.exited:
			return fmt.Errorf("MariaDB did not start: %s", s.lastLog())
		case <-ctx.Done():
			return fmt.Errorf("MariaDB did not answer in time: %s", s.lastLog())
		case <-tick.C:
		}
	}
}

func (s *Server) lastLog() string {
	raw, _ := os.ReadFile(filepath.Join(s.dir, "log"))
	return string(raw[max(0, len(raw)-500):])
}

func (s *Server) config(database string) *mysql.Config {
	c := mysql.NewConfig()
	c.User, c.Net, c.Addr, c.DBName = "root", "unix", s.socket(), database
	c.Logger = &mysql.NopLogger{}
	return c
}

func (s *Server) socket() string {
	if s.short != "" {
		return filepath.Join(s.short, "socket")
	}
	return filepath.Join(s.dir, "socket")
}

// overTCP names who may come over loopback.
const overTCP = "over_tcp"

// closeDoors takes away the accounts without a password that a fresh server has for other
// ways than the socket, and makes the one for loopback where that is asked for.
func (s *Server) closeDoors(ctx context.Context) error {
	db, err := sql.Open("mysql", s.config("").FormatDSN())
	if err != nil {
		return err
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx, "SELECT User, Host FROM mysql.global_priv WHERE Host <> 'localhost'")
	if err != nil {
		return fmt.Errorf("close the database's doors: %w", err)
	}
	defer rows.Close()
	var do []string
	for rows.Next() {
		var user, host string
		if err := rows.Scan(&user, &host); err != nil {
			return err
		}
		do = append(do, fmt.Sprintf("DROP USER IF EXISTS '%s'@'%s'", user, host))
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if s.over {
		do = append(do, fmt.Sprintf("CREATE OR REPLACE USER '%s'@'127.0.0.1' IDENTIFIED BY '%s'", overTCP, s.secret),
			fmt.Sprintf("GRANT ALL ON *.* TO '%s'@'127.0.0.1'", overTCP))
	}
	for _, q := range do {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return fmt.Errorf("close the database's doors: %w", err)
		}
	}
	return nil
}

// Signal sends the server's process a signal, such as one that freezes it.
func (s *Server) Signal(sig os.Signal) error { return s.cmd.Process.Signal(sig) }

// TCP is the address of a database over loopback, of a server started with [OverTCP]; at is
// the address to come to instead of its own, such as that of a proxy, or empty.
func (s *Server) TCP(database, at string) string {
	c := s.config(database)
	c.User, c.Passwd, c.Net = overTCP, s.secret, "tcp"
	c.Addr = at
	if at == "" {
		c.Addr = s.TCPAddress()
	}
	return c.FormatDSN()
}

// TCPAddress is where the server listens on loopback.
func (s *Server) TCPAddress() string { return fmt.Sprintf("127.0.0.1:%d", s.port) }

// DSN is the address of a database on the server, which is made if it is not there yet.
func (s *Server) DSN(database string) (string, error) {
	db, err := sql.Open("mysql", s.config("").FormatDSN())
	if err != nil {
		return "", err
	}
	defer db.Close()
	if _, err := db.Exec("CREATE DATABASE IF NOT EXISTS `" + database +
		"` CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"); err != nil {
		return "", fmt.Errorf("make the database: %w", err)
	}
	return s.config(database).FormatDSN(), nil
}

// Stop ends the server in order, so that the next start has nothing to recover.
func (s *Server) Stop() error { return s.end(syscall.SIGTERM) }

// Kill ends the server at once, as a power cut would.
func (s *Server) Kill() error { return s.end(syscall.SIGKILL) }

// Again starts the server again on the same port after [Server.Stop] or [Server.Kill].
func (s *Server) Again(ctx context.Context) error {
	mariadbd, err := find("mariadbd")
	if err != nil {
		return err
	}
	return s.run(ctx, mariadbd)
}

func (s *Server) end(sig syscall.Signal) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.short != "" {
		defer os.RemoveAll(s.short)
	}
	select {
	case <-s.exited:
		return nil
	default:
	}
	if err := s.cmd.Process.Signal(sig); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	select {
	case <-s.exited:
	case <-time.After(30 * time.Second):
		_ = s.cmd.Process.Kill()
		<-s.exited
	}
	return nil
}
