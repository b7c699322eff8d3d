package folder

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"

	"greenlever.example/greenlever/internal/files"
)

// Versions are what was saved: the version of each thing, or a digest of it where it has none, and a digest of each
// file. They stand in the sidecar.
type Versions struct {
	Project string            `json:"project"`
	Things  map[string]string `json:"things"`
	Files   map[string]string `json:"files"`
	Saved   map[string]string `json:"saved,omitempty"` // a digest of what the files say of each thing
}

// VersionsFile is where they stand.
const VersionsFile = Sidecar + "/versions.json"

// ReadVersions reads them; nil where the bytes are none.
func ReadVersions(raw []byte) *Versions {
	v := &Versions{}
	if json.Unmarshal(raw, v) != nil || v.Things == nil {
		return nil
	}
	return v
}

// Versions are those of a project as it is. written are its files.
func (w *Whole) Versions(written map[string][]byte) *Versions {
	out := &Versions{Project: w.Project.Key, Things: map[string]string{"project": digest([]byte(w.Project.Title))},
		Files: map[string]string{}}
	set := func(thing string, version int64) { out.Things[thing] = fmt.Sprint(version) }
	saved := func(thing string, raw []byte, err error) {
		if err == nil {
			out.Things[thing] = digest(raw)
		}
	}
	for i := range w.Environments {
		e := w.Environments[i]
		saved("environment/"+e.Key, fmt.Append(nil, e.Title, e.AskFirst, e.OwnersOnly, e.Signing.String()), nil)
	}
	for i := range w.Flags {
		f := &w.Flags[i]
		set("flag/"+f.Definition.Key, f.Definition.Version)
		for env, one := range f.In {
			set("flag/"+f.Definition.Key+"/"+env, one.Version)
		}
	}
	for i := range w.Segments {
		s := &w.Segments[i]
		saved("segment/"+s.Key, []byte(s.Title), nil)
		for env, one := range s.In {
			set("segment/"+s.Key+"/"+env, one.Version)
		}
	}
	for i := range w.Attributes {
		set("attribute/"+w.Attributes[i].Name, w.Attributes[i].Version)
	}
	for i := range w.Policies {
		set("policy/"+w.Policies[i].Key, w.Policies[i].Version)
	}
	for i := range w.Bundles {
		set("bundle/"+w.Bundles[i].Key, w.Bundles[i].Version)
	}
	for i := range w.Ladders {
		raw, err := files.WriteLadder(&w.Ladders[i])
		saved("ladder/"+w.Ladders[i].Key, raw, err)
	}
	for i := range w.Recipes {
		raw, err := files.WriteRecipe(&w.Recipes[i])
		saved("recipe/"+w.Recipes[i].Key, raw, err)
	}
	for i := range w.Metrics {
		raw, err := files.WriteMetric(&w.Metrics[i])
		saved("metric/"+w.Metrics[i].Key, raw, err)
	}
	for at, raw := range written {
		out.Files[at] = digest(raw)
	}
	return out
}

func digest(raw []byte) string {
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:8])
}

// Moved lists the things that changes overwrite and that are not as they were when the folder was saved; where nothing
// is known of what was saved, those that there are already.
func (v *Versions) Moved(now *Versions, things []string) (moved []string) {
	for _, thing := range things {
		stands, is := now.Things[thing]
		if !is {
			continue // it is new
		}
		if v == nil || v.Things[thing] != stands {
			moved = append(moved, thing)
		}
	}
	slices.Sort(moved)
	return moved
}

// Edited lists the files of a folder that were edited since they were saved, and that writing would overwrite with
// something else. read gives what stands at a path; nil where nothing does.
func (v *Versions) Edited(written map[string][]byte, read func(at string) []byte) (edited []string) {
	for at, raw := range written {
		stands := read(at)
		if stands == nil || string(stands) == string(raw) || v != nil && v.Files[at] == digest(stands) {
			continue
		}
		edited = append(edited, at)
	}
	slices.Sort(edited)
	return edited
}
