// Package wholefile writes files that a reader meets whole or not at all, whatever is killed at
// whatever moment.
package wholefile

import (
	"errors"
	"os"
	"path/filepath"
)

// Write writes a file beside its place and renames it. Its owner alone can read it; its directory is
// made where there is none.
func Write(path string, raw []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-*") // 0600
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // nothing is there once it was renamed
	_, err = f.Write(raw)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}
