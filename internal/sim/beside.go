package sim

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"greenlever.example/greenlever/examples"
	"greenlever.example/greenlever/internal/outpost"
	"greenlever.example/greenlever/internal/server"
)

//go:embed desk.html
var deskPage string

// besides is what runs beside the service: an outpost, the help desk's page, and the
// displays of two lockers, which ask the outpost.
type besides struct {
	outpost *outpost.Outpost
	desk    *http.Server
	deskURL string
}

// beside is the address so many ports after another one; a free one where that is taken, or
// the other is any.
func beside(listen string, n int) string {
	host, port, err := net.SplitHostPort(listen)
	at, err2 := strconv.Atoi(port)
	if err != nil || err2 != nil || at == 0 {
		return "127.0.0.1:0"
	}
	next := net.JoinHostPort(host, strconv.Itoa(at+n))
	l, err := net.Listen("tcp", next)
	if err != nil { // somebody else has it: any will do
		return net.JoinHostPort(host, "0")
	}
	_ = l.Close()
	return next
}

func (d *Demo) startBesides(ctx context.Context, c Config, log *slog.Logger,
	running *sync.WaitGroup) (*besides, error) {
	o, err := outpost.Start(ctx, outpost.Config{URL: d.URL, Keys: []string{d.Keys["production"], d.Keys["staging"]},
		Listen: beside(c.Listen, 1), Admin: "127.0.0.1:0", Dir: filepath.Join(c.Dir, "outpost"),
		Name: "north-yard", Version: server.Version(), Log: log})
	if err != nil {
		return nil, err
	}
	b := &besides{outpost: o}
	listener, err := net.Listen("tcp", beside(c.Listen, 2))
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the help desk's page: %w", err), o.Stop())
	}
	b.deskURL = "http://" + listener.Addr().String()
	page := strings.NewReplacer("GREENLEVER_URL", d.URL, "GREENLEVER_BROWSER_KEY",
		d.Browser["production"]).Replace(deskPage)
	b.desk = &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter,
		r *http.Request) {
		if r.URL.Path != "/" {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(w, page)
	})}
	running.Go(func() { _ = b.desk.Serve(listener) })
	if c.Quiet {
		return b, nil
	}
	for _, site := range []string{"site-12", "site-40"} {
		if err := d.startDisplay(ctx, c, site, o.URL(), log, running); err != nil {
			log.Warn("the display of a locker does not run", "site", site, "error", err)
		}
	}
	return b, nil
}

// startDisplay runs the program for Node that stands in the examples.
func (d *Demo) startDisplay(ctx context.Context, c Config, site, url string, log *slog.Logger,
	running *sync.WaitGroup) error {
	node, err := exec.LookPath("node")
	if err != nil {
		return err
	}
	path := filepath.Join(c.Dir, "display.mjs")
	if err := os.WriteFile(path, examples.Display, 0o600); err != nil {
		return err
	}
	out, err := os.OpenFile(filepath.Join(c.Dir, "display-"+site+".log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, node, path, site)
	cmd.Env = append(os.Environ(), "GREENLEVER_URL="+url, "GREENLEVER_KEY="+d.Keys["production"])
	cmd.Stdout, cmd.Stderr = out, out
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = 2 * time.Second
	if err := cmd.Start(); err != nil {
		return errors.Join(err, out.Close())
	}
	running.Go(func() {
		if err := cmd.Wait(); err != nil && ctx.Err() == nil {
			log.Warn("the display of a locker ended", "site", site, "error", err)
		}
		_ = out.Close()
	})
	return nil
}

func (b *besides) stop() {
	_ = b.desk.Close()
	_ = b.outpost.Stop() // what it counted is told first
}
