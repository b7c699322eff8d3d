package manage

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"greenlever.example/core/stage"
)

// Whatever is entered in the audit is said with a verb of its own.
func TestEveryActionIsSaid(t *testing.T) {
	actions := map[string]bool{}
	for _, tell := range stage.Tells {
		actions["release."+string(tell)] = true
	}
	written := regexp.MustCompile(
		`(?s)(?:commit\.Said|FlagPut|SegmentPut|effects?|entries)\([^")]*"([a-z-]+\.[a-z-]+)"`)
	err := filepath.WalkDir("../app", func(path string, _ os.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		raw, err := os.ReadFile(path)
		for _, m := range written.FindAllStringSubmatch(string(raw), -1) {
			actions[m[1]] = true
		}
		return err
	})
	if err != nil || len(actions) < 35 {
		t.Fatalf("%d actions, %v", len(actions), err)
	}
	for action := range actions {
		if done[action] == "" {
			t.Errorf("%s has no verb: add it to done", action)
		}
	}
}
