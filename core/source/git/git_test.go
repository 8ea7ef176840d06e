package git

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// repository makes one with a few files and a commit, and returns its
// directory and the commit.
func repository(t testing.TB, format string) (dir, commit string) {
	t.Helper()
	dir = filepath.Join(t.TempDir(), "tide gauge")
	for name, text := range map[string]string{"a": "one", "dir/b c": "two", "dir.d/x": "three", "run": "#!/bin/sh\n", "sub/.gitattributes": "* export-ignore export-subst\n", "sub/y": "$Format:%H$"} {
		os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755)
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	os.Chmod(filepath.Join(dir, "run"), 0o755)
	os.Symlink("dir/b c", filepath.Join(dir, "link"))
	run(t, dir, "init", "-q", "--object-format="+format, "-b", "main")
	run(t, dir, "add", ".")
	run(t, dir, "commit", "-q", "-m", "a commit\n\ntree of lies")
	return dir, run(t, dir, "rev-parse", "HEAD")
}

func run(t testing.TB, dir string, args ...string) string {
	t.Helper()
	cmd := exec.Command("git", append([]string{"-c", "user.name=Ines", "-c", "user.email=ines@saltmarsh.example"}, args...)...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return strings.TrimSpace(string(out))
}

// An archive is what the commit has, and can be told from any other.
func TestArchive(t *testing.T) {
	for _, format := range []string{"sha1", "sha256"} {
		dir, commit := repository(t, format)
		objects, err := OpenObjects(t.Context(), dir)
		if err != nil {
			t.Fatal(err)
		}
		object, err := objects.CommitObject(commit)
		if err := errors.Join(err, objects.Close()); err != nil {
			t.Fatal(err)
		}
		var first, second bytes.Buffer
		if err := errors.Join(WriteArchive(t.Context(), dir, commit, "tide-1", &first), WriteArchive(t.Context(), dir, commit, "tide-1", &second)); err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(first.Bytes(), second.Bytes()) {
			t.Error("two archives of one commit differ")
		}
		if err := VerifyArchive(t.Context(), commit, object, bytes.NewReader(first.Bytes())); err != nil {
			t.Errorf("%s: %v", format, err)
		}
		if !strings.Contains(first.String(), "$Format:%H$") {
			t.Error("attributes changed the files")
		}
		for what, bad := range map[string][]byte{
			"other contents": bytes.Replace(first.Bytes(), []byte("three"), []byte("other"), 1),
			"another name":   bytes.Replace(first.Bytes(), []byte("sub/y"), []byte("sub/z"), 1),
			"a file more":    extended(t, first.Bytes()),
			"nothing":        {},
		} {
			if err := VerifyArchive(t.Context(), commit, object, bytes.NewReader(bad)); err == nil {
				t.Errorf("%s: %s passes for the commit's", format, what)
			}
		}
		forged := bytes.Replace(object, []byte("a commit"), []byte("a c0mmit"), 1)
		if err := VerifyArchive(t.Context(), commit, forged, bytes.NewReader(first.Bytes())); err == nil {
			t.Errorf("%s: another object passes for the commit's", format)
		}
	}
	if err := VerifyArchive(t.Context(), "v1.0", nil, strings.NewReader("")); err == nil {
		t.Error("a tag passes for a commit")
	}
}

// extended adds a file to an archive.
func extended(t *testing.T, data []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	r, w := tar.NewReader(bytes.NewReader(data)), tar.NewWriter(&out)
	for {
		h, err := r.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		w.WriteHeader(h)
		io.Copy(w, r)
	}
	w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: "tide-1/zzz", Mode: 0o644})
	w.Close()
	return out.Bytes()
}

// Nothing that a repository's configuration or the caller's environment names
// is run.
func TestForeignConfiguration(t *testing.T) {
	dir, commit := repository(t, "sha1")
	mark := filepath.Join(t.TempDir(), "mark")
	command := "touch '" + mark + "'; cat"
	for key, value := range map[string]string{
		"core.fsmonitor": command, "core.sshCommand": command, "core.pager": command, "core.editor": command, "core.askPass": command,
		"diff.external": command, "gpg.program": command, "log.showSignature": "true", "filter.x.clean": command, "filter.x.smudge": command, "filter.x.process": command,
		"diff.x.textconv": command, "diff.x.command": command, "alias.log": "!" + command, "protocol.ext.allow": "always", "credential.helper": "!" + command,
		"remote.origin.url": "ext::sh -c " + strings.ReplaceAll("touch "+mark, " ", "% "), "remote.origin.promisor": "true", "extensions.partialClone": "origin", "remote.origin.uploadpack": command,
	} {
		run(t, dir, "config", key, value)
	}
	os.WriteFile(filepath.Join(dir, ".git/info/attributes"), []byte("* filter=x diff=x\n"), 0o644)
	os.MkdirAll(filepath.Join(dir, ".git/hooks"), 0o755)
	for _, hook := range []string{"post-index-change", "reference-transaction", "post-checkout", "pre-auto-gc"} {
		os.WriteFile(filepath.Join(dir, ".git/hooks", hook), []byte("#!/bin/sh\ntouch '"+mark+"'\n"), 0o755)
	}
	other, _ := repository(t, "sha1")
	for name, value := range map[string]string{
		"GIT_DIR": filepath.Join(other, ".git"), "GIT_WORK_TREE": other, "GIT_INDEX_FILE": "/nonexistent", "GIT_EXTERNAL_DIFF": command, "GIT_PAGER": command,
		"GIT_SSH_COMMAND": command, "GIT_CONFIG_COUNT": "1", "GIT_CONFIG_KEY_0": "core.fsmonitor", "GIT_CONFIG_VALUE_0": command, "GIT_ASKPASS": command, "GIT_PROXY_COMMAND": command,
		"GIT_EXEC_PATH": "/nonexistent", "GIT_TRACE": mark,
	} {
		t.Setenv(name, value)
	}
	for _, args := range [][]string{
		{"log", "-1", "--format=%H"}, {"ls-files", "--others", "--exclude-standard"}, {"ls-files", "--cached"}, {"rev-parse", "--show-toplevel"}, {"ls-tree", "-r", commit},
	} {
		out, err := Output(t.Context(), dir, Local, args...)
		if err != nil {
			t.Errorf("%v: %v", args, err)
		}
		if args[0] == "log" && strings.TrimSpace(string(out)) != commit || args[0] == "rev-parse" && strings.TrimSpace(string(out)) != dir {
			t.Errorf("%v looks at another repository: %s", args, out)
		}
	}
	if err := WriteArchive(t.Context(), dir, commit, "x", io.Discard); err != nil {
		t.Error(err)
	}
	// A missing object is not fetched from wherever the repository says.
	if objects, err := OpenObjects(t.Context(), dir); err != nil {
		t.Error(err)
	} else {
		if err := objects.Object(strings.Repeat("1", 40), func(string, int64, io.Reader) error { return nil }); err == nil {
			t.Error("an object is there that is not")
		}
		objects.Close()
	}
	if _, err := os.Stat(mark); err == nil {
		t.Error("something of the repository's or the environment's ran")
	}
	// Nor is a protocol spoken that the call is not for.
	for address, p := range map[string]Protocols{"ext::sh -c touch% " + mark: Network, "file://" + other: Network, "ssh://-oProxyCommand=touch " + mark + "/x": Network, "https://tide.example/x": Files} {
		if _, err := Output(t.Context(), t.TempDir(), p, "ls-remote", "--", address); err == nil {
			t.Errorf("%s was reached with %q", address, p)
		}
	}
	if _, err := os.Stat(mark); err == nil {
		t.Error("an address ran something")
	}
}

// A call ends with its context, and with all that it started.
func TestCancel(t *testing.T) {
	ctx, cancel := context.WithCancelCause(t.Context())
	why := errors.New("enough")
	cancel(why)
	if _, err := Output(ctx, t.TempDir(), Local, "version"); !errors.Is(err, why) {
		t.Errorf("interrupted: %v", err)
	}
	var refused *Error
	if _, err := Output(t.Context(), t.TempDir(), Local, "log"); !errors.As(err, &refused) || !strings.Contains(refused.Text, "not a git repository") {
		t.Errorf("no repository: %v", err)
	}
	t.Setenv("PATH", t.TempDir())
	if _, err := Output(t.Context(), t.TempDir(), Local, "version"); !errors.Is(err, ErrMissing) {
		t.Errorf("no git: %v", err)
	}
}

func TestHasNested(t *testing.T) {
	for path, want := range map[string]bool{
		".git": true, "a/.git/config": true, ".GIT": true, "a/.Git": true, ".git.": true, ".git /x": true, "GIT~1/config": true, "recipe/.git": true,
		".gitignore": false, "git": false, "a.git/x": false, "": false, "x/.github/y": false,
	} {
		if got := HasNested(path); got != want {
			t.Errorf("%q: %v", path, got)
		}
	}
}

func FuzzVerifyArchive(f *testing.F) {
	dir, commit := repository(f, "sha1")
	var archive bytes.Buffer
	if err := WriteArchive(f.Context(), dir, commit, "x", &archive); err != nil {
		f.Fatal(err)
	}
	object := []byte(run(f, dir, "cat-file", "commit", commit) + "\n")
	f.Add(archive.Bytes(), object)
	f.Fuzz(func(t *testing.T, archive, object []byte) {
		if len(object) > MaxCommit {
			return
		}
		if c, err := ParseCommit(commit, object); err == nil && len(c.Tree) != len(commit) {
			t.Errorf("a commit without a tree: %+v", c)
		}
		VerifyArchive(t.Context(), commit, object, bytes.NewReader(archive))
	})
}
