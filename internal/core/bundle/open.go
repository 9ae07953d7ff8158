package bundle

import (
	"archive/zip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ladle/internal/core/alter"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/propose"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/whole"
)

// Opened is a bundle that is open.
type Opened struct {
	Manifest
	File *ladlefile.File // its ladle file; the files that it doesn't have are looked for beside it

	folder string // its files
}

// Open opens the bundle at path.
func Open(path string) (*Opened, error) {
	z, err := zip.OpenReader(path)
	if err != nil {
		return nil, fault.Because(fault.Wrong, err, fault.Problem{File: path, What: "it is no bundle: " + fault.OfSystem(err),
			Do: "give a file that ladle bundle has written"})
	}
	defer z.Close()
	o := &Opened{}
	if o.folder, err = whole.Folder(); err != nil {
		return nil, err
	}
	if err := o.read(path, z); err != nil {
		return nil, errors.Join(err, o.Close())
	}
	return o, nil
}

// Close removes the files.
func (o *Opened) Close() error { return os.RemoveAll(o.folder) }

// Bounds of what is taken out of an archive, so that one that was made to does no harm.
const (
	mostManifest = 16 << 20
	mostFiles    = 10_000
)

func (o *Opened) read(path string, z *zip.ReadCloser) error {
	wrong := func(format string, parts ...any) error {
		return fault.At(fault.Wrong, fault.Problem{File: path, What: fmt.Sprintf(format, parts...),
			Do: "make the bundle anew with ladle bundle"})
	}
	manifest, err := content(z, ManifestName, mostManifest)
	if err != nil {
		return wrong("it is no bundle: it has no %s", ManifestName)
	}
	if err := json.Unmarshal(manifest, &o.Manifest); err != nil || len(o.Files) > mostFiles {
		return wrong("its %s can't be read", ManifestName)
	}
	if o.Format > Format {
		return wrong("it is of format %d, from a later version of ladle (%s)", o.Format, o.Program)
	}
	for _, e := range o.Files {
		if !filepath.IsLocal(e.Name) || strings.Contains(e.Name, `\`) {
			return wrong("it has a file called %q", e.Name)
		}
		to := filepath.Join(o.folder, filepath.FromSlash(e.Name))
		if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
			return err
		}
		sum, err := extract(z, e.Name, to)
		if err != nil {
			return wrong("its file %s can't be read", e.Name)
		}
		if sum != e.Sum {
			return wrong("its file %s was changed: its SHA-256 is another one", e.Name)
		}
	}
	if !filepath.IsLocal(o.Ladle) {
		return wrong("its ladle file is called %q", o.Ladle)
	}
	text, err := os.ReadFile(filepath.Join(o.folder, o.Ladle))
	if err != nil {
		return wrong("it has no %s", o.Ladle)
	}
	at := map[string]string{}
	for _, e := range o.Files {
		if e.As != "" && at[e.As] == "" {
			at[e.As] = filepath.Join(o.folder, filepath.FromSlash(e.Name))
		}
	}
	o.File, err = ladlefile.DecodeWith(filepath.Join(path, o.Ladle), text, func(name string) string {
		switch {
		case at[name] != "": // beside it are the other files that a pattern meant when the bundle was made
			return filepath.Join(filepath.Dir(at[name]), filepath.Base(name))
		case filepath.IsAbs(name):
			return name
		}
		return filepath.Join(filepath.Dir(path), name)
	})
	if err != nil {
		return err
	}
	o.File.Kept = filepath.Join(o.folder, "corrected")
	for _, in := range o.File.Inputs {
		in.Asked.Alias = source.Alias{Folder: o.folder, Name: path}
	}
	return nil
}

func content(z *zip.ReadCloser, name string, most int64) ([]byte, error) {
	f, err := z.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, most))
}

// extract writes a file of the archive, and returns its SHA-256.
func extract(z *zip.ReadCloser, name, path string) (string, error) {
	from, err := z.Open(name)
	if err != nil {
		return "", err
	}
	defer from.Close()
	to, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	sum := sha256.New()
	_, err = io.Copy(io.MultiWriter(to, sum), from)
	return hex.EncodeToString(sum.Sum(nil)), errors.Join(err, to.Close())
}

// Compare holds what the bundle expects against the tables of a database. stops are differences with which its ladle
// file doesn't do what it did; notes are others.
func (m *Manifest) Compare(s *schema.Schema, dialect string) (stops, notes []string) {
	stop := func(format string, parts ...any) { stops = append(stops, fmt.Sprintf(format, parts...)) }
	for _, want := range m.Expects {
		t := s.Table(want.Name)
		if t == nil {
			stop("there is no table %s; %s in the bundle has its definition", want.Name, TablesName)
			continue
		}
		for _, c := range want.Columns {
			is := t.Column(c.Name)
			if is == nil {
				stop("%s has no column %s", want.Name, c.Name)
				continue
			}
			if strings.EqualFold(is.Declared, c.Type) {
				continue
			}
			takes, known := alter.Takes(is.Declared, propose.Dialect(dialect), c.Type, propose.Dialect(m.Dialect))
			switch {
			case known && !takes:
				stop("%s.%s is %s, which takes less than %s did", want.Name, c.Name, is.Declared, c.Type)
			case m.Dialect == dialect:
				notes = append(notes, fmt.Sprintf("%s.%s is %s, and was %s when the bundle was made", want.Name, c.Name,
					is.Declared,
					c.Type))
			}
		}
		for _, k := range want.Keys {
			if !t.UniqueOn(k) {
				stop("%s has no unique key on %s", want.Name, strings.Join(k, ", "))
			}
		}
	}
	return slices.Clip(stops), notes
}
