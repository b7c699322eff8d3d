//go:build galera

package accept

import (
	"context"
	"database/sql"
	"fmt"
	"net"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/localdb"
)

const galeraLibrary = "/usr/lib/galera/libgalera_smm.so"

// cluster is three servers that certify each other's transactions.
type cluster struct {
	nodes   [3]*localdb.Server
	ports   [3][3]int // of each: its group, incremental and whole transfers of state
	founded bool
}

func newCluster(t *testing.T) *cluster {
	t.Helper()
	c := &cluster{}
	for i := range c.ports {
		for j := range c.ports[i] {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			c.ports[i][j] = l.Addr().(*net.TCPAddr).Port
			l.Close()
		}
	}
	dir := t.TempDir()
	for i := range c.nodes {
		db, err := localdb.Start(context.Background(), filepath.Join(dir, fmt.Sprint("node-", i)), localdb.OverTCP(),
			localdb.Secret("only for this test"), localdb.With(func() []string { return c.options(i) }))
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { db.Kill() }) // the last one would wait for a majority
		c.nodes[i], c.founded = db, true
		c.synced(t, i)
	}
	return c
}

func (c *cluster) options(i int) []string {
	var all []string
	for _, p := range c.ports {
		all = append(all, fmt.Sprintf("127.0.0.1:%d", p[0]))
	}
	own := c.ports[i]
	options := []string{"--binlog-format=ROW", "--innodb-autoinc-lock-mode=2", "--wsrep-on=ON",
		"--wsrep-provider=" + galeraLibrary, "--wsrep-cluster-name=storm",
		"--wsrep-cluster-address=gcomm://" + strings.Join(all, ","), fmt.Sprintf("--wsrep-node-address=127.0.0.1:%d",
			own[0]), fmt.Sprintf("--wsrep-sst-receive-address=127.0.0.1:%d", own[2]),
		fmt.Sprintf(
			"--wsrep-provider-options=gmcast.listen_addr=tcp://127.0.0.1:%d;ist.recv_addr=127.0.0.1:%d;pc.recovery=TRUE;gcache.size=64M", own[0], own[1]), "--wsrep-sst-method=rsync"}
	if !c.founded {
		options = append(options, "--wsrep-new-cluster")
	}
	return options
}

// synced waits until a node takes part.
func (c *cluster) synced(t *testing.T, i int) {
	t.Helper()
	db, err := sql.Open("mysql", c.nodes[i].TCP("", ""))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	gltest.Eventually(t, fmt.Sprintf("node %d takes part", i), func() bool {
		var name, state string
		return db.QueryRow("SHOW STATUS LIKE 'wsrep_local_state_comment'").Scan(&name, &state) == nil &&
			state == "Synced"
	})
}

// The storm on a cluster: each process of the service has a server of its own, which is killed
// and frozen, and transactions of both are certified against each other.
func TestStormOnGalera(t *testing.T) {
	c := newCluster(t)
	if _, err := c.nodes[0].DSN("storm"); err != nil {
		t.Fatal(err)
	}
	var troubles []trouble
	for _, db := range c.nodes[:2] {
		troubles = append(troubles, trouble{func() { _ = db.Kill() }, func() {
			if err := db.Again(context.Background()); err != nil {
				t.Error(err)
			}
		}}, trouble{func() { _ = db.Signal(syscall.SIGSTOP) }, func() { _ = db.Signal(syscall.SIGCONT) }})
	}
	blow(t, sky{dsn: [2]string{c.nodes[0].TCP("storm", ""), c.nodes[1].TCP("storm", "")}, tcp: c.nodes[1].TCPAddress(),
		through: func(at string) string { return c.nodes[1].TCP("storm", at) }, troubles: troubles})
}
