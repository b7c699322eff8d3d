package app

// Scan is where the code of a repository asks for flags, as of a commit of a branch. The newest commit of a branch
// counts.
type Scan struct {
	Repository string      `json:"repository"`
	Branch     string      `json:"branch"`
	Commit     string      `json:"commit"`
	At         int64       `json:"at"`              // of the commit, in Unix milliseconds
	Places     []CodePlace `json:"places"`          // of flags that the project has or had
	Unknown    []CodePlace `json:"unknown"`         // asked for, and never defined
	Lines      int64       `json:"lines,omitempty"` // that were looked at
}

// CodePlace is where code asks for a flag.
type CodePlace struct {
	Flag string `json:"flag"`
	File string `json:"file"` // below the repository, with slashes
	Line int    `json:"line"` // from 1
	How  string `json:"how"`  // such as call, handle, constant, wrapper, accessor, text
	Code string `json:"code"` // of the line, cut short
}

// ScanRecord is a scan that a project keeps, or lets go.
type ScanRecord struct {
	ProjectID int64
	*Scan
	Gone bool
}

// Retired says that a flag was taken out of use.
type Retired struct {
	At    int64             `json:"at"`
	By    string            `json:"by"`              // id of the account
	Final map[string]string `json:"final,omitempty"` // the variant that everybody got last, by environment; empty: nobody asked
	Force bool              `json:"force,omitempty"` // although it was not ready
}
