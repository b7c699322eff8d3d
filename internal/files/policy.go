package files

import (
	"greenlever.example/greenlever/internal/app"
)

// Policy is a file of a policy.
type Policy struct {
	Key          string   `json:"policy" yaml:"policy"`
	Title        string   `json:"title" yaml:"title"`
	Reason       string   `json:"reason,omitempty" yaml:"reason,omitempty"`
	Nouns        []string `json:"judges" yaml:"judges,flow"`
	Environments []string `json:"environments,omitempty" yaml:"environments,omitempty,flow"`
	Tags         []string `json:"tags,omitempty" yaml:"tags,omitempty,flow"`
	When         string   `json:"when" yaml:"when"`
	Outcome      string   `json:"outcome" yaml:"outcome"`
	Mend         string   `json:"mend" yaml:"mend"`
	Dry          bool     `json:"dry,omitempty" yaml:"dry,omitempty"`
}

// ReadPolicy reads a policy.
func ReadPolicy(raw []byte) (*app.Policy, error) {
	var p Policy
	if _, err := read("policy", raw, &p); err != nil {
		return nil, err
	}
	return &app.Policy{Key: p.Key, Title: p.Title, Reason: p.Reason, Nouns: p.Nouns, Environments: p.Environments,
		Tags: p.Tags, When: p.When, Outcome: app.Outcome(p.Outcome), Mend: p.Mend, Dry: p.Dry}, nil
}

// WritePolicy writes a policy.
func WritePolicy(p *app.Policy) ([]byte, error) {
	return write("policy", Policy{Key: p.Key, Title: p.Title, Reason: p.Reason, Nouns: p.Nouns,
		Environments: p.Environments, Tags: p.Tags, When: p.When, Outcome: string(p.Outcome), Mend: p.Mend,
		Dry: p.Dry})
}
