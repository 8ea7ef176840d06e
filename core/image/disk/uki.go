package disk

import (
	"bytes"
	"debug/pe"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Unified is what a unified kernel image is made of (UAPI Group Specifications, Unified Kernel
// Image).
type Unified struct {
	Stub      []byte // the EFI program that starts the kernel
	Kernel    []byte
	Initrd    []byte // may be empty
	OSRelease []byte // os-release(5)
	Command   string // the kernel's command line
}

// Offsets in a PE file (PE Format, sections "PE Header" and "Section Table"). All are from the
// start of the optional header, unless something else is said.
const (
	peOffset        = 0x3c // in the file: where the PE signature is
	coffSize        = 24   // of signature and COFF header
	sectionsField   = 6    // from the signature: the number of sections
	optionalField   = 20   // from the signature: the size of the optional header
	sizeOfImage     = 56
	sizeOfHeaders   = 60
	checksum        = 64
	sectionAlign    = 32
	fileAlign       = 36
	initializedData = 8
	sectionHeader   = 40 // bytes of one
	maxStub         = 16 << 20
)

// sectionFlags are those of data that is read: IMAGE_SCN_CNT_INITIALIZED_DATA and
// IMAGE_SCN_MEM_READ.
const sectionFlags = 0x40000040

// Write writes the image: the stub, with a section for each part.
func (u Unified) Write(w io.Writer) error {
	stub := bytes.Clone(u.Stub)
	if _, err := pe.NewFile(bytes.NewReader(stub)); err != nil || len(stub) > maxStub {
		return fmt.Errorf("the stub is no EFI program: %w", errors.Join(err, nil))
	}
	le := binary.LittleEndian
	head := int(le.Uint32(stub[peOffset:]))
	if head < 0 || head+coffSize > len(stub) {
		return errors.New("the stub is cut short")
	}
	optional := head + coffSize
	table := optional + int(le.Uint16(stub[head+optionalField:]))
	count := int(le.Uint16(stub[head+sectionsField:]))
	if optional+checksum+4 > len(stub) || table+count*sectionHeader > len(stub) {
		return errors.New("the stub is cut short")
	}
	alignment, fileAlignment := le.Uint32(stub[optional+sectionAlign:]), le.Uint32(stub[optional+fileAlign:])
	if alignment == 0 || fileAlignment == 0 || alignment > 1<<24 || fileAlignment > 1<<16 {
		return errors.New("the stub has no alignment that makes sense")
	}
	var end uint32 // of the last section, in memory
	first := uint32(len(stub))
	for i := range count {
		h := stub[table+i*sectionHeader:]
		end = max(end, le.Uint32(h[12:])+le.Uint32(h[8:]))
		if at := le.Uint32(h[20:]); at > 0 {
			first = min(first, at)
		}
	}
	command := append([]byte(u.Command), 0)
	var parts []section
	for _, one := range []section{{".osrel", u.OSRelease}, {".cmdline", command}, {".linux", u.Kernel}, {".initrd", u.Initrd}} {
		if len(one.data) > 0 {
			parts = append(parts, one)
		}
	}
	if table+(count+len(parts))*sectionHeader > int(first) {
		return errors.New("the stub has no room for further sections in its headers")
	}
	at, memory := align(uint32(len(stub)), fileAlignment), align(end, alignment)
	for i, one := range parts {
		h := stub[table+(count+i)*sectionHeader:][:sectionHeader]
		clear(h)
		copy(h, one.name)
		size := uint32(len(one.data))
		le.PutUint32(h[8:], size)
		le.PutUint32(h[12:], memory)
		le.PutUint32(h[16:], align(size, fileAlignment))
		le.PutUint32(h[20:], at)
		le.PutUint32(h[36:], sectionFlags)
		at += align(size, fileAlignment)
		memory = align(memory+size, alignment)
	}
	le.PutUint16(stub[head+sectionsField:], uint16(count+len(parts)))
	le.PutUint32(stub[optional+sizeOfImage:], memory)
	le.PutUint32(stub[optional+checksum:], 0) // only drivers need one
	if _, err := w.Write(stub); err != nil {
		return err
	}
	written := uint32(len(stub))
	pad := func(to uint32) error {
		n := align(written, to) - written
		written += n
		_, err := w.Write(make([]byte, n))
		return err
	}
	if err := pad(fileAlignment); err != nil {
		return err
	}
	for _, one := range parts {
		if _, err := w.Write(one.data); err != nil {
			return err
		}
		written += uint32(len(one.data))
		if err := pad(fileAlignment); err != nil {
			return err
		}
	}
	return nil
}

type section struct {
	name string
	data []byte
}

func align(n, to uint32) uint32 { return (n + to - 1) / to * to }
