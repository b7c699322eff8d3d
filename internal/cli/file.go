package cli

import (
	"io"
	"os"
)

// open opens a file for reading, or standard input for "-".
func (s *session) open(path string) (io.ReadCloser, error) {
	if path == "-" {
		return io.NopCloser(s.in), nil
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, coded(exitUsage, "the file that is to be read: %w; - reads standard input", err)
	}
	return f, nil
}

// readFile reads a file, or standard input for "-".
func (s *session) readFile(path string) ([]byte, error) {
	f, err := s.open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	raw, err := io.ReadAll(f)
	if err != nil {
		return nil, coded(exitUsage, "%s: %w", path, err)
	}
	return raw, nil
}
