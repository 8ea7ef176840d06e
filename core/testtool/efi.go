package testtool

import "encoding/binary"

// EFIStub is an EFI program for x86_64 with one section, and with room in its headers for some
// more (PE Format).
func EFIStub() []byte {
	const (
		signature = 64
		optional  = signature + 24
		table     = optional + 240
	)
	b := make([]byte, 2048)
	le := binary.LittleEndian
	copy(b, "MZ")
	le.PutUint32(b[0x3c:], signature)
	copy(b[signature:], "PE\x00\x00")
	le.PutUint16(b[signature+4:], 0x8664) // x86_64
	le.PutUint16(b[signature+6:], 1)      // sections
	le.PutUint16(b[signature+20:], 240)   // bytes of the optional header
	le.PutUint16(b[optional:], 0x20b)     // PE32+
	le.PutUint32(b[optional+32:], 4096)   // alignment in memory
	le.PutUint32(b[optional+36:], 512)    // and in the file
	le.PutUint32(b[optional+56:], 8192)   // bytes in memory
	le.PutUint32(b[optional+108:], 16)    // data directories
	copy(b[table:], ".text")
	le.PutUint32(b[table+8:], 512)
	le.PutUint32(b[table+12:], 4096)
	le.PutUint32(b[table+16:], 512)
	le.PutUint32(b[table+20:], 1024)
	return b
}
