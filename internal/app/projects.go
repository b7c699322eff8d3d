package app

import (
	"strings"

	"greenlever.example/core/flag"
)

// Project is flags, segments and environments that belong together.
type Project struct {
	ID      int64  `json:"-" db:"id"`
	Key     string `json:"key" db:"project_key"`
	Title   string `json:"title" db:"title"`
	Created int64  `json:"created" db:"created"`
}

// Environment is an isolated place where flags are decided.
type Environment struct {
	ID        int64  `json:"-" db:"id"`
	ProjectID int64  `json:"-" db:"project_id"`
	Key       string `json:"key" db:"environment_key"`
	Title     string `json:"title" db:"title"`
	AskFirst  bool   `json:"askFirst" db:"ask_first"`
	Revision  int64  `json:"revision" db:"revision"`
	// Behind is the revision that a follower has had of this epoch while the records know
	// only a lower one: they were restored from a backup. Zero where all is well.
	Behind int64 `json:"behind,omitempty" db:"behind"`
	// State is whether it has ended; empty while it lives.
	State   EnvironmentState `json:"state,omitempty" db:"state"`
	Created int64            `json:"created" db:"created"`
	// OwnersOnly has only those who own a flag, or are in a team that does, change what it gives here. A flag that
	// nobody owns is everybody's.
	OwnersOnly bool `json:"ownersOnly,omitempty" db:"owners_only"`
	// Signing are the signatures that it takes to change what flags give here.
	Signing Signing `json:"signing,omitzero" db:"signing"`
	// Freezes are the times in which nothing moves units here.
	Freezes Freezes `json:"freezes,omitempty" db:"freezes"`
	// Until is when a short-lived environment ends by itself, in Unix milliseconds; 0: it lasts.
	Until  int64  `json:"until,omitempty" db:"until_at"`
	Digest string `json:"-" db:"-"` // of the revision; empty where it was not asked for
}

// EnvironmentState is how far an environment has come.
type EnvironmentState string

// The states. What is archived is kept as it is and followed by nobody; it can be brought back.
// What is gone is named by the history alone.
const (
	Active   EnvironmentState = ""
	Archived EnvironmentState = "archived"
	Gone     EnvironmentState = "gone"
)

// CheckTitled tells what is wrong with the key or the title of something that has both. A title
// that is left open is the key.
func CheckTitled(key string, title *string) error {
	if mend := flag.CheckKey(key); mend != "" {
		return InvalidField("key", "%s", mend)
	}
	if *title = strings.TrimSpace(*title); *title == "" {
		*title = key
	}
	if len(*title) > 200 {
		return InvalidField("title", "takes at most 200 bytes")
	}
	return nil
}
