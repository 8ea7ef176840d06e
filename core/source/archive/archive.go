// Package archive reads archives that anyone may have made, and writes what is
// in them below a directory and nowhere else. It is the one reader of tar and
// zip for sources and for systems, and Tree the one writer.
package archive

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/bzip2"
	"context"
	"errors"
	"io"
	"io/fs"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// Format is how a file is packed or compressed.
type Format string

// Formats: tar is POSIX pax, GNU and older (IEEE Std 1003.1).
const (
	Plain     Format = "plain"
	Tar       Format = "tar"
	Zip       Format = "zip"
	Gzip      Format = "gzip" // RFC 1952
	Bzip2     Format = "bzip2"
	XZ        Format = "xz"
	Zstandard Format = "zstd" // RFC 8878
)

// HeadSize is how many bytes of a file Detect looks at.
const HeadSize = 512

// Detect tells from the first bytes of a file what it is, never from its name.
func Detect(head []byte) Format {
	for _, f := range []struct {
		magic  string
		format Format
	}{
		{"\x1f\x8b", Gzip}, {"BZh", Bzip2}, {"\xfd7zXZ\x00", XZ}, {"\x28\xb5\x2f\xfd", Zstandard},
		{"PK\x03\x04", Zip}, {"PK\x05\x06", Zip},
	} {
		if bytes.HasPrefix(head, []byte(f.magic)) {
			return f.format
		}
	}
	if len(head) >= 262 && string(head[257:262]) == "ustar" || isOldTar(head) {
		return Tar
	}
	return Plain
}

// isOldTar tells a tar header from before the "ustar" mark by its checksum.
func isOldTar(head []byte) bool {
	if len(head) < HeadSize {
		return false
	}
	_, err := tar.NewReader(bytes.NewReader(head)).Next()
	return err == nil
}

// The most memory that decoding a stream may take, in bytes.
const maxWindow = 1 << 30

// Decompress reads a stream that may be compressed with gzip, bzip2, xz or
// Zstandard, which its first bytes tell. Done frees what that took.
func Decompress(r io.Reader) (plain io.Reader, done func(), err error) {
	br := bufio.NewReaderSize(r, 1<<16)
	head, err := br.Peek(8)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, nil, err
	}
	return DecompressAs(br, Detect(head))
}

// DecompressAs is Decompress for a stream whose format is known.
func DecompressAs(r io.Reader, f Format) (plain io.Reader, done func(), err error) {
	done = func() {}
	switch f {
	case Gzip:
		plain, err = gzip.NewReader(r)
	case Bzip2:
		plain = bzip2.NewReader(r)
	case XZ:
		plain, err = xz.NewReader(r)
	case Zstandard:
		var z *zstd.Decoder
		if z, err = zstd.NewReader(r, zstd.WithDecoderMaxMemory(maxWindow), zstd.WithDecoderMaxWindow(maxWindow)); err == nil {
			plain, done = z, z.Close
		}
	default:
		plain = r
	}
	return plain, done, err
}

// Kind is what an entry of an archive is.
type Kind int

// Kinds of entries. Other is for devices, pipes and whatever else exists.
const (
	File Kind = iota
	Directory
	Symlink
	Hardlink
	Other
)

// Entry is one entry of an archive, as it stands there: nothing of it has been
// checked.
type Entry struct {
	Name     string
	Kind     Kind
	Mode     fs.FileMode // permissions, setuid, setgid and sticky
	Modified time.Time
	Link     string // the target of a link
	Size     int64  // bytes; of a file in a tar archive
	UID, GID int    // of its owner; in a tar archive
	// Xattrs are extended attributes, by their names; in a tar archive.
	Xattrs map[string]string
	// Contents are a file's, until the next entry. They may be of any length.
	Contents io.Reader
}

// maxZipLink bounds the target of a link in a zip archive, in bytes.
const maxZipLink = 4096

// ReadTar calls visit for each entry of a tar stream, and reads the stream to
// its end: compressed ones carry their checksum there.
func ReadTar(ctx context.Context, r io.Reader, visit func(Entry) error) error {
	for tr := tar.NewReader(r); ; {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		h, err := tr.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		e := Entry{Name: h.Name, Mode: h.FileInfo().Mode(), Modified: h.ModTime, Link: h.Linkname, Size: h.Size, UID: h.Uid, GID: h.Gid, Xattrs: xattrs(h.PAXRecords), Contents: tr}
		switch h.Typeflag {
		case tar.TypeXGlobalHeader:
			continue
		case tar.TypeReg, tar.TypeGNUSparse:
			e.Kind = File
		case tar.TypeDir:
			e.Kind = Directory
		case tar.TypeSymlink:
			e.Kind = Symlink
		case tar.TypeLink:
			e.Kind = Hardlink
		default:
			e.Kind = Other
		}
		if err := visit(e); err != nil {
			return err
		}
	}
	_, err := io.Copy(io.Discard, r)
	return err
}

// XattrRecord begins the pax record of an extended attribute, as tar programs write it.
const XattrRecord = "SCHILY.xattr."

// xattrs are the extended attributes in pax records; nil if there are none.
func xattrs(records map[string]string) map[string]string {
	var out map[string]string
	for key, value := range records {
		if name, ok := strings.CutPrefix(key, XattrRecord); ok {
			if out == nil {
				out = map[string]string{}
			}
			out[name] = value
		}
	}
	return out
}

// ReadZip calls visit for each entry of a zip archive of a size in bytes.
func ReadZip(ctx context.Context, r io.ReaderAt, size int64, visit func(Entry) error) error {
	zr, err := zip.NewReader(r, size)
	if err != nil {
		return err
	}
	for _, f := range zr.File {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err := visitZip(f, visit); err != nil {
			return err
		}
	}
	return nil
}

func visitZip(f *zip.File, visit func(Entry) error) error {
	e := Entry{Name: f.Name, Mode: f.Mode(), Modified: f.Modified}
	if e.Mode.IsDir() || strings.HasSuffix(f.Name, "/") {
		e.Kind = Directory
		return visit(e)
	}
	in, err := f.Open()
	if err != nil {
		return err
	}
	defer in.Close()
	switch {
	case e.Mode&fs.ModeSymlink != 0:
		e.Kind = Symlink
		target, err := io.ReadAll(io.LimitReader(in, maxZipLink))
		if err != nil {
			return err
		}
		e.Link = string(target)
	case !e.Mode.IsRegular():
		e.Kind = Other
	default:
		e.Contents = in
	}
	return visit(e)
}
