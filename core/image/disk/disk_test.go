package disk

import (
	"bytes"
	"context"
	"crypto/sha256"
	"debug/pe"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/diskfs/go-diskfs/backend/file"
	"github.com/diskfs/go-diskfs/filesystem/fat32"
	"github.com/diskfs/go-diskfs/filesystem/iso9660"
	"github.com/diskfs/go-diskfs/partition/gpt"

	"ellwand.example/core/image"
	"ellwand.example/core/testtool"
)

var when = time.Date(2031, 4, 2, 0, 0, 0, 0, time.UTC)

func TestUnified(t *testing.T) {
	u := Unified{Stub: testtool.EFIStub(), Kernel: bytes.Repeat([]byte("kernel"), 1000), Initrd: []byte("initrd"), OSRelease: []byte("ID=saltmarsh\n"), Command: "root=/dev/vda2 quiet"}
	var b bytes.Buffer
	if err := u.Write(&b); err != nil {
		t.Fatal(err)
	}
	f, err := pe.NewFile(bytes.NewReader(b.Bytes()))
	if err != nil {
		t.Fatal(err)
	}
	end := uint32(0)
	for _, s := range f.Sections {
		if s.VirtualAddress < end || s.VirtualAddress%4096 != 0 || s.Offset%512 != 0 {
			t.Errorf("%s is at %#x in memory and %#x in the file", s.Name, s.VirtualAddress, s.Offset)
		}
		end = s.VirtualAddress + s.VirtualSize
	}
	for name, want := range map[string]string{".linux": string(u.Kernel), ".initrd": "initrd", ".osrel": "ID=saltmarsh\n", ".cmdline": "root=/dev/vda2 quiet\x00"} {
		s := f.Section(name)
		if s == nil {
			t.Fatalf("there is no section %s", name)
		}
		if data, err := s.Data(); err != nil || string(data[:s.VirtualSize]) != want {
			t.Errorf("%s: %q, %v", name, data, err)
		}
	}
	if size := f.OptionalHeader.(*pe.OptionalHeader64).SizeOfImage; size < end {
		t.Errorf("the image has %d bytes in memory, and its sections end at %d", size, end)
	}
	u.Initrd = nil
	b.Reset()
	if err := u.Write(&b); err != nil {
		t.Fatal(err)
	}
	if f, _ := pe.NewFile(bytes.NewReader(b.Bytes())); f.Section(".initrd") != nil {
		t.Error("an initrd that is not there has a section")
	}
	crowded := testtool.EFIStub()
	binary.LittleEndian.PutUint32(crowded[64+coffSize+240+20:], 64+coffSize+240+sectionHeader)
	for name, bad := range map[string][]byte{"nothing": nil, "no program": []byte("x"), "no room": crowded, "cut short": testtool.EFIStub()[:100]} {
		if err := (Unified{Stub: bad, Kernel: u.Kernel}).Write(io.Discard); err == nil {
			t.Errorf("%s was taken for a stub", name)
		}
	}
}

func FuzzUnified(f *testing.F) {
	f.Add(testtool.EFIStub())
	f.Fuzz(func(t *testing.T, data []byte) {
		var b bytes.Buffer
		if (Unified{Stub: data, Kernel: []byte("kernel"), Command: "quiet"}).Write(&b) == nil && !bytes.Contains(b.Bytes(), []byte("kernel")) {
			t.Error("the kernel is not in it")
		}
	})
}

// spec is what a disk is made of.
func spec(t *testing.T) Spec {
	t.Helper()
	dir := t.TempDir()
	s := Spec{Arch: "x86_64", Seed: "harbour", Boot: filepath.Join(dir, "boot.efi"), Root: filepath.Join(dir, "root"), Time: when}
	os.WriteFile(s.Boot, bytes.Repeat([]byte("boot"), 300_000), 0o644)
	os.WriteFile(s.Root, append(bytes.Repeat([]byte("root"), 300_000), 0, 0, 0), 0o644)
	return s
}

func digest(t *testing.T, name string) string {
	t.Helper()
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return fmt.Sprintf("%x", sha256.Sum256(data))
}

// A disk has the partitions that the specification asks for, with what belongs into them, and
// is the same bytes each time.
func TestWrite(t *testing.T) {
	s := spec(t)
	dir := t.TempDir()
	one, two := filepath.Join(dir, "one.raw"), filepath.Join(dir, "two.raw")
	for _, name := range []string{one, two} {
		if err := Write(name, s); err != nil {
			t.Fatal(err)
		}
		time.Sleep(2100 * time.Millisecond) // FAT counts in two seconds
	}
	if digest(t, one) != digest(t, two) {
		t.Error("two disks of one image differ")
	}
	f, err := os.Open(one)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	table, err := gpt.Read(f, Sector, Sector)
	if err != nil {
		t.Fatal(err)
	}
	esp, root := table.Partitions[0], table.Partitions[1]
	if esp.Type != gpt.EFISystemPartition || root.Type != gpt.LinuxRootX86_64 || !strings.EqualFold(root.GUID, RootPartition("harbour")) || strings.EqualFold(root.GUID, RootPartition("quay")) {
		t.Errorf("%+v\n%+v", esp, root)
	}
	fs, err := fat32.Read(file.New(f, true), int64(esp.Size), int64(esp.Start)*Sector, Sector)
	if err != nil {
		t.Fatal(err)
	}
	in, err := fs.OpenFile("/EFI/BOOT/BOOTX64.EFI", os.O_RDONLY)
	if err != nil {
		t.Fatal(err)
	}
	data, err := io.ReadAll(in)
	if err != nil || !bytes.Equal(data, bytes.Repeat([]byte("boot"), 300_000)) {
		t.Errorf("%d bytes, %v", len(data), err)
	}
	there := make([]byte, 1_200_000)
	if _, err := f.ReadAt(there, int64(root.Start)*Sector); err != nil || !bytes.Equal(there, bytes.Repeat([]byte("root"), 300_000)) {
		t.Error("the root file system is not in its partition", err)
	}
	if err := CheckArch("riscv64"); err == nil {
		t.Error("a disk for a machine that cannot start from it")
	}
	if err := Write(one, s); err == nil {
		t.Error("a disk that is there was written over")
	}
}

func TestISO(t *testing.T) {
	s := spec(t)
	dir := t.TempDir()
	partition := filepath.Join(dir, "esp")
	if err := SystemPartition(partition, s); err != nil {
		t.Fatal(err)
	}
	name := filepath.Join(dir, "one.iso")
	if err := WriteISO(name, partition, when); err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(name)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	info, _ := f.Stat()
	iso, err := iso9660.Read(file.New(f, true), info.Size(), 0, isoBlock)
	if err != nil {
		t.Fatal(err)
	}
	in, err := iso.OpenFile("/ESP.IMG", os.O_RDONLY)
	if err != nil {
		t.Fatal(err)
	}
	got := sha256.New()
	io.Copy(got, in)
	if fmt.Sprintf("%x", got.Sum(nil)) != digest(t, partition) {
		t.Error("the EFI system partition is not what it was")
	}
	// The boot catalog, as firmware finds it.
	head := make([]byte, 23*isoBlock)
	if _, err := f.ReadAt(head, 0); err != nil {
		t.Fatal(err)
	}
	record := head[isoBoot*isoBlock:]
	catalog := head[binary.LittleEndian.Uint32(record[0x47:])*isoBlock:]
	var sum uint16
	for i := 0; i < 32; i += 2 {
		sum += binary.LittleEndian.Uint16(catalog[i:])
	}
	if string(record[7:30]) != "EL TORITO SPECIFICATION" || sum != 0 || catalog[1] != 0xef || catalog[32] != 0x88 || binary.LittleEndian.Uint32(catalog[40:]) != isoFile {
		t.Errorf("%q %d %x", record[7:30], sum, catalog[:64])
	}
}

// tree are entries of all types.
func tree(ctx context.Context, visit func(image.Entry, io.Reader) error) error {
	for _, e := range []struct {
		entry image.Entry
		text  string
	}{
		{image.Entry{Path: "/etc", Type: image.Directory, Mode: 0o755}, ""},
		{image.Entry{Path: "/etc/a \"quoted\" file", Type: image.File, Mode: 0o4750, UID: 300, GID: 70000}, "some text\n"},
		{image.Entry{Path: "/etc/empty", Type: image.File, Mode: 0o000}, ""},
		{image.Entry{Path: "/etc/link", Type: image.Symlink, Mode: 0o777, Link: "a \"quoted\" file"}, ""},
		{image.Entry{Path: "/etc/other", Type: image.Hardlink, Link: "/etc/a \"quoted\" file"}, ""},
		{image.Entry{Path: "/tmp", Type: image.Directory, Mode: 0o1777}, ""},
		{image.Entry{Path: "/usr", Type: image.Directory, Mode: 0o755}, ""},
		{image.Entry{Path: "/usr/bin", Type: image.Directory, Mode: 0o755}, ""},
		{image.Entry{Path: "/usr/share", Type: image.Directory, Mode: 0o755}, ""},
		{image.Entry{Path: "/usr/bin/tide", Type: image.File, Mode: 0o755, Xattrs: map[string]string{"security.capability": "\x01\x00\x00\x02\x00\x04\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"}}, strings.Repeat("tide", 5000)},
		{image.Entry{Path: "/usr/share/ünï", Type: image.File, Mode: 0o644}, "x"},
	} {
		e.entry.Size, e.entry.Modified = int64(len(e.text)), when
		if err := visit(e.entry, strings.NewReader(e.text)); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// A root file system in the ext4 format is sound, has everything, and is the same each time.
func TestExt4(t *testing.T) {
	if _, err := Find("debugfs", ""); err != nil {
		t.Skip(err)
	}
	debugfs, _ := Find("debugfs", "")
	check, _ := Find("e2fsck", "")
	build := func() string {
		file := filepath.Join(t.TempDir(), "root.ext4")
		if err := Ext4(t.Context(), file, Ext4Options{Seed: "harbour", Time: when, Temp: t.TempDir()}, tree); err != nil {
			t.Fatal(err)
		}
		return file
	}
	file := build()
	time.Sleep(1100 * time.Millisecond) // times are in seconds
	if digest(t, file) != digest(t, build()) {
		t.Error("two file systems of one image differ")
	}
	if out, err := exec.Command(check, "-fn", file).CombinedOutput(); err != nil {
		t.Errorf("%v\n%s", err, out)
	}
	ask := func(command string) string {
		out, err := exec.Command(debugfs, "-R", command, file).Output()
		if err != nil {
			t.Fatal(err)
		}
		return string(out)
	}
	stat := ask(`stat "/etc/a ""quoted"" file"`)
	for _, want := range []string{"Mode:  04750", "User:   300", "Group: 70000", "Links: 2", "Size: 10", "Wed Apr  2 00:00:00 2031"} {
		if !strings.Contains(strings.ReplaceAll(stat, "Thu Apr  2", "Wed Apr  2"), want) {
			t.Errorf("%q is not in\n%s", want, stat)
		}
	}
	if got := ask(`cat "/usr/bin/tide"`); got != strings.Repeat("tide", 5000) {
		t.Errorf("%d bytes", len(got))
	}
	if got := ask(`ea_list /usr/bin/tide`); !strings.Contains(got, "security.capability (20)") {
		t.Errorf("%s", got)
	}
	if got := ask(`stat /tmp`) + ask(`stat /etc/link`) + ask(`ls -l /usr/share`); !strings.Contains(got, "Mode:  01777") || !strings.Contains(got, `Fast link dest: "a "quoted" file"`) || !strings.Contains(got, `\xc3\xbcn\xc3\xaf`) {
		t.Errorf("%s", got)
	}
	small := Ext4Options{Size: 20 * MiB, Seed: "x", Time: when, Temp: t.TempDir()}
	if err := Ext4(t.Context(), filepath.Join(t.TempDir(), "small"), small, tree); err == nil || !strings.Contains(err.Error(), "the image's files need") {
		t.Errorf("too small: %v", err)
	}
	odd := func(_ context.Context, visit func(image.Entry, io.Reader) error) error {
		return visit(image.Entry{Path: "/a\nrm *", Type: image.Directory}, nil)
	}
	if err := Ext4(t.Context(), filepath.Join(t.TempDir(), "odd"), Ext4Options{Seed: "x", Time: when, Temp: t.TempDir()}, odd); err == nil || !strings.Contains(err.Error(), "line end") {
		t.Errorf("a line end in a name: %v", err)
	}
}

func TestSquashfs(t *testing.T) {
	testtool.Find(t, "mksquashfs")
	unsquashfs := testtool.Find(t, "unsquashfs")
	build := func() string {
		file := filepath.Join(t.TempDir(), "root.squashfs")
		err := Squashfs(t.Context(), file, when, func(w io.Writer) error {
			return image.WriteTar(t.Context(), w, tree)
		})
		if err != nil {
			t.Fatal(err)
		}
		return file
	}
	file := build()
	time.Sleep(1100 * time.Millisecond)
	if digest(t, file) != digest(t, build()) {
		t.Error("two file systems of one image differ")
	}
	out, err := exec.Command(unsquashfs, "-lln", file).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for _, want := range []string{"-rwsr-x--- 300/70000", "drwxrwxrwt 0/0", "squashfs-root/usr/share/ünï"} {
		if !strings.Contains(string(out), want) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
	broken := errors.New("no more tides")
	if err := Squashfs(t.Context(), filepath.Join(t.TempDir(), "x"), when, func(io.Writer) error { return broken }); !errors.Is(err, broken) {
		t.Errorf("%v", err)
	}
}

// The kernel's first file system has everything in the form that it reads.
func TestCpio(t *testing.T) {
	links, err := HardLinks(t.Context(), tree)
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := Cpio(t.Context(), &b, tree, links); err != nil {
		t.Fatal(err)
	}
	type file struct{ mode, uid, links, inode, size int64 }
	files := map[string]file{}
	data := b.Bytes()
	for at := 0; at < len(data); {
		if string(data[at:at+6]) != "070701" {
			t.Fatalf("no header at %d", at)
		}
		field := func(i int) int64 {
			n, err := strconv.ParseInt(string(data[at+6+8*i:at+14+8*i]), 16, 64)
			if err != nil {
				t.Fatal(err)
			}
			return n
		}
		length, size := int(field(11)), int(field(6))
		name := string(data[at+110 : at+110+length-1])
		files[name] = file{field(1), field(2), field(4), field(0), int64(size)}
		at = (at + 110 + length + 3) / 4 * 4
		at = (at + size + 3) / 4 * 4
		if name == "TRAILER!!!" {
			break
		}
	}
	quoted, other := files[`etc/a "quoted" file`], files["etc/other"]
	if quoted.mode != 0o104750 || quoted.uid != 300 || quoted.links != 2 || quoted.size != 10 || other.inode != quoted.inode || other.links != 2 || other.size != 0 {
		t.Errorf("%+v, %+v", quoted, other)
	}
	if files["etc/link"].mode != 0o120777 || files["tmp"].mode != 0o041777 || len(files) != 12 {
		t.Errorf("%+v", files)
	}
	seen := map[int64]bool{}
	for name, f := range files {
		if seen[f.inode] && f.links < 2 {
			t.Errorf("%s has the inode of another file", name)
		}
		seen[f.inode] = true
	}
	if _, ok := files["TRAILER!!!"]; !ok {
		t.Error("it has no end")
	}
}

func TestFind(t *testing.T) {
	var missing *MissingError
	if _, err := Find("no-such-program", "make tides"); !errors.As(err, &missing) || !strings.Contains(err.Error(), "the program no-such-program is needed to make tides") {
		t.Error(err)
	}
	if !slices.Contains([]string{"sh"}, filepath.Base(func() string { p, _ := Find("sh", ""); return p }())) {
		t.Error("there is no sh")
	}
}
