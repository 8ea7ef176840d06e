package disk

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"ellwand.example/core/fact"
)

// MissingError is a program, or a file, that this machine lacks.
type MissingError struct{ What, For string }

func (e *MissingError) Error() string {
	return fmt.Sprintf("%s is needed to %s, and is not on this machine", e.What, e.For)
}

// Status is that of something the machine lacks.
func (e *MissingError) Status() fact.Status { return fact.StatusMachine }

// Find is the path of a program: on the PATH, or where programs of administrators are.
func Find(program, purpose string) (string, error) {
	if path, err := exec.LookPath(program); err == nil {
		return path, nil
	}
	for _, dir := range []string{"/usr/sbin", "/sbin", "/usr/local/sbin"} {
		if path, err := exec.LookPath(filepath.Join(dir, program)); err == nil {
			return path, nil
		}
	}
	return "", &MissingError{"the program " + program, purpose}
}

// run runs a program whose results depend on nothing but its input. What it says is in the
// error if it fails.
func run(ctx context.Context, in io.Reader, when time.Time, argv ...string) error {
	_, err := runAloud(ctx, in, when, argv...)
	return err
}

// maxOutput is how much of what a program says is kept, in bytes.
const maxOutput = 64 << 10

// limitedBuffer keeps the beginning of what is written.
type limitedBuffer struct{ bytes.Buffer }

func (b *limitedBuffer) Write(p []byte) (int, error) {
	b.Buffer.Write(p[:min(len(p), max(0, maxOutput-b.Len()))])
	return len(p), nil
}

// runAloud is run; it returns what the program said on standard error.
func runAloud(ctx context.Context, in io.Reader, when time.Time, argv ...string) (string, error) {
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	stamp := fmt.Sprint(when.Unix())
	cmd.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C", "TZ=UTC", "SOURCE_DATE_EPOCH=" + stamp, "E2FSPROGS_FAKE_TIME=" + stamp, "MKE2FS_CONFIG=/dev/null"}
	var out limitedBuffer
	cmd.Stdin, cmd.Stderr = in, &out
	if err := cmd.Run(); err != nil {
		if ctx.Err() != nil {
			return "", context.Cause(ctx)
		}
		return "", fmt.Errorf("%s: %w\n%s", filepath.Base(argv[0]), err, tailOf(out.String()))
	}
	return out.String(), nil
}

// tailOf is the end of what a program said.
func tailOf(text string) string {
	const lines = 10
	all := strings.Split(strings.TrimSpace(text), "\n")
	return strings.Join(all[max(0, len(all)-lines):], "\n")
}

// Squashfs writes a file system that is only read, from a tar archive that fill writes.
func Squashfs(ctx context.Context, path string, when time.Time, fill func(io.Writer) error) error {
	program, err := Find("mksquashfs", "make a root file system in the squashfs format")
	if err != nil {
		return err
	}
	r, w, err := os.Pipe()
	if err != nil {
		return err
	}
	filled := make(chan error, 1)
	go func() {
		err := fill(w)
		filled <- errors.Join(err, w.Close())
	}()
	// Processors do not change the bytes: blocks are put in their order.
	err = run(ctx, r, when, program, "-", path, "-tar", "-noappend", "-no-progress", "-quiet", "-comp", "zstd", "-Xcompression-level", "6", "-b", "262144", "-noI", "-root-mode", "0755", "-root-uid", "0", "-root-gid", "0")
	r.Close() // so that fill ends if the program did
	if failed := <-filled; failed != nil && !errors.Is(failed, syscall.EPIPE) {
		return failed // what the program says follows from it
	}
	if err != nil {
		return err
	}
	return setTopTime(path, when)
}

// setTopTime sets the time of the top directory in a squashfs file system whose inodes are not
// compressed: the program takes the present time for it, if it reads an archive. The format is that
// of version 4.0 (the kernel's Documentation/filesystems/squashfs.rst).
func setTopTime(file string, when time.Time) error {
	f, err := os.OpenFile(file, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	const (
		topInode   = 32 // in the superblock: where it is in the table of inodes
		inodeTable = 64
		inodeTime  = 8 // in an inode
		metadata   = 8192
	)
	head := make([]byte, 96)
	_, err = f.ReadAt(head, 0)
	le := binary.LittleEndian
	at := int64(le.Uint64(head[inodeTable:]))
	top := le.Uint64(head[topInode:])
	// Blocks of the table are uncompressed: each has a header of two bytes, with the highest bit set.
	block := at + int64(top>>16)
	mark := make([]byte, 2)
	if err == nil {
		_, err = f.ReadAt(mark, block)
	}
	if err == nil && (string(head[:4]) != "hsqs" || le.Uint16(mark)&0x8000 == 0 || top&0xffff >= metadata) {
		err = fmt.Errorf("%s is not the squashfs file system that was asked for", file)
	}
	if err == nil {
		_, err = f.WriteAt(le.AppendUint32(nil, uint32(when.Unix())), block+2+int64(top&0xffff)+inodeTime)
	}
	return errors.Join(err, f.Close())
}

// FindConverter is the path of the program that Convert needs.
func FindConverter(format string) (string, error) {
	return Find("qemu-img", "make a disk in the format "+format)
}

// Convert writes a raw disk in another format of virtual machines, such as qcow2.
func Convert(ctx context.Context, from, to, format string) error {
	program, err := FindConverter(format)
	if err != nil {
		return err
	}
	return run(ctx, nil, time.Unix(0, 0), program, "convert", "-f", "raw", "-O", format, from, to)
}
