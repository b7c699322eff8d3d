package accessor

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

// The module passes the strict compiler, whatever keys and descriptions are; a flag that is gone, or of another type,
// does not.
func TestTypeScriptCompiles(t *testing.T) {
	t.Parallel()
	raw := func(s string) json.RawMessage { return json.RawMessage(s) }
	all := []app.Definition{
		{Key: "one-touch-open", Description: "ends a comment */ or not", Type: flag.Boolean, Resting: "off",
			Variants: []app.Variant{{Name: "on", Value: raw("true")}, {Name: "off", Value: raw("false")}}, GoneBy: "stays"},
		{Key: "default", Type: flag.Boolean, Resting: "off", Variants: []app.Variant{{Name: "on", Value: raw("true")},
			{Name: "off", Value: raw("false")}}},
		{Key: "arrival.estimate", Type: flag.String, Resting: "a", Variants: []app.Variant{{Name: "a",
			Value: raw(`"it's \"so\""`)}, {Name: "b", Value: raw(`"b"`)}}},
		{Key: "arrival-estimate", Type: flag.Number, Resting: "a", Variants: []app.Variant{{Name: "a", Value: raw("-1.5e3")}}},
		{Key: "2nd", Type: flag.Object, Resting: "a", Variants: []app.Variant{{Name: "a", Value: raw(`{"a":[1,null]}`)}}},
	}
	tsc, err := filepath.Abs("../../../console/node_modules/.bin/tsc")
	if err != nil {
		t.Fatal(err)
	}
	for i := range all {
		all[i].Visible = true
	}
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	args := []string{"--strict", "--noEmit", "--target", "es2022", "--module", "es2022", "--moduleResolution", "bundler"}
	for name, await := range map[string]string{"browser": "", "server": "await "} {
		source, err := TypeScript("pinecrest", all, name == "server")
		if err != nil {
			t.Fatal(err)
		}
		write(name+".ts", string(source))
		args = append(args, write("use-"+name+".ts", "import * as flags from \"./"+name+"\";\n"+
			"export async function f(c: flags.Client) {\n  const on: boolean = "+await+"flags.oneTouchOpen(c);\n"+
			"  // @ts-expect-error it is gone\n  flags.gone(c);\n"+
			"  // @ts-expect-error it is of another type\n  const other: boolean = "+await+"flags.arrivalEstimate(c);\n"+
			"  return [on, other, flags.defaultFlag(c), flags.arrivalEstimate2(c), flags.flag2nd(c)];\n}\n"))
	}
	if out, err := exec.Command(tsc, args...).CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
}
