package files

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"time"

	"go.yaml.in/yaml/v4"

	"greenlever.example/core/bucket"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/expr"
)

// Flag is a file of a flag: its definition, and what it does in each environment. In an environment that it does not
// name, a flag is as it is when it is made.
type Flag struct {
	Definition app.Definition
	In         map[string]*flag.Document
	// Kept are the ids of rules that stay as they are in an environment: what they say was left out of the file.
	Kept map[string][]string
	root *yaml.Node
}

// Place finds where something of the flag stands in its file.
func (f *Flag) Place(path ...string) (line, column int) {
	n := find(f.root, path)
	return n.Line, n.Column
}

type flagFile struct {
	Key          string                     `json:"flag"`
	Title        string                     `json:"title"`
	Description  string                     `json:"description"`
	Type         string                     `json:"type"`
	Variants     map[string]json.RawMessage `json:"variants"`
	Resting      string                     `json:"resting"`
	End          string                     `json:"end"`
	Recipe       string                     `json:"recipe"`
	Loses        string                     `json:"loses"`
	GoneBy       string                     `json:"goneBy"`
	Owners       []string                   `json:"owners"`
	Tags         []string                   `json:"tags"`
	Visible      bool                       `json:"visible"`
	Muted        []app.Mute                 `json:"muted"`
	Environments map[string]flagIn          `json:"environments"`
}

type flagIn struct {
	Lever     string                     `json:"lever"`
	Values    map[string]json.RawMessage `json:"values"`
	Resting   string                     `json:"resting"`
	Needs     []flag.Need                `json:"needs"`
	RestAfter int                        `json:"restAfter"`
	Rules     []flagRule                 `json:"rules"`
	End       json.RawMessage            `json:"end"`
}

type flagRule struct {
	ID        string          `json:"id"`
	Name      string          `json:"name"`
	When      string          `json:"when"`
	Gives     json.RawMessage `json:"gives"`
	Parked    bool            `json:"parked"`
	Kept      bool            `json:"kept"`
	OnUnknown string          `json:"onUnknown"`
}

type flagShares struct {
	By     []string                 `json:"by"`
	Shares map[string]string        `json:"shares"`
	Left   string                   `json:"left"`
	Like   *flag.SharesAt           `json:"like"`
	Salt   string                   `json:"salt"`
	Hash   int                      `json:"hash"`
	Ranges map[string][]flag.Ranges `json:"ranges"`
}

// left names in ranges the part that goes on to the rules below.
const left = "left"

// FlagOptions are how a flag is written.
type FlagOptions struct {
	Exact bool                  // salts and buckets of shares as well
	Kept  func(*flag.Rule) bool // rules of which nothing but the name is written; nil: none
}

// WriteFlag writes a flag. Rules that a release owns are never written.
func WriteFlag(d *app.Definition, in map[string]*flag.Document, o FlagOptions) ([]byte, error) {
	f := newFields()
	f.text("flag", d.Key)
	if d.Title != d.Key {
		f.text("title", d.Title)
	}
	f.text("description", d.Description)
	if d.Type != flag.Boolean {
		f.text("type", string(d.Type))
	}
	variants := newFields()
	for _, v := range d.Variants {
		n, err := valueNode(v.Value)
		if err != nil {
			return nil, fmt.Errorf("variant %s: %w", v.Name, err)
		}
		variants.node_(v.Name, n)
	}
	f.fields("variants", variants)
	f.text("resting", d.Resting)
	if d.End != d.Resting {
		f.text("end", d.End)
	}
	f.text("recipe", d.Recipe)
	f.text("loses", d.Loses)
	f.text("goneBy", d.GoneBy)
	f.texts("owners", d.Owners)
	f.texts("tags", d.Tags)
	f.yes("visible", d.Visible)
	var muted []*yaml.Node
	for _, m := range d.Muted {
		one := newFields()
		one.text("check", m.Check)
		one.text("reason", m.Reason)
		muted = append(muted, one.node)
	}
	f.lines("muted", muted)
	envs := newFields()
	for _, env := range sorted(in) {
		one, err := inFields(d, in[env], o)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", env, err)
		}
		envs.fields(env, one)
	}
	f.fields("environments", envs)
	return encodeNode("flag", f.node)
}

func inFields(d *app.Definition, doc *flag.Document, o FlagOptions) (*fields, error) {
	f, first := newFields(), flags.FirstDocument(d)
	if doc.Lever != first.Lever {
		f.text("lever", string(doc.Lever))
	}
	values := newFields()
	for _, v := range d.Variants {
		if value, is := doc.Variants[v.Name]; is && !sameValue(value, v.Value) {
			n, err := valueNode(value)
			if err != nil {
				return nil, err
			}
			values.node_(v.Name, n)
		}
	}
	f.fields("values", values)
	if doc.Resting != d.Resting {
		f.text("resting", doc.Resting)
	}
	var needs []*yaml.Node
	for _, n := range doc.Needs {
		one := newFields()
		one.text("flag", n.Flag)
		one.text("variant", n.Variant)
		one.node.Style = yaml.FlowStyle
		needs = append(needs, one.node)
	}
	f.lines("needs", needs)
	f.number("restAfter", int64(doc.RestAfter))
	var rules []*yaml.Node
	for i := range doc.Rules {
		r := &doc.Rules[i]
		if r.Release != "" {
			continue
		}
		one := newFields()
		one.text("id", r.ID)
		one.text("name", r.Name)
		if o.Kept != nil && o.Kept(r) {
			one.yes("kept", true)
			rules = append(rules, one.node)
			continue
		}
		if r.When != nil {
			when, err := expr.Print(r.When)
			if err != nil {
				return nil, fmt.Errorf("rule %q: %w", r.Name, err)
			}
			one.text("when", when)
		}
		one.node_("gives", givesNode(r.Gives, o.Exact))
		one.yes("parked", r.Parked)
		one.text("onUnknown", string(r.OnUnknown))
		rules = append(rules, one.node)
	}
	f.lines("rules", rules)
	if doc.End.Variant != first.End.Variant {
		f.node_("end", givesNode(doc.End, o.Exact))
	}
	return f, nil
}

func sameValue(a, b json.RawMessage) bool {
	x, err := valueNode(a)
	if err != nil {
		return false
	}
	y, err := valueNode(b)
	if err != nil {
		return false
	}
	p, err := yaml.Marshal(x)
	if err != nil {
		return false
	}
	q, err := yaml.Marshal(y)
	return err == nil && string(p) == string(q)
}

func givesNode(g flag.Gives, exact bool) *yaml.Node {
	if g.Shares == nil {
		return text(g.Variant)
	}
	s, f := g.Shares, newFields()
	f.texts("by", s.By)
	shares, ranges := newFields(), newFields()
	shares.node.Style = yaml.FlowStyle
	goes := ""
	for _, p := range s.Parts {
		name := p.Variant
		if p.GoesOn {
			name, goes = left, bucket.Percent(p.Share)
		} else {
			shares.text(p.Variant, bucket.Percent(p.Share))
		}
		all := &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq", Style: yaml.FlowStyle}
		for _, r := range p.Ranges {
			all.Content = append(all.Content, anyNode([]any{json.Number(strconv.Itoa(int(r[0]))),
				json.Number(strconv.Itoa(int(r[1])))}))
		}
		ranges.node_(name, all)
	}
	f.fields("shares", shares)
	f.text("left", goes)
	if s.Like != nil {
		like := newFields()
		like.node.Style = yaml.FlowStyle
		like.text("flag", s.Like.Flag)
		like.text("rule", s.Like.Rule)
		f.fields("like", like)
	}
	if exact {
		f.text("salt", s.Salt)
		f.number("hash", int64(s.Hash))
		f.fields("ranges", ranges)
	}
	return f.node
}

// ReadFlag reads a flag.
func ReadFlag(raw []byte) (*Flag, error) {
	var in flagFile
	root, err := read("flag", raw, &in)
	if err != nil {
		return nil, err
	}
	r := &flagReader{root: root, kept: map[string][]string{}}
	out := &Flag{root: root, Kept: r.kept, In: map[string]*flag.Document{}, Definition: app.Definition{Key: in.Key,
		Title: cmp.Or(in.Title, in.Key), Description: in.Description, Type: flag.Type(cmp.Or(in.Type,
			string(flag.Boolean))), Resting: in.Resting, End: cmp.Or(in.End, in.Resting), Recipe: in.Recipe,
		Loses: in.Loses, GoneBy: in.GoneBy, Owners: append([]string{}, in.Owners...), Tags: append([]string{},
			in.Tags...), Visible: in.Visible, Muted: in.Muted}}
	d := &out.Definition
	for _, name := range names(root, "variants") {
		d.Variants = append(d.Variants, app.Variant{Name: name, Value: in.Variants[name]})
		if mend := flag.CheckVariant(name); mend != "" {
			r.wrong(mend, "variants", name)
		} else if mend := flag.CheckNewValue(d.Type, in.Variants[name]); mend != "" {
			r.wrong(mend, "variants", name)
		}
	}
	if mend := flag.CheckKey(in.Key); mend != "" {
		r.wrong(mend, "flag")
	}
	if _, err := time.Parse(time.DateOnly, in.GoneBy); err != nil && in.GoneBy != "stays" {
		r.wrong(`must be a date such as 2027-03-31, or "stays"`, "goneBy")
	}
	r.variant(d, d.Resting, "resting")
	if in.End != "" {
		r.variant(d, d.End, "end")
	}
	for _, env := range names(root, "environments") {
		out.In[env] = r.document(d, env, in.Environments[env])
	}
	if len(r.found) > 0 {
		return nil, r.found
	}
	return out, nil
}

type flagReader struct {
	root  *yaml.Node
	kept  map[string][]string
	found Problems
}

func (r *flagReader) wrong(mend string, path ...string) {
	r.found = append(r.found, wrong(r.root, mend, path...))
}

func (r *flagReader) variant(d *app.Definition, name string, path ...string) {
	if !slices.ContainsFunc(d.Variants, func(v app.Variant) bool { return v.Name == name }) {
		var all []string
		for _, v := range d.Variants {
			all = append(all, v.Name)
		}
		r.wrong(fmt.Sprintf("%q is no variant of this flag%s", name, nearest(name, all)), path...)
	}
}

func (r *flagReader) document(d *app.Definition, env string, in flagIn) *flag.Document {
	at := func(more ...string) []string { return append([]string{"environments", env}, more...) }
	doc := flags.FirstDocument(d)
	doc.Lever = flag.Lever(cmp.Or(in.Lever, string(doc.Lever)))
	for _, name := range sorted(in.Values) {
		r.variant(d, name, at("values", name)...)
		if mend := flag.CheckNewValue(d.Type, in.Values[name]); mend != "" {
			r.wrong(mend, at("values", name)...)
		}
		doc.Variants[name] = in.Values[name]
	}
	if in.Resting != "" {
		r.variant(d, in.Resting, at("resting")...)
		doc.Resting = in.Resting
	}
	doc.Needs, doc.RestAfter = in.Needs, in.RestAfter
	ids := map[string]bool{}
	for i, rule := range in.Rules {
		n := strconv.Itoa(i)
		one := flag.Rule{ID: rule.ID, Name: rule.Name, Parked: rule.Parked,
			OnUnknown: flag.OnUnknown(rule.OnUnknown)}
		if rule.ID != "" && ids[rule.ID] {
			r.wrong(rule.ID+" stands twice: each rule has an id of its own; a new one needs none", at("rules", n,
				"id")...)
		}
		ids[rule.ID] = true
		var err error
		if one.When, err = when(r.root, rule.When, at("rules", n, "when")...); err != nil {
			r.found = append(r.found, err.(Problems)...)
		}
		switch {
		case rule.Kept && (rule.ID == "" || rule.When != "" || len(rule.Gives) > 0 || rule.Parked ||
			rule.OnUnknown != ""):
			r.wrong("a rule that is kept as it is has an id and a name, and nothing besides", at("rules", n,
				"kept")...)
		case rule.Kept:
			r.kept[env] = append(r.kept[env], rule.ID)
		case len(rule.Gives) == 0:
			r.wrong("say what the rule gives", at("rules", n)...)
		default:
			one.Gives = r.gives(d, rule.Gives, false, at("rules", n, "gives")...)
		}
		doc.Rules = append(doc.Rules, one)
	}
	if len(in.End) > 0 {
		doc.End = r.gives(d, in.End, true, at("end")...)
	}
	return doc
}

func (r *flagReader) gives(d *app.Definition, raw json.RawMessage, end bool, path ...string) (g flag.Gives) {
	if json.Unmarshal(raw, &g.Variant) == nil {
		r.variant(d, g.Variant, path...)
		return g
	}
	var in flagShares
	if err := json.Unmarshal(raw, &in); err != nil {
		r.wrong("must be a variant, or shares", path...)
		return g
	}
	s := &flag.Shares{By: in.By, Salt: in.Salt, Hash: in.Hash, Like: in.Like}
	sum := uint64(0)
	add := func(p flag.Part, name, share string, at ...string) {
		var err error
		if p.Share, err = bucket.ParsePercent(share); err != nil {
			r.wrong(err.Error(), append(slices.Clone(path), at...)...)
		}
		p.Ranges = append([]flag.Ranges{}, in.Ranges[name]...)
		sum += uint64(p.Share)
		s.Parts = append(s.Parts, p)
	}
	for _, name := range names(r.root, append(slices.Clone(path), "shares")...) {
		r.variant(d, name, append(slices.Clone(path), "shares", name)...)
		add(flag.Part{Variant: name}, name, in.Shares[name], "shares", name)
	}
	if in.Left != "" && end {
		r.wrong("nothing comes after the end: give a variant", append(slices.Clone(path), left)...)
	} else if in.Left != "" {
		add(flag.Part{GoesOn: true}, left, in.Left, left)
	}
	if sum != bucket.Buckets && len(r.found) == 0 {
		r.wrong(fmt.Sprintf("the shares add up to %s: they must add up to exactly 100 %%, what is left to the "+
			"rules "+
			"below among them", bucket.Percent(sum)), append(slices.Clone(path), "shares")...)
	}
	g.Shares = s
	return g
}
