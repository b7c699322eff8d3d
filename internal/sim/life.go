package sim

import (
	"context"
	"embed"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/folder"
	"greenlever.example/places"
)

// code is the source of Pinecrest's services, as their repository has it.
//
//go:embed door.go labels.go weather.go beside.go
var code embed.FS

// In the demo a flag is settled within minutes: nobody waits for a month.
const settles = 2 * time.Minute

// life is a flag's life beyond one environment: a bundle, an environment for a review, flags at their end.
func (f *furnisher) life() {
	for _, d := range []object{
		{"key": "wide-labels", "title": "Wide labels", "goneBy": "2026-09-30", "owners": []string{"doors"},
			"description": "Prints the site on a parcel's label. Everybody has it since spring.",
			"reason":      "first set-up"},
		{"key": "door-chime", "title": "Door chime", "goneBy": "2026-10-31", "owners": []string{"doors"},
			"description": "A door chimes when it opens. All lockers that can do it do it.",
			"reason":      "first set-up"},
	} {
		f.try(func() error { return f.by["developer"].post(f.ctx, "/projects/pinecrest/flags", d, nil) })
		for _, env := range []string{"development", "staging", "production"} {
			role := "developer"
			if env == "production" {
				role = "releaser"
			}
			f.edit(role, env, d["key"].(string), "everybody has it", func(d *flag.Document) {
				d.Lever = flag.On
				d.Rules = []flag.Rule{{Name: "Everybody", Gives: give("on")}}
			})
		}
	}
	developer := f.by["developer"]
	f.try(func() error {
		return developer.do(f.ctx, "PUT", "/projects/pinecrest/bundles/opening", object{"bundle": object{
			"title": "Opening a locker", "says": "What a recipient meets at the door.",
			"flags": []string{"one-touch-open", "handover-photo", "door-retries"}},
			"reason": "they ship together"}, nil, 0)
	})
	f.try(func() error {
		return developer.post(f.ctx, "/projects/pinecrest/environments/staging/branch", object{"key": "review-482",
			"title": "Review 482: a photo at the door", "for": (72 * time.Hour).Milliseconds(),
			"reason": "for the review"},
			nil)
	})
	f.try(func() error {
		return developer.do(f.ctx, "PUT", "/projects/pinecrest/flags/handover-photo/family",
			object{"family": "review",
				"variant": "on", "reason": "what is reviewed is on"}, nil, 0)
	})
}

// repositories writes what Pinecrest keeps under version control: the source of its services, which is looked
// through
// for places, and the project as files.
func (d *Demo) repositories(ctx context.Context, c Config) error {
	source := filepath.Join(c.Dir, "locker-services")
	if _, err := os.Stat(source); err == nil {
		return nil // of a start before
	}
	err := fs.WalkDir(code, ".", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		raw, err := code.ReadFile(path)
		if err != nil {
			return err
		}
		return write(filepath.Join(source, path), raw)
	})
	if err != nil {
		return err
	}
	git(ctx, source)
	developer := d.caller("developer")
	var whole folder.Whole
	if err := developer.do(ctx, "GET", "/projects/pinecrest/whole", nil, &whole, 0); err != nil {
		return err
	}
	if err := d.scan(ctx, source, &whole); err != nil {
		return err
	}
	flags := filepath.Join(c.Dir, "pinecrest-flags")
	all, err := whole.Files(folder.Options{}, func(string, string, string) ([]string, error) { return nil, nil })
	if err != nil {
		return err
	}
	for at, raw := range all {
		if err := write(filepath.Join(flags, filepath.FromSlash(at)), raw); err != nil {
			return err
		}
	}
	git(ctx, flags)
	return nil
}

func write(path string, raw []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return os.WriteFile(path, raw, 0o600)
}

// git makes a repository of a folder, where there is git.
func git(ctx context.Context, dir string) {
	for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"add", "-A"}, {"-c", "user.name=Noor Berg", "-c",
		"user.email=noor.berg@pinecrest.example", "commit", "-q", "-m", "As it stands"}} {
		if exec.CommandContext(ctx, "git", append([]string{"-C", dir}, args...)...).Run() != nil {
			return
		}
	}
}

// scan reports where the services ask for flags.
func (d *Demo) scan(ctx context.Context, dir string, whole *folder.Whole) error {
	var keys []string
	for i := range whole.Flags {
		keys = append(keys, whole.Flags[i].Definition.Key)
	}
	found, err := places.Scan(ctx, dir, keys, nil)
	if err != nil {
		return err
	}
	scan := app.Scan{Repository: "locker-services", Branch: "main", Commit: "4be1f0c", At: time.Now().UnixMilli(),
		Lines: found.Lines, Places: []app.CodePlace{}, Unknown: []app.CodePlace{}}
	for _, p := range found.Places {
		scan.Places = append(scan.Places, app.CodePlace(p))
	}
	for _, p := range found.Unknown {
		scan.Unknown = append(scan.Unknown, app.CodePlace(p))
	}
	return d.caller("developer").do(ctx, "PUT", "/projects/pinecrest/places", scan, nil, 0)
}
