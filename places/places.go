// Package places finds where source code asks for feature flags: Go by its syntax trees, other languages by their words,
// with comments and strings told apart.
//
// Its noun is a [Place]. The smallest use:
//
//	found, err := places.Scan(ctx, "path/to/repository", []string{"one-touch-open"}, nil)
//	for _, p := range found.Places { ... }
package places

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
)

// Place is where code asks for a flag.
type Place struct {
	Flag string
	File string // below the root, with slashes
	Line int    // from 1
	How  string // one of the constants
	Code string // the line, without its indentation, cut short
}

// How code asks.
const (
	Call     = "call"     // a client is asked by the key
	Handle   = "handle"   // a handle that is looked up once is asked
	Constant = "constant" // by a named constant of the key
	Wrapper  = "wrapper"  // a function of the application hands the key on
	Accessor = "accessor" // a generated function or variable
	Text     = "text"     // the key stands in a string, and it cannot be told for what
)

// Found is what a scan found.
type Found struct {
	Places  []Place // of the keys that were looked for, by file and line
	Unknown []Place // asked for, and not among them
	Files   int
	Lines   int64
}

// mostFile is how large a file is looked at, in bytes: larger ones are data, or made by programs.
const mostFile = 4 << 20

// source is a file of a repository.
type source struct {
	path string // below the root, with slashes
	text []byte
}

// Scan looks through the files below a root. progress, if there is one, hears how many files were read.
func Scan(ctx context.Context, root string, keys []string, progress func(files int)) (*Found, error) {
	s := &scanner{keys: map[string]bool{}, progress: progress}
	for _, k := range keys {
		s.keys[k] = true
	}
	all, err := s.read(ctx, root)
	if err != nil {
		return nil, err
	}
	s.goFiles(all)
	s.others(all)
	order := func(a, b Place) int {
		return cmp.Or(strings.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), strings.Compare(a.Flag, b.Flag))
	}
	slices.SortFunc(s.found.Places, order)
	slices.SortFunc(s.found.Unknown, order)
	s.found.Places = slices.CompactFunc(s.found.Places, samePlace)
	s.found.Unknown = slices.CompactFunc(s.found.Unknown, samePlace)
	return &s.found, ctx.Err()
}

// samePlace tells whether a flag is found twice in one line.
func samePlace(a, b Place) bool { return a.File == b.File && a.Line == b.Line && a.Flag == b.Flag }

type scanner struct {
	keys     map[string]bool
	progress func(files int)
	mu       sync.Mutex
	found    Found
}

func (s *scanner) add(p Place) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.keys[p.Flag] {
		s.found.Places = append(s.found.Places, p)
	} else if p.How != Text {
		s.found.Unknown = append(s.found.Unknown, p)
	}
}

// skipped are folders that hold no code of the repository's own.
var skipped = []string{"node_modules", "vendor", "dist", "build", "target", "__pycache__", "bower_components", "testdata"}

// read reads the files that are looked at.
func (s *scanner) read(ctx context.Context, root string) ([]source, error) {
	info, err := os.Stat(root)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		return nil, fmt.Errorf("%s is no folder", root)
	}
	var paths []string
	err = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		switch {
		case errors.Is(err, fs.ErrPermission):
			return nil
		case err != nil:
			return err
		case d.IsDir():
			if path != root && (strings.HasPrefix(d.Name(), ".") || slices.Contains(skipped, d.Name())) {
				return filepath.SkipDir
			}
			return ctx.Err()
		case d.Type().IsRegular() && languageOf(path) != nil:
			paths = append(paths, path)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	all := make([]source, len(paths))
	s.each(len(paths), func(i int) {
		info, err := os.Stat(paths[i])
		if err != nil || info.Size() > mostFile || ctx.Err() != nil {
			return
		}
		text, err := os.ReadFile(paths[i])
		if err != nil || bytes.IndexByte(text[:min(len(text), 8_000)], 0) >= 0 {
			return
		}
		rel, err := filepath.Rel(root, paths[i])
		if err != nil {
			return
		}
		all[i] = source{filepath.ToSlash(rel), text}
		s.mu.Lock()
		s.found.Files++
		s.found.Lines += int64(bytes.Count(text, []byte("\n")))
		n := s.found.Files
		s.mu.Unlock()
		if s.progress != nil && n%500 == 0 {
			s.progress(n)
		}
	})
	return slices.DeleteFunc(all, func(f source) bool { return f.path == "" }), ctx.Err()
}

// each does something for each of n, on all cores.
func (s *scanner) each(n int, do func(i int)) {
	var wait sync.WaitGroup
	next := make(chan int)
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for i := range next {
				do(i)
			}
		})
	}
	for i := range n {
		next <- i
	}
	close(next)
	wait.Wait()
}

// lineOf is a line of a text, from 1, as it is shown.
func lineOf(text []byte, line int) string {
	for range line - 1 {
		at := bytes.IndexByte(text, '\n')
		if at < 0 {
			return ""
		}
		text = text[at+1:]
	}
	if at := bytes.IndexByte(text, '\n'); at >= 0 {
		text = text[:at]
	}
	out := strings.Map(func(r rune) rune {
		if r == '\t' || r < ' ' {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(strings.TrimSpace(string(text)), "?"))
	if len(out) > 200 {
		out = strings.ToValidUTF8(out[:200], "")
	}
	return out
}
