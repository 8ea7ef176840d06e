package app

import (
	"archive/zip"
	"encoding/json"
	"errors"
	"io"
	"log"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/google/go-containerregistry/pkg/registry"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/image"
	"ellwand.example/core/image/disk"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/plan"
	"ellwand.example/core/recipe"
	"ellwand.example/core/testtool"
)

// newImages starts a workspace with packages libtide, tide (which needs it) and gauge, and an
// image of tide.
func newImages(t *testing.T, description string) *App {
	t.Helper()
	a := newApp(t, "")
	built := a.Workspace.Packages()
	if err := os.MkdirAll(built, 0o755); err != nil {
		t.Fatal(err)
	}
	a.pack(t, built, "libtide", "1", nil)
	a.pack(t, built, "tide", "1", needs("libtide"))
	a.pack(t, built, "gauge", "1", nil)
	a.describe(t, description)
	return a
}

// describe writes the description of the image "station".
func (a *App) describe(t *testing.T, text string) {
	t.Helper()
	write(t, filepath.Join(a.Workspace.Dir, image.Dir, "station.toml"), "format = 1\n"+text)
}

// make makes the image "station".
func (a *App) make(t *testing.T, o ImageOptions) MadeImage {
	t.Helper()
	made, err := a.MakeImage(t.Context(), "station", o)
	if err != nil {
		t.Fatal(err)
	}
	return made[0]
}

// locked lists what the lock of the image "station" has.
func (a *App) locked(t *testing.T) string {
	t.Helper()
	l, err := image.ReadLock(a.Workspace.Dir, "station")
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, p := range l.Targets[a.Workspace.Target.Name].Packages {
		text := p.Name + " " + p.Version
		if p.Asked {
			text += "!"
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

// A lock does not change without a reason, and then as little as possible.
func TestImageLock(t *testing.T) {
	a := newImages(t, `packages = ["tide"]`)
	built := a.Workspace.Packages()
	expect := func(want string) {
		t.Helper()
		if got := a.locked(t); got != want {
			t.Errorf("locked are %q, want %q", got, want)
		}
	}
	if m := a.make(t, ImageOptions{}); m.Locked || len(m.Changes) != 2 || len(m.Packages) != 2 {
		t.Errorf("%+v", m)
	}
	expect("libtide 1, tide 1!")
	a.pack(t, built, "libtide", "2", nil)
	a.pack(t, built, "tide", "2", needs("libtide"))
	if m := a.make(t, ImageOptions{}); !m.Locked || len(m.Changes) != 0 {
		t.Errorf("%+v", m)
	}
	expect("libtide 1, tide 1!")
	a.make(t, ImageOptions{Update: []string{"libtide"}})
	expect("libtide 2, tide 1!")
	// Another wish in the description changes no more than that.
	a.describe(t, `packages = ["tide", "gauge"]`)
	a.make(t, ImageOptions{})
	expect("gauge 1!, libtide 2, tide 1!")
	// What nothing asks for any more goes.
	a.describe(t, `packages = ["gauge"]`)
	a.make(t, ImageOptions{LockOnly: true})
	expect("gauge 1!")
	a.describe(t, `packages = ["tide < 2"]`)
	if m := a.make(t, ImageOptions{UpdateAll: true}); len(m.Changes) != 3 {
		t.Errorf("%+v", m.Changes)
	}
	expect("libtide 2, tide 1!")
	a.describe(t, `packages = ["tide"]`)
	if m := a.make(t, ImageOptions{IfChanged: true}); m.Unchanged || len(m.Changes) != 1 {
		t.Errorf("%+v", m)
	}
	expect("libtide 2, tide 2!")
	if m := a.make(t, ImageOptions{IfChanged: true}); !m.Unchanged {
		t.Errorf("%+v", m)
	}
	// What was made and is gone is made again.
	if err := os.RemoveAll(filepath.Join(a.Workspace.Dir, "images/made")); err != nil {
		t.Fatal(err)
	}
	if m := a.make(t, ImageOptions{IfChanged: true}); m.Unchanged {
		t.Errorf("%+v", m)
	}
}

func TestImageMistakes(t *testing.T) {
	a := newImages(t, `packages = ["tide"]`)
	fails := func(want string, o ImageOptions) error {
		t.Helper()
		_, err := a.MakeImage(t.Context(), "station", o)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
		return err
	}
	a.make(t, ImageOptions{})
	fails(`has no package "gauge"`, ImageOptions{Update: []string{"gauge"}})
	a.describe(t, `packages = ["tyde"]`)
	fails(`did you mean "tide"?`, ImageOptions{})
	a.describe(t, `packages = ["tide > 5"]`)
	var unsolved *solve.NoAnswerError
	if err := fails("tide", ImageOptions{}); !errors.As(err, &unsolved) {
		t.Errorf("%T", err)
	}
	a.describe(t, "packages = [\"tide\"]\ntargets = [\"nowhere\"]")
	fails(`there is no target "nowhere"`, ImageOptions{})
	a.describe(t, "packages = [\"tide\"]\nsystem = \"nowhere.tar\"")
	fails("there is no system nowhere.tar", ImageOptions{})
	a.describe(t, "packages = [\"tide\"]\n[[file]]\npath = \"/etc/x\"\nfrom = \"nothing\"")
	fails("no such file", ImageOptions{})
	a.describe(t, "packages = [\"tide\"]\n[[file]]\npath = \"/etc/x\"\ntext = \"x\"\nowner = \"nobody-there\"")
	fails("has no account nobody-there:root to own /etc/x", ImageOptions{})
	a.describe(t, "packages = [\"tide\"]\n[[file]]\npath = \"/usr/share/tide/x\"\ntext = \"x\"")
	fails("/usr/share/tide is no directory in the image", ImageOptions{})
	a.describe(t, "packages = [\"tide\"]\nforms = [\"disk\"]")
	fails("cannot boot: its system has no kernel", ImageOptions{})
	if left, _ := filepath.Glob(filepath.Join(a.Workspace.Dir, "images/made/.new-*")); len(left) > 0 {
		t.Errorf("left: %q", left)
	}
	// A package that is nowhere any more.
	a.describe(t, `packages = ["tide"]`)
	a.make(t, ImageOptions{UpdateAll: true})
	for _, dir := range []string{a.Workspace.Packages(), keptDir()} {
		if err := os.RemoveAll(dir); err != nil {
			t.Fatal(err)
		}
	}
	var pruned *PrunedError
	if err := fails("libtide@1-1, tide@1-1, which are in no repository any more", ImageOptions{}); !errors.As(err, &pruned) || pruned.Action().Verb != fact.UpdateImage {
		t.Errorf("%T", err)
	}
}

// The versions and digests in a list of packages in JSON are respected.
func TestImageManifest(t *testing.T) {
	a := newImages(t, `manifest = "list.json"`)
	a.pack(t, a.Workspace.Packages(), "tide", "2", nil)
	file := filepath.Join(a.Workspace.Packages(), "gauge@1-1"+ell.Extension)
	sum, err := files.SHA256(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	list := filepath.Join(a.Workspace.Dir, image.Dir, "list.json")
	write(t, list, `{"components": [{"name": "tide", "version": "1"}, {"name": "gauge", "version": "1-1", "digest": "sha256:`+sum+`"}]}`)
	a.make(t, ImageOptions{})
	if got := a.locked(t); got != "gauge 1!, libtide 1, tide 1!" {
		t.Error(got)
	}
	write(t, list, `[{"name": "gauge", "digest": "`+strings.Repeat("0", 64)+`"}]`)
	if _, err := a.MakeImage(t.Context(), "station", ImageOptions{}); err == nil || !strings.Contains(err.Error(), "no repository has the package gauge with the digest 0000") {
		t.Error(err)
	}
}

// An image for two architectures has an index of both, and one lock; without targets of its own,
// it is for the target that is chosen, and what is known of others stays.
func TestImageTargets(t *testing.T) {
	a := newApp(t, "[target.quay-amd]\narch = \"x86_64\"\n[target.quay-arm]\narch = \"aarch64\"\n")
	on := map[string]*App{}
	for _, target := range []string{"quay-amd", "quay-arm"} {
		w := *a.Workspace
		if err := w.ChooseTarget(target); err != nil {
			t.Fatal(err)
		}
		on[target] = &App{Workspace: &w, Progress: a.Progress}
		if err := os.MkdirAll(w.Packages(), 0o755); err != nil {
			t.Fatal(err)
		}
		on[target].pack(t, w.Packages(), "tide", "1", func(f *ell.Facts) { f.Arch = w.Target.Arch })
	}
	a.describe(t, "packages = [\"tide\"]\ntargets = [\"quay-amd\", \"quay-arm\"]\n[oci]\narchive = true")
	made, err := a.MakeImage(t.Context(), "station", ImageOptions{})
	if err != nil || len(made) != 2 {
		t.Fatal(made, err)
	}
	index := made[0].Outputs[len(made[0].Outputs)-1]
	if index.Form != image.FormOCI+" index" || filepath.Base(index.Path) != "station.oci" {
		t.Fatalf("%+v", index)
	}
	for target, architecture := range map[string]string{"quay-amd": "amd64", "quay-arm": "arm64"} {
		c, err := on[target].ReadImage(t.Context(), index.Path)
		if err != nil || c.Config.Architecture != architecture || len(c.Packages) != 1 {
			t.Errorf("%s: %+v, %v", target, c, err)
		}
	}
	locks := func() (names []string) {
		l, err := image.ReadLock(a.Workspace.Dir, "station")
		if err != nil {
			t.Fatal(err)
		}
		return slices.Sorted(maps.Keys(l.Targets))
	}
	if got := locks(); !slices.Equal(got, []string{"quay-amd", "quay-arm"}) {
		t.Errorf("%q", got)
	}
	a.describe(t, "packages = [\"tide\"]\ntargets = [\"quay-arm\"]")
	a.make(t, ImageOptions{})
	if got := locks(); !slices.Equal(got, []string{"quay-arm"}) {
		t.Errorf("%q", got)
	}
	a.describe(t, `packages = ["tide"]`)
	one := on["quay-amd"].make(t, ImageOptions{})
	if got := locks(); !slices.Equal(got, []string{"quay-amd", "quay-arm"}) || filepath.Base(one.Outputs[0].Path) != "station.quay-amd.oci" {
		t.Errorf("%q, %s", got, one.Outputs[0].Path)
	}
}

// A layer that is there is taken from the last image, unless it is damaged.
func TestReusedLayers(t *testing.T) {
	a := newImages(t, `packages = ["tide", "gauge"]`)
	first := a.make(t, ImageOptions{})
	again := a.make(t, ImageOptions{})
	for i, l := range again.Layers {
		if !l.Reused || l.Blob.Digest != first.Layers[i].Blob.Digest {
			t.Errorf("%+v", l)
		}
	}
	blob := filepath.Join(first.Outputs[0].Path, "blobs/sha256", first.Layers[0].Blob.Digest.Encoded())
	if err := os.WriteFile(blob, []byte("damaged"), 0o644); err != nil {
		t.Fatal(err)
	}
	third := a.make(t, ImageOptions{})
	if third.Layers[0].Reused || third.Outputs[0].Digest != first.Outputs[0].Digest {
		t.Errorf("%+v", third.Layers[0])
	}
	if _, err := a.ReadImage(t.Context(), "station"); err != nil {
		t.Error(err)
	}
	// One that is damaged now is told, and not shown.
	if err := os.WriteFile(blob, []byte("damaged"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := a.ReadImage(t.Context(), "station"); err == nil || !strings.Contains(err.Error(), "bytes, and") {
		t.Error(err)
	}
}

// An image goes to a registry, and another one is based on it there: on the very one of the
// lock, until that moves.
func TestImageRegistry(t *testing.T) {
	server := httptest.NewServer(registry.New(registry.Logger(log.New(io.Discard, "", 0))))
	defer server.Close()
	host := strings.TrimPrefix(server.URL, "http://")
	a := newImages(t, `packages = ["tide"]`)
	a.make(t, ImageOptions{})
	if _, _, err := a.PushImage(t.Context(), "station", ""); err == nil || !strings.Contains(err.Error(), "is not told where to be pushed") {
		t.Error(err)
	}
	_, first, err := a.PushImage(t.Context(), "station", host+"/base:7")
	if err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(a.Workspace.Dir, image.Dir, "quay.toml"), "format = 1\npackages = [\"gauge\"]\nsystem = \""+host+"/base:7\"\n")
	quay := func(o ImageOptions) image.SystemLock {
		t.Helper()
		if _, err := a.MakeImage(t.Context(), "quay", o); err != nil {
			t.Fatal(err)
		}
		l, err := image.ReadLock(a.Workspace.Dir, "quay")
		if err != nil {
			t.Fatal(err)
		}
		return l.Targets[a.Workspace.Target.Name].System
	}
	if got := quay(ImageOptions{}); "sha256:"+got.Digest != first {
		t.Errorf("%+v, want %s", got, first)
	}
	a.describe(t, "packages = [\"tide\"]\n[environment]\nTZ = \"UTC\"\n[oci]\nreference = \""+host+"/base:7\"")
	a.make(t, ImageOptions{})
	_, second, err := a.PushImage(t.Context(), "station", "")
	if err != nil || second == first {
		t.Fatal(second, err)
	}
	if err := os.RemoveAll(a.Workspace.State("systems")); err != nil {
		t.Fatal(err)
	}
	if got := quay(ImageOptions{}); "sha256:"+got.Digest != first {
		t.Errorf("the lock's system is %s, and %s was taken", first, got.Digest)
	}
	if got := quay(ImageOptions{UpdateAll: true}); "sha256:"+got.Digest != second {
		t.Errorf("%+v, want %s", got, second)
	}
	c, err := a.ReadImage(t.Context(), "quay")
	if err != nil || !slices.Contains(c.Config.Config.Env, "TZ=UTC") {
		t.Errorf("what the system sets is lost: %+v, %v", c, err)
	}
}

func TestPlannedImages(t *testing.T) {
	a := newImages(t, `packages = ["tide"]`)
	a.make(t, ImageOptions{})
	r, err := a.Workspace.Recipe("tide")
	if err != nil {
		t.Fatal(err)
	}
	planned := []plan.Planned{{Recipe: "tide"}, {Recipe: "other"}}
	if err := a.AddImages(planned, []*recipe.Recipe{r}); err != nil || !slices.Equal(planned[0].Images, []string{"station"}) || planned[1].Images != nil {
		t.Errorf("%+v, %v", planned, err)
	}
	list, err := a.ListImages()
	if err != nil || len(list) != 1 || list[0].Locked != 2 || list[0].Made == nil {
		t.Errorf("%+v, %v", list, err)
	}
	a.describe(t, "packages = 3")
	if list, err := a.ListImages(); err != nil || list[0].Problem == "" {
		t.Errorf("%+v, %v", list, err)
	}
}

func TestDraftImage(t *testing.T) {
	a := newImages(t, `packages = ["tide"]`)
	file, err := a.DraftImage(t.Context(), "", []string{"gauge >= 1", "tide"})
	if err != nil || filepath.Base(file) != "gauge.toml" {
		t.Fatal(file, err)
	}
	if d, err := a.Image("gauge"); err != nil || len(d.Packages) != 2 || d.Summary != "x" {
		t.Errorf("%+v, %v", d, err)
	}
	for want, c := range map[string][2]string{
		"there is an image gauge already":    {"", "gauge"},
		"cannot be the name of an image":     {"list", "gauge"},
		"is not the name of a package":       {"x", "command/tide"},
		"there is no file and no package \"": {"x", "nothing"},
	} {
		if _, err := a.DraftImage(t.Context(), c[0], []string{c[1]}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

// Disks and ISO images are made of what their system has, without root, and are the same twice.
func TestBootableImages(t *testing.T) {
	if _, err := disk.Find("debugfs", ""); err != nil {
		t.Skip(err)
	}
	a := newImages(t, "packages = [\"tide\"]\nsystem = \"system\"\nforms = [\"disk\", \"iso\"]\n[disk]\nsize = \"48 MiB\"\n[boot]\ncommand = \"quiet tide=high\"")
	system := filepath.Join(a.Workspace.Dir, "system")
	arch := a.Workspace.Target.Arch
	for name, text := range map[string]string{
		"boot/vmlinuz-6.1": "old kernel", "boot/vmlinuz-6.12": "new kernel", "boot/initrd.img-6.12": "new initrd", "boot/initrd.img-6.1": "old initrd",
		"usr/lib/os-release": "ID=saltmarsh\n", "usr/lib/systemd/boot/efi/" + stubs[arch]: string(testtool.EFIStub()), "sbin/init": "#!/bin/sh\n",
	} {
		write(t, filepath.Join(system, name), text)
	}
	m := a.make(t, ImageOptions{Twice: true})
	if len(m.Outputs) != 2 || !m.Twice {
		t.Fatalf("%+v", m)
	}
	for i, want := range [][]string{
		{"new kernel", "new initrd", "ID=saltmarsh", "tide=high", "root=PARTUUID=", "init=/usr/lib/ellwand/start"},
		{"new kernel", "rdinit=/usr/lib/ellwand/start", "tide=high"},
	} {
		data, err := os.ReadFile(m.Outputs[i].Path)
		if err != nil {
			t.Fatal(err)
		}
		for _, text := range want {
			if !strings.Contains(string(data), text) {
				t.Errorf("%s does not have %q", m.Outputs[i].Path, text)
			}
		}
	}
	fails := func(want string) {
		t.Helper()
		if _, err := a.MakeImage(t.Context(), "station", ImageOptions{UpdateAll: true, Forms: []string{"disk"}}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	for _, gone := range []struct{ name, want string }{{"boot/initrd.img-6.12", "has no initrd for its kernel"}, {"usr/lib/systemd/boot/efi/" + stubs[arch], "has no EFI stub"}, {"boot", "has no kernel"}} {
		if err := os.RemoveAll(filepath.Join(system, gone.name)); err != nil {
			t.Fatal(err)
		}
		fails(gone.want)
	}
}

func TestKernelFile(t *testing.T) {
	for p, want := range map[string]string{
		"/boot/vmlinuz-6.1.0-50-amd64": "kernel 6.1.0-50-amd64", "/usr/lib/modules/6.12.1/vmlinuz": "kernel 6.12.1", "/boot/initrd.img-6.1": "initrd 6.1", "/boot/initramfs-6.1.img": "initrd 6.1",
		"/boot/initrd-6.1": "initrd 6.1", "/boot/vmlinuz-": " ", "/boot/config-6.1": " ", "/etc/vmlinuz-6.1": " ", "/boot/grub/vmlinuz-6.1": " ",
	} {
		if kind, v := kernelFile(p); kind+" "+v != want {
			t.Errorf("%s is %q %q, want %q", p, kind, v, want)
		}
	}
}

func TestEnvironment(t *testing.T) {
	got := environment([]string{"PATH=/bin", "A=1=2", "B="}, map[string]string{"B": "3", "C": "4"})
	if !slices.Equal(got, []string{"A=1=2", "B=3", "C=4", "PATH=/bin"}) {
		t.Errorf("%q", got)
	}
	if got := environment(nil, nil); len(got) != 1 || !strings.HasPrefix(got[0], "PATH=/usr/local/sbin:") {
		t.Errorf("%q", got)
	}
	for reference, want := range map[string]string{"host:5000/name:1.0": "1.0", "host:5000/name": "", "name:2": "2", "": ""} {
		if got := tagOf(reference); got != want {
			t.Errorf("the tag of %q is %q", reference, got)
		}
	}
}

// Bills are of everything, and advisories are about what is in them.
func TestBills(t *testing.T) {
	a := newImages(t, `packages = ["tide"]`)
	a.make(t, ImageOptions{})
	r := a.newRoot(t)
	if _, err := a.ChangeRoot(t.Context(), r, RootChange{Action: "install", Install: []string{"tide"}}); err != nil {
		t.Fatal(err)
	}
	o, err := a.Repository("local", "testing")
	if err != nil {
		t.Fatal(err)
	}
	paths, err := PackageFiles(a.Workspace.Packages())
	if err != nil {
		t.Fatal(err)
	}
	a.Workspace.Settings.Lint.Refuse = "never"
	if _, err := a.Publish(t.Context(), o, paths, PublishOptions{Start: true}); err != nil {
		t.Fatal(err)
	}
	for word, want := range map[string]int{"tide": 1, "station": 2, r.Dir: 2, "local@testing": 3} {
		b, err := a.Bill(t.Context(), word)
		if err != nil || len(b.Packages) != want {
			t.Errorf("%s: %+v, %v", word, b, err)
			continue
		}
		if b.Packages[0].Build == nil {
			t.Errorf("%s: what %s was built from is lost", word, b.Packages[0].Facts.Name)
		}
		one, err := b.SPDX()
		if err != nil {
			t.Fatal(err)
		}
		again, _ := a.Bill(t.Context(), word)
		if two, err := again.SPDX(); err != nil || string(one) != string(two) {
			t.Errorf("the bill of %s is not the same twice, %v", word, err)
		}
	}
	advisories := t.TempDir()
	about := func(id, name string) string {
		return `{"id": "` + id + `", "affected": [{"package": {"purl": "pkg:generic/` + name + `"}, "ranges": [{"type": "ECOSYSTEM", "events": [{"introduced": "0"}, {"fixed": "1.5"}]}]}]}`
	}
	write(t, filepath.Join(advisories, "one.json"), about("A-1", "libtide"))
	write(t, filepath.Join(advisories, "two.json"), about("A-2", "other"))
	check := func(place string) {
		t.Helper()
		found, searched, err := a.Advisories(t.Context(), o, place)
		if err != nil || searched != 2 || len(found) != 1 || found[0].Advisory != "A-1" || found[0].Fixed != "1.5" || !slices.Equal(found[0].Images, []string{"station"}) || !slices.Equal(found[0].Packages, []string{"libtide@1-1"}) {
			data, _ := json.Marshal(found)
			t.Errorf("%s, %d, %v", data, searched, err)
		}
	}
	check(advisories)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/all.zip" {
			http.NotFound(w, r)
			return
		}
		z := zip.NewWriter(w)
		for _, name := range []string{"one.json", "two.json"} {
			f, _ := z.Create(name)
			data, _ := os.ReadFile(filepath.Join(advisories, name))
			f.Write(data)
		}
		z.Close()
	}))
	defer server.Close()
	check(server.URL + "/all.zip")
	if _, _, err := a.Advisories(t.Context(), o, server.URL+"/nothing.zip"); err == nil || !strings.Contains(err.Error(), "404") {
		t.Error(err)
	}
	if left, _ := filepath.Glob(filepath.Join(os.TempDir(), "ellwand-advisories-*")); len(left) > 0 {
		t.Errorf("left: %q", left)
	}
}
