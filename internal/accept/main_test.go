// Package accept tests the service from outside, as its callers meet it: over HTTP, with
// the Go client, on the command line and in a browser, on a real MariaDB.
package accept

import (
	"os"
	"path/filepath"
	"testing"

	"greenlever.example/greenlever/internal/gltest"
)

func TestMain(m *testing.M) {
	gltest.Main(m, func() {
		if b, err := chromium(); err == nil {
			b.Close()
		}
		if path, err := program(); err == nil {
			os.RemoveAll(filepath.Dir(path))
		}
	})
}
