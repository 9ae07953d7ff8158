package source

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strings"
	"sync/atomic"

	"ladle/internal/core/fault"
	"ladle/internal/core/whole"
)

// file is a file as it stands on the disk, or standard input kept in a temporary one.
type file struct {
	path string // by which people know it
	disk *os.File
	info os.FileInfo
	read atomic.Int64 // how far it was read
	uses int          // by the texts and sheets in it
	also []io.Closer  // to be closed with it
}

// release closes the file with its last use.
func (f *file) release() error {
	if f.uses--; f.uses > 0 {
		return nil
	}
	for _, c := range f.also {
		c.Close()
	}
	return f.disk.Close()
}

// StandardInput is the path of standard input, as people read it; they write it as -.
const StandardInput = "standard input"

// openFile opens the file at path; standard input for -.
func openFile(path string, known Alias) (*file, error) {
	disk, err := os.Open(path)
	path = known.of(path)
	if path == "-" {
		path = StandardInput
		disk, err = keep(os.Stdin)
	}
	if err != nil {
		return nil, unreadable(path, err)
	}
	info, err := disk.Stat()
	if err == nil && info.IsDir() {
		err = errors.New("this is a folder")
	}
	if err != nil {
		disk.Close()
		return nil, unreadable(path, err)
	}
	if !info.Mode().IsRegular() { // a pipe can be read only once
		kept, err := keep(disk)
		disk.Close()
		if err != nil {
			return nil, unreadable(path, err)
		}
		disk = kept
		if info, err = disk.Stat(); err != nil {
			return nil, unreadable(path, err)
		}
	}
	return &file{path: path, disk: disk, info: info}, nil
}

// keep copies what can be read only once to a temporary file without a name.
func keep(from io.Reader) (*os.File, error) {
	to, err := whole.Nameless("")
	if err != nil {
		return nil, err
	}
	if _, err := io.Copy(to, from); err != nil {
		return nil, errors.Join(err, to.Close())
	}
	return to, nil
}

// ReadAt reads at an offset, and notes how far the file was read.
func (f *file) ReadAt(b []byte, at int64) (int, error) {
	n, err := f.disk.ReadAt(b, at)
	f.read.Store(at + int64(n))
	return n, err
}

func (f *file) reader() io.Reader { return io.NewSectionReader(f, 0, f.info.Size()) }

// sum is the SHA-256 of the file. It is an error when the file is another one since it was opened.
func (f *file) sum() (string, error) {
	h := sha256.New()
	if _, err := io.Copy(h, io.NewSectionReader(f.disk, 0, f.info.Size())); err != nil {
		return "", unreadable(f.path, err)
	}
	now, err := f.disk.Stat()
	if err != nil {
		return "", unreadable(f.path, err)
	}
	if now.Size() != f.info.Size() || !now.ModTime().Equal(f.info.ModTime()) {
		return "", changed(f.path)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

func changed(path string) error {
	return fault.At(fault.Failed, fault.Problem{File: path, What: "the file was changed while it was being read",
		Do: "start again"})
}

func unreadable(path string, err error) error {
	if errors.As(err, new(*fault.Fault)) {
		return err
	}
	p := fault.Problem{File: path, What: "the file can't be read: " + fault.OfSystem(err),
		Do: "check the path and its permissions"}
	switch {
	case errors.Is(err, os.ErrNotExist):
		p.What, p.Do = "there is no such file", "check the path; paths in a ladle file are relative to it"
	case errors.Is(err, io.ErrUnexpectedEOF):
		p.What, p.Do = "its compressed data ends too early", "it is damaged or incomplete: get it again"
	case errors.Is(err, gzip.ErrChecksum), errors.Is(err, zip.ErrChecksum):
		p.What, p.Do = "its compressed data has the wrong checksum", "it is damaged: get it again"
	}
	return fault.Because(fault.Failed, err, p)
}

// content is the bytes of a file, or of one in an archive, that hold the rows.
type content struct {
	*file
	path   string
	packed string                        // gzip or zip
	start  func() (io.ReadCloser, error) // reads them from their start
	plain  bool                          // they stand in the file as they are
}

// contents looks into the file: what holds rows in it, one for a plain or packed file, several for an archive; or
// the workbook that it is.
func (f *file) contents() ([]*content, *zip.Reader, error) {
	var head [512]byte
	n, err := f.disk.ReadAt(head[:], 0)
	if err != nil && err != io.EOF {
		return nil, nil, unreadable(f.path, err)
	}
	switch start := head[:n]; {
	case n == 0:
		return nil, nil, f.odd("the file is empty", "it needs at least a header line")
	case bytes.HasPrefix(start, []byte{0x1f, 0x8b}):
		return []*content{{file: f, path: f.path, packed: "gzip", start: f.gunzip}}, nil, nil
	case bytes.HasPrefix(start, []byte("PK\x03\x04")), bytes.HasPrefix(start, []byte("PK\x05\x06")):
		return f.archive()
	default:
		if what, do := foreign(start); what != "" {
			return nil, nil, f.odd(what, do)
		}
	}
	return []*content{{file: f, path: f.path, plain: true, start: func() (io.ReadCloser,
		error) {
		return io.NopCloser(f.reader()), nil
	}}}, nil, nil
}

// gunzip reads a file that is packed with gzip.
func (f *file) gunzip() (io.ReadCloser, error) {
	z, err := gzip.NewReader(f.reader())
	if err != nil {
		return nil, err
	}
	return &gunzipped{ReadCloser: z, file: f}, nil
}

// gunzipped refuses a file that expands beyond reason: gzip does not say how long it is.
type gunzipped struct {
	io.ReadCloser
	file *file
	n    int64
}

// Bounds of what a file may expand to.
const (
	bombRatio = 400
	bombSize  = 256 << 20
)

func (g *gunzipped) Read(b []byte) (int, error) {
	n, err := g.ReadCloser.Read(b)
	if g.n += int64(n); g.n > bombSize && g.n/bombRatio > g.file.info.Size() {
		return n, g.file.odd(fmt.Sprintf("it expands to more than %d times its size", bombRatio),
			"check where it comes from; if that is right, unpack it first")
	}
	return n, err
}

func (f *file) odd(what, do string) error {
	return fault.At(fault.Refused, fault.Problem{File: f.path, What: what, Do: do})
}

// foreign tells formats that hold no rows that can be read, by their first bytes.
func foreign(start []byte) (what, do string) {
	const save = "save it as .xlsx, .ods or CSV"
	for _, f := range []struct{ mark, what, do string }{
		{"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "this is a workbook in the old binary format (.xls), or one that is " +
			"locked with a password", "save it as .xlsx or .ods, without a password"},
		{"%PDF", "this is a PDF document, not a table", "ask for the table as a workbook or CSV"},
		{"BZh", "this is compressed with bzip2, which ladle doesn't read", "unpack it first"},
		{"\xfd7zXZ\x00", "this is compressed with xz, which ladle doesn't read", "unpack it first"},
		{"\x28\xb5\x2f\xfd", "this is compressed with zstd, which ladle doesn't read", "unpack it first"},
		{"7z\xbc\xaf\x27\x1c", "this is a 7z archive, which ladle doesn't read", "unpack it first"},
		{"Rar!", "this is a RAR archive, which ladle doesn't read", "unpack it first"},
		{"SQLite format 3\x00", "this is a database, not a file with rows", "give it as the database, not as a file"},
		{"\x89PNG", "this is a picture, not a table", ""},
		{"\xff\xd8\xff", "this is a picture, not a table", ""},
		{"PAR1", "this is a Parquet file, which ladle doesn't read", "save it as CSV"},
	} {
		if bytes.HasPrefix(start, []byte(f.mark)) {
			return f.what, f.do
		}
	}
	text := strings.ToLower(strings.TrimLeft(string(bytes.TrimPrefix(start, []byte("\xef\xbb\xbf"))), " \t\r\n"))
	switch {
	case strings.HasPrefix(text, "<!doctype html"), strings.HasPrefix(text, "<html"), strings.HasPrefix(text, "<table"):
		return "this is a web page, whatever its name says", save
	case strings.HasPrefix(text, "<?xml"):
		return "this is an XML document, not a workbook or CSV file", save
	}
	return "", ""
}

// archive looks into a zip archive.
func (f *file) archive() ([]*content, *zip.Reader, error) {
	z, err := zip.NewReader(f, f.info.Size())
	if err != nil {
		return nil, nil, fault.Because(fault.Refused, err, fault.Problem{File: f.path,
			What: "this should be a workbook or a zip archive, but its directory at the end is missing",
			Do:   "it is incomplete: get it again"})
	}
	var members []*content
	for _, m := range z.File {
		switch name := m.Name; {
		case name == "[Content_Types].xml" || name == "mimetype":
			return nil, z, nil
		case strings.HasSuffix(name, ".iwa"):
			return nil, nil, f.odd("this is a spreadsheet in the .numbers format, which ladle doesn't read",
				"export it as .xlsx or CSV")
		case strings.HasSuffix(name, "/"), strings.HasPrefix(name, "__MACOSX/"),
			strings.HasPrefix(path.Base(name), "."):
		case !m.Mode().IsRegular():
			return nil, nil, f.odd(fmt.Sprintf("%s in the archive is a link or a device, not a file", name),
				"delete it, and pack the file itself")
		case m.Flags&1 != 0:
			return nil, nil, f.odd(fmt.Sprintf("%s in the archive is locked with a password", name), "unpack it first")
		default:
			members = append(members, &content{file: f, path: f.path + "/" + name, packed: "zip",
				start: func() (io.ReadCloser, error) { return m.Open() }})
		}
	}
	if len(members) == 0 {
		return nil, nil, f.odd("the archive holds no file", "")
	}
	slices.SortFunc(members, func(a, b *content) int { return strings.Compare(a.path, b.path) })
	return members, nil, nil
}
