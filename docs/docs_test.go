package docs

import (
	"strings"
	"testing"
)

func TestEveryWordStandsOnce(t *testing.T) {
	all := Words()
	if len(all) < 40 {
		t.Fatalf("only %d words", len(all))
	}
	seen := map[string]bool{}
	for _, w := range all {
		if seen[w.Name] || w.Says == "" || strings.HasSuffix(w.Says, ".") {
			t.Errorf("%q: %q", w.Name, w.Says)
		}
		seen[w.Name] = true
	}
}
