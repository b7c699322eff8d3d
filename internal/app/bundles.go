package app

// Bundle are flags that ship together and can be acted on together.
type Bundle struct {
	Key     string   `json:"key"`
	Title   string   `json:"title"`
	Says    string   `json:"says,omitempty"` // what it is for
	Flags   []string `json:"flags"`          // keys, in the order in which they are acted on
	Version int64    `json:"version,omitempty"`
}

// BundleRecord is a bundle that a project saved, or took away.
type BundleRecord struct {
	ProjectID int64
	*Bundle
	Gone bool
}
