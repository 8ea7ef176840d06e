package disk

import (
	"bytes"
	"encoding/binary"
	"errors"
	"os"
	"strings"
	"time"
)

// isoBlock is the bytes of a block of an ISO image.
const isoBlock = 2048

// The blocks of an ISO image (ECMA-119) that boots by El Torito 1.0.
const (
	isoPrimary = 16 + iota
	isoBoot
	isoEnd
	isoPathLittle
	isoPathBig
	isoRoot
	isoCatalog
	isoFile // the EFI system partition, to the end
)

// isoName is the name of the only file.
const isoName = "ESP.IMG;1"

// WriteISO writes an ISO image, which firmware boots from the EFI system partition in a file.
func WriteISO(path, partition string, when time.Time) error {
	in, err := os.Open(partition)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	out, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o644)
	if err != nil {
		return err
	}
	size := roundUp(info.Size(), isoBlock)
	blocks := isoFile + size/isoBlock
	var b bytes.Buffer
	b.Write(make([]byte, 16*isoBlock))
	for _, part := range [][]byte{isoVolume(uint32(blocks), when), isoBootRecord(), isoTerminator(), isoPaths(binary.LittleEndian), isoPaths(binary.BigEndian), isoDirectory(uint32(info.Size()), when), isoBootCatalog()} {
		b.Write(part)
		b.Write(make([]byte, isoBlock-len(part)))
	}
	_, err = out.Write(b.Bytes())
	if err == nil {
		err = copySparse(out, in, info.Size())
	}
	if err == nil {
		err = out.Truncate(blocks * isoBlock)
	}
	return errors.Join(err, out.Close())
}

// both is a number in both orders of bytes, as ECMA-119 has most (7.2.3, 7.3.3).
func both32(n uint32) []byte {
	return binary.BigEndian.AppendUint32(binary.LittleEndian.AppendUint32(nil, n), n)
}

func both16(n uint16) []byte {
	return binary.BigEndian.AppendUint16(binary.LittleEndian.AppendUint16(nil, n), n)
}

func spaces(text string, n int) []byte { return []byte(text + strings.Repeat(" ", n-len(text))) }

// isoTime is a time in digits (8.4.26.1).
func isoTime(t time.Time) []byte { return append([]byte(t.UTC().Format("20060102150405")+"00"), 0) }

// isoVolume is the primary volume descriptor (8.4).
func isoVolume(blocks uint32, when time.Time) []byte {
	var b bytes.Buffer
	b.WriteString("\x01CD001\x01\x00")
	b.Write(spaces("", 32))
	b.Write(spaces("ELLWAND", 32))
	b.Write(make([]byte, 8))
	b.Write(both32(blocks))
	b.Write(make([]byte, 32))
	b.Write(both16(1))
	b.Write(both16(1))
	b.Write(both16(isoBlock))
	b.Write(both32(10)) // bytes of the path table
	b.Write(binary.LittleEndian.AppendUint32(nil, isoPathLittle))
	b.Write(make([]byte, 4))
	b.Write(binary.BigEndian.AppendUint32(nil, isoPathBig))
	b.Write(make([]byte, 4))
	b.Write(isoRecord("\x00", isoRoot, isoBlock, true, when))
	b.Write(spaces("", 4*128+3*37)) // set, publisher, preparer, application; three files
	b.Write(isoTime(when))
	b.Write(isoTime(when))
	b.WriteString("0000000000000000\x00")
	b.WriteString("0000000000000000\x00")
	b.WriteString("\x01\x00")
	return b.Bytes()
}

// isoRecord is a directory record (9.1).
func isoRecord(name string, block, size uint32, dir bool, when time.Time) []byte {
	length := 33 + len(name)
	length += length % 2
	b := make([]byte, 0, length)
	b = append(b, byte(length), 0)
	b = append(b, both32(block)...)
	b = append(b, both32(size)...)
	t := when.UTC()
	b = append(b, byte(min(max(t.Year()-1900, 0), 255)), byte(t.Month()), byte(t.Day()), byte(t.Hour()), byte(t.Minute()), byte(t.Second()), 0)
	flags := byte(0)
	if dir {
		flags = 2
	}
	b = append(b, flags, 0, 0)
	b = append(b, both16(1)...)
	b = append(b, byte(len(name)))
	b = append(b, name...)
	return append(b, make([]byte, length-len(b))...)
}

// isoBootRecord points to the boot catalog (El Torito, figure 7).
func isoBootRecord() []byte {
	b := append([]byte("\x00CD001\x01EL TORITO SPECIFICATION"), make([]byte, 41)...)
	return binary.LittleEndian.AppendUint32(b, isoCatalog)
}

func isoTerminator() []byte { return []byte("\xffCD001\x01") }

// isoPaths is a path table with the root alone (9.4).
func isoPaths(order binary.AppendByteOrder) []byte {
	b := order.AppendUint32([]byte{1, 0}, isoRoot)
	return append(order.AppendUint16(b, 1), 0, 0)
}

func isoDirectory(size uint32, when time.Time) []byte {
	b := isoRecord("\x00", isoRoot, isoBlock, true, when)
	b = append(b, isoRecord("\x01", isoRoot, isoBlock, true, when)...)
	return append(b, isoRecord(isoName, isoFile, size, false, when)...)
}

// isoBootCatalog has one entry: an EFI system partition (UEFI, 13.3.2.1). It is as long as the
// medium, since its length in sectors may not fit into the field; firmware takes 0 for that.
func isoBootCatalog() []byte {
	validation := make([]byte, 32)
	validation[0], validation[1], validation[30], validation[31] = 1, 0xef, 0x55, 0xaa
	var sum uint16
	for i := 0; i < len(validation); i += 2 {
		sum += binary.LittleEndian.Uint16(validation[i:])
	}
	binary.LittleEndian.PutUint16(validation[28:], -sum)
	entry := make([]byte, 32)
	entry[0] = 0x88
	binary.LittleEndian.PutUint32(entry[8:], isoFile)
	return append(validation, entry...)
}
