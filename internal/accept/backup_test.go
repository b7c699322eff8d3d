package accept

import (
	"bytes"
	"os/exec"
	"testing"

	"github.com/go-sql-driver/mysql"
)

// dump is a backup of a database, made by MariaDB's own tool as the restore guide says.
func dump(t *testing.T, dsn string) []byte {
	t.Helper()
	c, args := connection(t, dsn)
	out, err := exec.Command("mariadb-dump", append(args, "--single-transaction", c.DBName)...).Output()
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// restore plays a backup back.
func restore(t *testing.T, dsn string, backup []byte) {
	t.Helper()
	c, args := connection(t, dsn)
	cmd := exec.Command("mariadb", append(args, c.DBName)...)
	cmd.Stdin = bytes.NewReader(backup)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
}

func connection(t *testing.T, dsn string) (*mysql.Config, []string) {
	t.Helper()
	c, err := mysql.ParseDSN(dsn)
	if err != nil {
		t.Fatal(err)
	}
	return c, []string{"--no-defaults", "--socket=" + c.Addr, "--user=" + c.User}
}
