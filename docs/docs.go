// Package docs holds what the documentation says and the program says too, from the same files.
//
//	for _, w := range docs.Words() {
//		fmt.Println(w.Name, w.Says)
//	}
package docs

import (
	_ "embed"
	"strings"
)

//go:embed reference/words.md
var words string

// Word is a word of the product, and what it means.
type Word struct {
	Name string
	Says string
}

// Words is the glossary, in the order of its file.
func Words() []Word {
	var all []Word
	for line := range strings.Lines(words) {
		cells := strings.Split(strings.Trim(strings.TrimSpace(line), "|"), "|")
		if len(cells) != 2 || strings.Contains(line, "---") {
			continue
		}
		if w := (Word{strings.TrimSpace(cells[0]), strings.TrimSpace(cells[1])}); w.Name != "word" {
			all = append(all, w)
		}
	}
	return all
}
