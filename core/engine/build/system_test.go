package build

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"ellwand.example/core/engine/layer"
	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/workspace"
)

// writeEntries writes entries of an archive, names and contents in turn: names that end in a
// slash are directories, of that mode, and contents that begin with -> are links.
func writeEntries(t *testing.T, w *tar.Writer, directory int64, entries []string) {
	t.Helper()
	for i := 0; i < len(entries); i += 2 {
		h := &tar.Header{Name: entries[i], Mode: 0o755, ModTime: time.Unix(1e9, 0), Typeflag: tar.TypeReg, Size: int64(len(entries[i+1]))}
		if link, ok := strings.CutPrefix(entries[i+1], "->"); ok {
			h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, link, 0
		} else if strings.HasSuffix(entries[i], "/") {
			h.Typeflag, h.Mode = tar.TypeDir, directory
		}
		if err := w.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		if h.Size > 0 {
			fmt.Fprint(w, entries[i+1])
		}
	}
}

// rootArchive writes a root as an archive, of entries as writeEntries takes them.
func rootArchive(t *testing.T, entries ...string) string {
	t.Helper()
	var b bytes.Buffer
	z, err := zstd.NewWriter(&b)
	if err != nil {
		t.Fatal(err)
	}
	w := tar.NewWriter(z)
	writeEntries(t, w, 0o511, entries)
	if err := errors.Join(w.Close(), z.Close()); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(t.TempDir(), "root.tar.zst")
	if err := os.WriteFile(file, b.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	return file
}

func TestSystem(t *testing.T) {
	withShell := []string{"bin", "->usr/bin", "usr/", "", "usr/bin/", "", "usr/bin/sh", "#!", "etc/", "", "etc/the harbour", "Saltmarsh"}
	for _, c := range []struct {
		title, system, arch string
		want                string // part of the error
	}{
		{title: "this machine"},
		{title: "this machine by name", system: workspace.HostSystem},
		{title: "an archive", system: rootArchive(t, withShell...)},
		{title: "an archive with absolute links", system: rootArchive(t, append([]string{"lib", "->/usr/lib"}, withShell...)...)},
		{title: "an archive without a shell", system: rootArchive(t, "etc/", ""), want: "has no /bin/sh"},
		{title: "an archive that leads out", system: rootArchive(t, "etc", "->/tmp", "etc/x", "y"), want: "etc/x"},
		{title: "an archive with a path above", system: rootArchive(t, "../x", "y"), want: "../x"},
		{title: "a file that is none", system: "/proc/self/status", want: "status"},
		{title: "another architecture", arch: "riscv64", want: "do not run on this machine"},
		{title: "something missing", system: "/nonexistent/root", want: "no such file"},
	} {
		t.Run(c.title, func(t *testing.T) {
			w, err := workspace.Init(filepath.Join(t.TempDir(), "w"))
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { layer.RemoveAll(w.State("systems")) })
			w.On.System = c.system
			if c.arch != "" {
				w.Target.Arch = c.arch
			}
			dir, err := System(t.Context(), w, progress.None)
			if c.want != "" {
				if err == nil || !strings.Contains(err.Error(), c.want) {
					t.Fatalf("%q, %v, want %s", dir, err, c.want)
				}
				var system *SystemError
				if errors.As(err, &system) && system.Status() != fact.StatusMachine {
					t.Errorf("its status is %v", system.Status())
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			if c.system == "" || c.system == workspace.HostSystem {
				if dir != "" {
					t.Errorf("it is at %q", dir)
				}
				return
			}
			if data, err := os.ReadFile(filepath.Join(dir, "etc", "the harbour")); err != nil || string(data) != "Saltmarsh" {
				t.Errorf("%q, %v", data, err)
			}
			// The second time it is there already.
			if again, err := System(t.Context(), w, progress.None); err != nil || again != dir {
				t.Errorf("again: %q, %v", again, err)
			}
		})
	}
}

func TestSystemInterrupted(t *testing.T) {
	w, err := workspace.Init(filepath.Join(t.TempDir(), "w"))
	if err != nil {
		t.Fatal(err)
	}
	w.On.System = rootArchive(t, "bin/", "", "bin/sh", strings.Repeat("#", 1<<20))
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := System(stopped, w, progress.None); !errors.Is(err, context.Canceled) {
		t.Errorf("after an interruption: %v", err)
	}
	left, err := os.ReadDir(w.State("systems"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) || len(left) > 0 {
		t.Errorf("%d things are left, %v", len(left), err)
	}
}
