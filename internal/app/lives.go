package app

import "strings"

// Life says that an environment ends by itself.
type Life struct {
	EnvironmentID int64  `json:"-" db:"environment_id"`
	ProjectID     int64  `json:"-" db:"project_id"`
	Family        string `json:"family" db:"family"`
	Source        string `json:"from" db:"source"`    // key of the environment that it was made from
	Until         int64  `json:"until" db:"until_at"` // Unix milliseconds
	By            string `json:"by" db:"by_id"`       // id of the account
}

// Stand says which environment it is of.
func (l *Life) Stand(environment, _ int64) { l.EnvironmentID = environment }

// FamilyOf is the family of a short-lived environment: its key up to the last hyphen.
func FamilyOf(key string) string {
	if at := strings.LastIndexByte(key, '-'); at > 0 {
		return key[:at]
	}
	return key
}

// FamilyGives is what a flag gives in all short-lived environments of a family. Without a variant nothing is said.
type FamilyGives struct {
	ProjectID int64  `json:"-" db:"project_id"`
	Family    string `json:"family" db:"family"`
	Flag      string `json:"flag" db:"flag"`
	Variant   string `json:"variant" db:"variant"`
}

// Forgotten is an environment whose units and counts are forgotten.
type Forgotten struct{ EnvironmentID int64 }
