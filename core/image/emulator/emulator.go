// Package emulator starts images that boot in a virtual machine, and reads from its console how
// a trial ended.
package emulator

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"ellwand.example/core/image/disk"
)

// Machine is a virtual machine to start.
type Machine struct {
	Arch   string // as uname -m prints it
	Disk   string // a file; empty for none
	Format string // of the disk
	ISO    string // a file; empty for none
	Memory int64  // bytes
	// Script is a trial, which the image's own start program runs; empty for none.
	Script string
	Temp   string    // an empty directory
	Output io.Writer // of the console
	Input  io.Reader // for the console; nil for none
}

// Result is how a machine ended.
type Result struct {
	Verdict     bool // the trial told its status
	Status      int  // of the trial
	Accelerated bool // by the machine's own processor
}

// Marks on the console, on lines of their own.
const (
	serial  = "ellwand-trial"
	began   = serial + ": begin"
	verdict = serial + ": status "
)

// programs are the emulators and their kinds of machine, by architecture.
var programs = map[string]struct {
	program, machine string
	firmware         []string
}{
	"x86_64":  {"qemu-system-x86_64", "q35", []string{"/usr/share/ovmf/OVMF.fd", "/usr/share/qemu/OVMF.fd", "/usr/share/edk2/ovmf/OVMF.fd", "/usr/share/edk2/x64/OVMF.4m.fd", "/usr/share/edk2-ovmf/x64/OVMF.fd"}},
	"aarch64": {"qemu-system-aarch64", "virt", []string{"/usr/share/qemu-efi-aarch64/QEMU_EFI.fd", "/usr/share/AAVMF/AAVMF_CODE.fd", "/usr/share/edk2/aarch64/QEMU_EFI.fd"}},
}

// Run starts a machine, and waits until it turns itself off. When the context ends, it is
// killed. Where the processor can run machines but fails at it, as some virtual machines do that
// are to run others, the machine is started again without it.
func Run(ctx context.Context, m Machine) (r Result, err error) {
	argv, err := m.command()
	if err != nil {
		return r, err
	}
	if r.Accelerated = canAccelerate(m.Arch); r.Accelerated {
		err = r.start(ctx, m, append(argv, "-accel", "kvm", "-cpu", "host"))
		if !errors.Is(err, errAcceleration) {
			return r, err
		}
		r.Accelerated = false
	}
	return r, r.start(ctx, m, append(argv, "-accel", "tcg", "-cpu", "max"))
}

// command is the emulator's command line.
func (m Machine) command() ([]string, error) {
	kind, ok := programs[m.Arch]
	if !ok {
		return nil, &disk.MissingError{What: "an emulator for " + m.Arch, For: "run the image"}
	}
	program, err := disk.Find(kind.program, "run the image")
	if err != nil {
		return nil, err
	}
	firmware := ""
	for _, file := range kind.firmware {
		if _, err := os.Stat(file); err == nil {
			firmware = file
			break
		}
	}
	if firmware == "" {
		return nil, &disk.MissingError{What: "EFI firmware for virtual machines of " + m.Arch, For: "run the image"}
	}
	argv := []string{program, "-nodefaults", "-no-user-config", "-machine", kind.machine, "-m", strconv.FormatInt(m.Memory>>20, 10), "-smp", "2", "-bios", firmware,
		"-display", "none", "-monitor", "none", "-serial", "stdio", "-no-reboot", "-nic", "none"}
	// What the machine writes is lost: it goes into a temporary file of the emulator's.
	if m.Disk != "" {
		argv = append(argv, "-drive", "if=none,id=disk,snapshot=on,format="+m.Format+",file="+escape(m.Disk), "-device", "virtio-blk-pci,drive=disk,bootindex=0")
	}
	if m.ISO != "" {
		argv = append(argv, "-drive", "if=none,id=iso,media=cdrom,readonly=on,format=raw,file="+escape(m.ISO), "-device", "virtio-scsi-pci", "-device", "scsi-cd,drive=iso,bootindex=0")
	}
	if m.Script == "" {
		return argv, nil
	}
	file := filepath.Join(m.Temp, "trial")
	// A disk has whole sectors; the shell ignores empty lines.
	text := append([]byte(m.Script), '\n')
	text = append(text, bytes.Repeat([]byte("\n"), (disk.MiB-len(text)%disk.MiB)%disk.MiB)...)
	if err := os.WriteFile(file, text, 0o600); err != nil {
		return nil, err
	}
	return append(argv, "-drive", "if=none,id=trial,readonly=on,format=raw,file="+escape(file), "-device", "virtio-blk-pci,drive=trial,serial="+serial), nil
}

// errAcceleration says that the processor cannot run the machine after all.
var errAcceleration = errors.New("the machine's processor cannot run virtual machines")

// start starts the emulator.
func (r *Result) start(ctx context.Context, m Machine, argv []string) error {
	inner, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	cmd := exec.CommandContext(inner, argv[0], argv[1:]...)
	cmd.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C", "TMPDIR=" + m.Temp, "HOME=" + m.Temp}
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	console := &watcher{out: m.Output}
	said := &complaints{failed: func() { stop(errAcceleration) }}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = m.Input, console, said
	cmd.WaitDelay = time.Second
	err := cmd.Run()
	r.Verdict, r.Status = console.verdict, console.status
	switch {
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case inner.Err() != nil:
		return context.Cause(inner)
	case err != nil && !r.Verdict:
		return fmt.Errorf("%s: %w\n%s", filepath.Base(argv[0]), err, strings.TrimSpace(string(said.text)))
	}
	return nil
}

// complaints keep what the emulator says, and notice when the processor fails it: it would stand
// still then.
type complaints struct {
	text   []byte
	failed func()
}

func (c *complaints) Write(p []byte) (int, error) {
	const most = 4096
	c.text = append(c.text, p[:min(len(p), most-len(c.text))]...)
	if bytes.Contains(c.text, []byte("KVM internal error")) || bytes.Contains(c.text, []byte("failed to initialize kvm")) {
		c.failed()
	}
	return len(p), nil
}

// canAccelerate reports whether the processor can run the machine itself.
func canAccelerate(arch string) bool {
	var u unix.Utsname
	if unix.Uname(&u) != nil || unix.ByteSliceToString(u.Machine[:]) != arch {
		return false
	}
	return unix.Access("/dev/kvm", unix.R_OK|unix.W_OK) == nil
}

// escape writes a file's name in an option, in which two commas stand for one.
func escape(name string) string {
	return string(bytes.ReplaceAll([]byte(name), []byte(","), []byte(",,")))
}

var verdictLine = regexp.MustCompile(`^` + verdict + `([0-9]{1,3})$`)

// watcher passes the console on, and looks for the verdict of a trial.
type watcher struct {
	out     io.Writer
	line    []byte
	verdict bool
	status  int
}

// maxLine is how long a line may be that is looked at.
const maxLine = 4096

func (w *watcher) Write(p []byte) (int, error) {
	for _, b := range p {
		if b != '\n' {
			if len(w.line) < maxLine {
				w.line = append(w.line, b)
			}
			continue
		}
		if m := verdictLine.FindSubmatch(bytes.Trim(w.line, "\r ")); m != nil && !w.verdict {
			w.verdict = true
			w.status, _ = strconv.Atoi(string(m[1]))
		}
		w.line = w.line[:0]
	}
	if w.out != nil {
		if _, err := w.out.Write(p); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

// ErrNoVerdict says that a machine ended before its trial told how it went.
var ErrNoVerdict = errors.New("the machine ended before the trial told its result")

// StartPath is where an image that boots has its start program.
const StartPath = "/usr/lib/ellwand/start"

// Start is the program that the kernel starts first. It starts the system; and if the machine
// brings a trial, it has that run once the system is up.
const Start = `#!/bin/sh
# Starts the system. If the machine has a disk with the serial ` + serial + `, which holds a
# script, that runs once the system is up; its result is told on the console, and the machine is
# turned off.
PATH=/usr/sbin:/usr/bin:/sbin:/bin
export PATH
[ -d /proc/self ] || mount -t proc proc /proc
[ -d /sys/block ] || mount -t sysfs sysfs /sys
[ -c /dev/null ] || mount -t devtmpfs devtmpfs /dev

find_trial() {
	for block in /sys/block/*; do
		name=
		if [ -r "$block/serial" ]; then
			read -r name <"$block/serial"
		fi
		if [ "$name" = ` + serial + ` ]; then
			trial=/dev/${block##*/}
		fi
	done
}

trial=
maker=
if [ -r /sys/class/dmi/id/sys_vendor ]; then
	read -r maker </sys/class/dmi/id/sys_vendor
fi
find_trial
if [ -z "$trial" ] && [ "$maker" = QEMU ]; then
	# A system that was not started from a disk has no driver for one yet.
	modprobe -a virtio_pci virtio_blk 2>/dev/null && sleep 1
	find_trial
fi
if [ -n "$trial" ]; then
	mounted=
	while read -r _ place _; do
		[ "$place" = /run ] && mounted=1
	done </proc/mounts
	[ -n "$mounted" ] || mount -t tmpfs tmpfs /run
	mkdir -p /run/ellwand
	cat "$trial" >/run/ellwand/trial
	cat >/run/ellwand/run <<'END'
#!/bin/sh
exec </dev/null >/dev/console 2>&1
echo
echo "` + began + `"
sh -eu /run/ellwand/trial
status=$?
echo
echo "` + verdict + `$status"
sync
[ -d /run/systemd/system ] && systemctl poweroff --force --force
echo o >/proc/sysrq-trigger
sleep 60
END
	if [ -x /usr/lib/systemd/systemd ]; then
		mkdir -p /run/systemd/system/multi-user.target.wants
		cat >/run/systemd/system/` + serial + `.service <<'END'
[Unit]
Description=Trial of the image
DefaultDependencies=no
After=multi-user.target
[Service]
ExecStart=/bin/sh /run/ellwand/run
END
		ln -sf ../` + serial + `.service /run/systemd/system/multi-user.target.wants/
	else
		sh /run/ellwand/run
	fi
fi
exec /sbin/init "$@"
`
