package cli

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Every command's --json is one JSON value on standard output, in success and
// in failure.
func TestJSON(t *testing.T) {
	dir := t.TempDir()
	os.Mkdir(filepath.Join(dir, "tmp"), 0o755)
	run := func(args ...string) map[string]any {
		t.Helper()
		cmd := exec.Command(filepath.Join(programDir, "ellwand"), append([]string{"--json"}, args...)...)
		cmd.Dir, cmd.Env = dir, environment(filepath.Dir(dir))
		if args[0] != "demo" && args[0] != "init" {
			cmd.Dir = filepath.Join(dir, "salt")
		}
		cmd.Env = append(cmd.Env, "TMPDIR="+filepath.Join(dir, "tmp"), "HOME="+dir)
		out, _ := cmd.Output()
		var v any
		if err := json.Unmarshal(out, &v); err != nil {
			t.Errorf("ellwand --json %s: %v\n%s", strings.Join(args, " "), err, out)
		}
		object, _ := v.(map[string]any)
		return object
	}
	run("demo", "salt")
	run("init", "new")
	for _, command := range []string{
		"fetch", "build tidegauge", "show tidegauge", "show tidegauge --files", "show tidegauge --steps", "lint --all", "explain", "explain ELL101", "publish --all", "list", "search tide", "search xyzzy",
		"image harbour", "image list", "show harbour", "show harbour --files", "compare harbour images/made/harbour.oci", "image harbour --run", "draft --image tidegauge", "bump tide-almanac --release", "draft upstream/tidegauge-2.4.1.tar.gz --name gauge",
	} {
		run(strings.Fields(command)...)
	}
	for command, want := range map[string]string{
		"build nothing": "1 error in input", "show nothing": "no file and no package", "list nowhere": "there is no repository", "list --channel x": "no channel", "bump tidegauge 0.1": "sorts before",
	} {
		if e := run(strings.Fields(command)...); e == nil || !strings.Contains(e["error"].(string), want) {
			t.Errorf("ellwand --json %s: %v, want an error with %q", command, e, want)
		}
	}
}
