package emulator

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/image/disk"
)

// stand puts a program in the place of the emulator, which says what a machine would, and a file
// in the place of its firmware.
func stand(t *testing.T, script string) Machine {
	t.Helper()
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "qemu-system-x86_64"), []byte("#!/bin/sh\n"+script), 0o755); err != nil {
		t.Fatal(err)
	}
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	firmware := filepath.Join(dir, "firmware")
	os.WriteFile(firmware, nil, 0o644)
	before := programs["x86_64"]
	changed := before
	changed.firmware = []string{firmware}
	programs["x86_64"] = changed
	t.Cleanup(func() { programs["x86_64"] = before })
	return Machine{Arch: "x86_64", Disk: "a disk,with commas.raw", Format: "raw", Memory: 1 << 30, Temp: t.TempDir()}
}

func TestVerdict(t *testing.T) {
	for _, c := range []struct {
		name, script string
		verdict      bool
		status       int
		err          string
	}{
		{"passed", `printf 'booting\r\nellwand-trial: begin\r\ntide\r\nellwand-trial: status 0\r\nPower down\r\n'`, true, 0, ""},
		{"failed", `printf 'ellwand-trial: status 7\r\n'`, true, 7, ""},
		{"only the first counts", `printf 'ellwand-trial: status 7\nellwand-trial: status 0\n'`, true, 7, ""},
		{"no verdict", `printf 'ellwand-trial: status nothing\nsays ellwand-trial: status 0\n'`, false, 0, ""},
		{"it does not start", `echo 'no such disk' >&2; exit 1`, false, 0, "no such disk"},
		{"much on one line", `head -c 300000 /dev/zero | tr '\0' x; printf '\nellwand-trial: status 0\n'`, true, 0, ""},
		{"it fails after the verdict", `printf 'ellwand-trial: status 0\n'; exit 1`, true, 0, ""},
		{"the processor fails it", `case "$*" in *kvm*) echo 'KVM internal error. Suberror: 1' >&2; sleep 60 ;; *) printf 'ellwand-trial: status 0\n' ;; esac`, true, 0, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := stand(t, c.script)
			var out bytes.Buffer
			m.Output = &out
			r, err := Run(t.Context(), m)
			if r.Verdict != c.verdict || r.Status != c.status || (err != nil) != (c.err != "") || err != nil && !strings.Contains(err.Error(), c.err) {
				t.Errorf("%+v, %v", r, err)
			}
		})
	}
}

// The command line has everything, whatever the names of files are.
func TestCommand(t *testing.T) {
	m := stand(t, "")
	m.ISO, m.Script = "one.iso", "true"
	argv, err := m.command()
	line := strings.Join(argv, " ")
	for _, want := range []string{"file=a disk,,with commas.raw", "-m 1024", "-nic none", "snapshot=on", "serial=" + serial, "media=cdrom,readonly=on"} {
		if !strings.Contains(line, want) {
			t.Errorf("%q is not in %s, %v", want, line, err)
		}
	}
	info, err := os.Stat(filepath.Join(m.Temp, "trial"))
	if err != nil || info.Size()%disk.MiB != 0 {
		t.Errorf("%v, %v", info, err)
	}
	m.Arch = "s390x"
	var missing *disk.MissingError
	if _, err := m.command(); !errors.As(err, &missing) {
		t.Error(err)
	}
}

// A machine that does not end is ended.
func TestEndless(t *testing.T) {
	m := stand(t, "sleep 60")
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	began := time.Now()
	if _, err := Run(ctx, m); !errors.Is(err, context.DeadlineExceeded) || time.Since(began) > 30*time.Second {
		t.Errorf("%v after %v", err, time.Since(began))
	}
}

// The start program is valid for the shells that systems have.
func TestStart(t *testing.T) {
	cmd := exec.Command("sh", "-n")
	cmd.Stdin = strings.NewReader(Start)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Errorf("%v\n%s", err, out)
	}
}
