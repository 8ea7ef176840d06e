package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/gzip"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/files"
	"ellwand.example/core/image"
	"ellwand.example/core/image/disk"
	"ellwand.example/core/image/emulator"
)

type eachEntry func(context.Context, func(image.Entry, io.Reader) error) error

// bootFiles are what a system brings for a unified kernel image.
type bootFiles struct {
	kernel, initrd, stub, release   []byte
	kernelName, initrdName, version string
}

// maxBootFile is how large a kernel or an initrd may be, in bytes.
const maxBootFile = 1 << 30

// stubs are the EFI programs that start a kernel, by architecture.
var stubs = map[string]string{"x86_64": "linuxx64.efi.stub", "aarch64": "linuxaa64.efi.stub", "i686": "linuxia32.efi.stub"}

// bootable is the image as a machine starts it: with its start program.
func (j *imageJob) bootable(ctx context.Context, c *content) (eachEntry, error) {
	start := image.Text("start", emulator.StartPath, emulator.Start, 0o755, c.when)
	return image.Flatten(ctx, slices.Concat(c.system, c.layers, []image.Layer{start}))
}

// findBoot finds the newest kernel of the image, with its initrd, and the stub.
func (j *imageJob) findBoot(ctx context.Context, each eachEntry, withInitrd bool) (*bootFiles, error) {
	arch := j.workspace.Target.Arch
	found := map[string][]byte{}
	names := map[string]string{} // kernels and initrds, by what they are and their version
	wanted := func(p string) bool {
		dir, base := path.Split(p)
		switch {
		case base == stubs[arch] && strings.HasSuffix(dir, "/efi/"), p == "/usr/lib/os-release", p == "/etc/os-release":
			return true
		case dir == "/boot/", strings.HasPrefix(dir, "/usr/lib/modules/") && base == "vmlinuz":
			kind, v := kernelFile(p)
			return kind != "" && (kind != "initrd" || withInitrd) && v != ""
		}
		return false
	}
	err := each(ctx, func(e image.Entry, r io.Reader) error {
		if e.Type != image.File || !wanted(e.Path) {
			return nil
		}
		if e.Size > maxBootFile {
			return fact.Errorf(fact.StatusInput, "%s is larger than %s", e.Path, fact.Bytes(maxBootFile))
		}
		data, err := io.ReadAll(r)
		found[e.Path] = data
		if kind, v := kernelFile(e.Path); kind != "" {
			names[kind+" "+v] = e.Path
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	b := &bootFiles{release: found["/usr/lib/os-release"]}
	if data := found["/etc/os-release"]; data != nil {
		b.release = data
	}
	for p, data := range found {
		if path.Base(p) == stubs[arch] {
			b.stub = data
		}
	}
	for key := range names {
		if v, ok := strings.CutPrefix(key, "kernel "); ok && (b.version == "" || version.Compare(v, b.version) > 0) {
			b.version = v
		}
	}
	lacks := func(what, where string) error {
		return fact.Errorf(fact.StatusInput, "image %s cannot boot: its system has no %s (%s)", j.description.Name, what, where)
	}
	switch {
	case b.version == "":
		return nil, lacks("kernel", "/boot/vmlinuz-VERSION or /usr/lib/modules/VERSION/vmlinuz")
	case b.stub == nil:
		return nil, lacks("EFI stub that starts a kernel", "/usr/lib/…/efi/"+stubs[arch])
	}
	b.kernelName = names["kernel "+b.version]
	b.kernel = found[b.kernelName]
	if withInitrd {
		if b.initrdName = names["initrd "+b.version]; b.initrdName == "" {
			return nil, lacks("initrd for its kernel", "/boot/initrd.img-"+b.version+" or /boot/initramfs-"+b.version+".img")
		}
		b.initrd = found[b.initrdName]
	}
	return b, nil
}

// kernelFile tells whether a path is a kernel or an initrd, and of which version.
func kernelFile(p string) (kind, v string) {
	dir, base := path.Split(p)
	if strings.HasPrefix(dir, "/usr/lib/modules/") && base == "vmlinuz" {
		return "kernel", path.Base(dir)
	}
	for _, shape := range []struct{ kind, prefix, suffix string }{{"kernel", "vmlinuz-", ""}, {"initrd", "initrd.img-", ""}, {"initrd", "initramfs-", ".img"}, {"initrd", "initrd-", ""}} {
		if rest, ok := strings.CutPrefix(base, shape.prefix); ok && dir == "/boot/" {
			if rest, ok := strings.CutSuffix(rest, shape.suffix); ok && rest != "" {
				return shape.kind, rest
			}
		}
	}
	return "", ""
}

// seed is what the identifiers of a disk are made of.
func (j *imageJob) seed() string {
	var all strings.Builder
	all.WriteString(j.description.Name + " " + j.input + " " + j.lock.System.Digest)
	for _, p := range j.lock.Packages {
		all.WriteString(" " + p.SHA256)
	}
	return fact.SHA256([]byte(all.String()))
}

// console are the kernel's words for a console on the screen and on a serial line, and for a
// machine that starts again, in place of standing still, if it cannot start.
const console = "console=tty0 console=ttyS0 panic=30"

// bootDisk writes the image as a disk that boots.
func (j *imageJob) bootDisk(ctx context.Context, c *content, dir string) (o Output, err error) {
	arch := j.workspace.Target.Arch
	if err := disk.CheckArch(arch); err != nil {
		return o, err
	}
	if j.description.Disk.Format == image.Qcow2 {
		if _, err := disk.FindConverter(image.Qcow2); err != nil {
			return o, err
		}
	}
	task := j.app.Progress.Begin("image "+j.description.Name+": disk", 0, "")
	defer task.End("done")
	each, err := j.bootable(ctx, c)
	if err != nil {
		return o, err
	}
	boot, err := j.findBoot(ctx, each, true)
	if err != nil {
		return o, err
	}
	system := cmp.Or(j.description.Disk.Filesystem, image.Ext4)
	s := disk.Spec{Arch: arch, Seed: j.seed(), Boot: filepath.Join(dir, "boot.efi"), Root: filepath.Join(dir, "root."+system), Time: c.when}
	mode := "rw"
	if system == image.Squashfs {
		mode = "ro"
		err = disk.Squashfs(ctx, s.Root, c.when, func(w io.Writer) error { return image.WriteTar(ctx, w, each) })
	} else {
		err = j.ext4(ctx, s, each, filepath.Join(dir, "contents"))
	}
	if err != nil {
		return o, err
	}
	command := fmt.Sprintf("root=PARTUUID=%s rootfstype=%s %s init=%s %s", disk.RootPartition(s.Seed), system, mode, emulator.StartPath, console)
	if err := writeUnified(s.Boot, boot, boot.initrd, strings.TrimSpace(command+" "+j.description.Boot.Command)); err != nil {
		return o, err
	}
	raw := filepath.Join(dir, j.name(".raw"))
	if err := disk.Write(raw, s); err != nil {
		return o, err
	}
	file := raw
	if j.description.Disk.Format == image.Qcow2 {
		file = filepath.Join(dir, j.name(".qcow2"))
		if err := disk.Convert(ctx, raw, file, image.Qcow2); err != nil {
			return o, err
		}
		if err := os.Remove(raw); err != nil {
			return o, err
		}
	}
	return describeOutput(ctx, image.FormDisk, file)
}

// ext4 writes the root file system.
func (j *imageJob) ext4(ctx context.Context, s disk.Spec, each eachEntry, temp string) error {
	if err := os.Mkdir(temp, 0o700); err != nil {
		return err
	}
	size, err := fact.ParseBytes(j.description.Disk.Size)
	if j.description.Disk.Size != "" && err != nil {
		return err
	}
	err = disk.Ext4(ctx, s.Root, disk.Ext4Options{Size: size, Seed: s.Seed, Time: s.Time, Temp: temp}, each)
	return errors.Join(err, os.RemoveAll(temp))
}

func writeUnified(file string, boot *bootFiles, initrd []byte, command string) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	err = disk.Unified{Stub: boot.stub, Kernel: boot.kernel, Initrd: initrd, OSRelease: boot.release, Command: command}.Write(f)
	return errors.Join(err, f.Close())
}

// iso writes the image as an ISO image that boots. All its files are the kernel's first file
// system, in memory, so that no driver for the medium is needed.
func (j *imageJob) iso(ctx context.Context, c *content, dir string) (o Output, err error) {
	arch := j.workspace.Target.Arch
	if err := disk.CheckArch(arch); err != nil {
		return o, err
	}
	task := j.app.Progress.Begin("image "+j.description.Name+": ISO image", 0, "")
	defer task.End("done")
	each, err := j.bootable(ctx, c)
	if err != nil {
		return o, err
	}
	boot, err := j.findBoot(ctx, each, false)
	if err != nil {
		return o, err
	}
	first := filepath.Join(dir, "first.cpio.gz")
	links, err := disk.HardLinks(ctx, each)
	if err != nil {
		return o, err
	}
	if _, err = writeOutput("", first, func(w io.Writer) error {
		z, err := gzip.NewWriterLevel(w, gzip.DefaultCompression)
		if err != nil {
			return err
		}
		return errors.Join(disk.Cpio(ctx, z, each, links), z.Close())
	}); err != nil {
		return o, err
	}
	info, err := os.Stat(first)
	if err != nil {
		return o, err
	}
	if info.Size() > maxBootFile {
		return o, fact.Errorf(fact.StatusInput, "image %s is too large for an ISO image: its files take %s compressed, and %s is the most", j.description.Name, fact.Bytes(info.Size()), fact.Bytes(maxBootFile))
	}
	initrd, err := os.ReadFile(first)
	if err != nil {
		return o, err
	}
	s := disk.Spec{Arch: arch, Seed: j.seed(), Boot: filepath.Join(dir, "iso.efi"), Time: c.when}
	if err := writeUnified(s.Boot, boot, initrd, strings.TrimSpace(fmt.Sprintf("rdinit=%s %s %s", emulator.StartPath, console, j.description.Boot.Command))); err != nil {
		return o, err
	}
	partition := filepath.Join(dir, "iso.esp")
	if err := disk.SystemPartition(partition, s); err != nil {
		return o, err
	}
	file := filepath.Join(dir, j.name(".iso"))
	if err := disk.WriteISO(file, partition, c.when); err != nil {
		return o, err
	}
	return describeOutput(ctx, image.FormISO, file)
}

func describeOutput(ctx context.Context, form, file string) (Output, error) {
	sum, err := files.SHA256(ctx, file)
	if err != nil {
		return Output{}, err
	}
	info, err := os.Stat(file)
	if err != nil {
		return Output{}, err
	}
	return Output{form, file, sum, info.Size()}, nil
}
