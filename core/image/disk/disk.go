// Package disk writes disks that boot: a GUID partition table with an EFI system partition, which
// has a unified kernel image, and a partition with the root file system. The same input gives
// the same bytes.
//
// It follows the Discoverable Partitions Specification and the UEFI Specification 2.10, chapter 5.
package disk

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/diskfs/go-diskfs/backend/file"
	"github.com/diskfs/go-diskfs/filesystem"
	"github.com/diskfs/go-diskfs/filesystem/fat32"
	"github.com/diskfs/go-diskfs/partition/gpt"

	"ellwand.example/core/fact"
)

// Sector is the bytes of one; partitions begin and end at multiples of MiB.
const (
	Sector = 512
	MiB    = 1 << 20
)

// rootTypes are the types of partitions with a root file system, by the machine's architecture
// as uname -m prints it (Discoverable Partitions Specification).
var rootTypes = map[string]gpt.Type{"x86_64": gpt.LinuxRootX86_64, "aarch64": gpt.LinuxRootArm64, "i686": gpt.LinuxRootX86}

// bootNames are the names under which firmware looks for a program on a disk that it does not
// know (UEFI, 3.5.1.1).
var bootNames = map[string]string{"x86_64": "BOOTX64.EFI", "aarch64": "BOOTAA64.EFI", "i686": "BOOTIA32.EFI"}

// CheckArch returns an error if no disk can be made for an architecture.
func CheckArch(arch string) error {
	if _, ok := bootNames[arch]; !ok {
		return fact.Errorf(fact.StatusInput, "disks for %s are not made: x86_64, aarch64 and i686 are", arch)
	}
	return nil
}

// UUID is an identifier made of a text (RFC 9562, version 8).
func UUID(text string) string {
	sum, _ := hex.DecodeString(fact.SHA256([]byte(text)))
	sum[6], sum[8] = sum[6]&0x0f|0x80, sum[8]&0x3f|0x80
	h := hex.EncodeToString(sum[:16])
	return strings.Join([]string{h[:8], h[8:12], h[12:16], h[16:20], h[20:]}, "-")
}

// Spec is what a disk is made of.
type Spec struct {
	Arch string
	// Seed is what identifiers are made of: another image has others.
	Seed string
	Boot string // the file of the unified kernel image
	Root string // the file of the root file system
	Time time.Time
}

// RootPartition is the identifier of the partition with the root file system.
func RootPartition(seed string) string { return UUID(seed + " root partition") }

// Write writes a disk into a new file.
func Write(path string, s Spec) error {
	root, err := os.Open(s.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	info, err := root.Stat()
	if err != nil {
		return err
	}
	boot, err := os.Stat(s.Boot)
	if err != nil {
		return err
	}
	espSize := SystemPartitionSize(boot.Size())
	rootSize := roundUp(info.Size(), MiB)
	const start = MiB
	out, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o644)
	if err != nil {
		return err
	}
	size := start + espSize + rootSize + MiB
	table := &gpt.Table{
		LogicalSectorSize: Sector, PhysicalSectorSize: Sector, ProtectiveMBR: true, GUID: strings.ToUpper(UUID(s.Seed + " disk")),
		Partitions: []*gpt.Partition{
			{Index: 1, Start: start / Sector, End: uint64((start+espSize)/Sector - 1), Type: gpt.EFISystemPartition, Name: "esp", GUID: strings.ToUpper(UUID(s.Seed + " system partition"))},
			{Index: 2, Start: uint64((start + espSize) / Sector), End: uint64((start+espSize+rootSize)/Sector - 1), Type: rootTypes[s.Arch], Name: "root", GUID: strings.ToUpper(RootPartition(s.Seed))},
		},
	}
	err = out.Truncate(size)
	if err == nil {
		err = table.Write(out, size)
	}
	if err == nil {
		err = systemPartition(out, start, espSize, s)
	}
	if err == nil {
		_, err = out.Seek(start+espSize, io.SeekStart)
	}
	if err == nil {
		err = copySparse(out, root, info.Size())
	}
	return errors.Join(err, out.Close())
}

// SystemPartitionSize is how large an EFI system partition is for a boot program of some bytes.
// FAT32 needs at least 33 MiB.
func SystemPartitionSize(boot int64) int64 { return max(roundUp(boot+boot/64+4*MiB, MiB), 40*MiB) }

func roundUp(n, to int64) int64 { return (n + to - 1) / to * to }

// clock keeps others from changing the time that the library writes into directories.
var clock sync.Mutex

// systemPartition writes the EFI system partition into a file.
func systemPartition(out *os.File, start, size int64, s Spec) error {
	clock.Lock()
	defer clock.Unlock()
	// The library takes the time from the environment, as reproducible-builds.org defines it.
	const epoch = "SOURCE_DATE_EPOCH"
	old, had := os.LookupEnv(epoch)
	os.Setenv(epoch, strconv.FormatInt(max(s.Time.Unix(), time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC).Unix()), 10))
	defer func() {
		if had {
			os.Setenv(epoch, old)
		} else {
			os.Unsetenv(epoch)
		}
	}()
	fs, err := fat32.Create(file.New(out, false), size, start, Sector, "ESP", true)
	if err != nil {
		return fmt.Errorf("the EFI system partition: %w", err)
	}
	return putFile(fs, "/EFI/BOOT/"+bootNames[s.Arch], s.Boot)
}

func putFile(fs filesystem.FileSystem, name, from string) error {
	for i, c := range name {
		if c == '/' && i > 0 {
			if err := fs.Mkdir(name[:i]); err != nil {
				return err
			}
		}
	}
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	f, err := fs.OpenFile(name, os.O_CREATE|os.O_RDWR)
	if err != nil {
		return err
	}
	return errors.Join(copyInPieces(f, in), f.Close())
}

// copyInPieces copies a file in large pieces: the library looks through its whole table for each.
func copyInPieces(out io.Writer, in io.Reader) error {
	buffer := make([]byte, 32*MiB)
	for {
		n, err := io.ReadFull(in, buffer)
		if n > 0 {
			if _, err := out.Write(buffer[:n]); err != nil {
				return err
			}
		}
		switch {
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
			return nil
		case err != nil:
			return err
		}
	}
}

// SystemPartition writes an EFI system partition with a boot program into a file of its own.
func SystemPartition(path string, s Spec) error {
	info, err := os.Stat(s.Boot)
	if err != nil {
		return err
	}
	out, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o644)
	if err != nil {
		return err
	}
	size := SystemPartitionSize(info.Size())
	if err = out.Truncate(size); err == nil {
		err = systemPartition(out, 0, size, s)
	}
	return errors.Join(err, out.Close())
}

// copySparse copies a file to where another one stands, and leaves out what is zero there.
func copySparse(out *os.File, in io.Reader, size int64) error {
	buffer := make([]byte, 1<<20)
	for left := size; left > 0; {
		n, err := io.ReadFull(in, buffer[:min(left, int64(len(buffer)))])
		if err != nil {
			return err
		}
		left -= int64(n)
		zero := true
		for _, b := range buffer[:n] {
			if b != 0 {
				zero = false
				break
			}
		}
		if zero {
			_, err = out.Seek(int64(n), io.SeekCurrent)
		} else {
			_, err = out.Write(buffer[:n])
		}
		if err != nil {
			return err
		}
	}
	return nil
}
