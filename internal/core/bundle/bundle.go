// Package bundle carries a ladle file with all that belongs to it: the files that it names, corrected lines, what it
// expects of the tables, and their definitions, in one archive.
//
// [Gather] takes it together, [Bundle.Write] writes it, the same bytes for the same content; [Open] opens one, and
// [Manifest.Compare] holds what it expects against a database.
package bundle

import (
	"archive/zip"
	"bytes"
	"compress/flate"
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
	"time"

	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/plan"
	"ladle/internal/core/schema"
	"ladle/internal/core/setaside"
)

// Format is that of the bundles that this program writes.
const Format = 1

// ManifestName and TablesName are the names of files of every bundle.
const (
	ManifestName = "bundle.json"
	TablesName   = "tables.sql"
)

// Manifest says what is in a bundle.
type Manifest struct {
	Format  int     `json:"ladle_bundle"`
	Program string  `json:"ladle_version"`
	Ladle   string  `json:"ladle_file"`
	Dialect string  `json:"dialect"` // of the types, and of the definitions of the tables
	Files   []Entry `json:"files"`
	Expects []Table `json:"expects"`
}

// Entry is a file of a bundle.
type Entry struct {
	Name string `json:"name"`         // in the archive
	What What   `json:"what"`         // what it is
	As   string `json:"as,omitempty"` // as the ladle file names it
	Sum  string `json:"sha256"`
}

// What is what a file is.
type What string

// The files of a bundle.
const (
	LadleFile   What = "ladle_file"
	Definitions What = "table_definitions"
	Recode      What = "recode_file"
	Corrected   What = "corrected_lines"
	Input       What = "input"
)

// Table is what a ladle file expects of a table.
type Table struct {
	Name    string     `json:"table"`
	Columns []Column   `json:"columns"`     // those that it uses
	Keys    [][]string `json:"unique_keys"` // those that it relies on
}

// Column is a column that is used.
type Column struct {
	Name string `json:"column"`
	Type string `json:"type"`
}

// Bundle is a bundle in memory, but for large files.
type Bundle struct {
	Manifest
	contents map[string]func() (io.ReadCloser, error) // by the name of an entry
}

// Named reports whether a path is named as a bundle is.
func Named(path string) bool { return strings.EqualFold(filepath.Ext(path), ".zip") }

// Is reports whether the file at path is a bundle: other archives hold rows.
func Is(path string) bool {
	if !Named(path) {
		return false
	}
	z, err := zip.OpenReader(path)
	if err != nil {
		return false
	}
	defer z.Close()
	return slices.ContainsFunc(z.File, func(f *zip.File) bool { return f.Name == ManifestName })
}

// Gather takes together what belongs to the ladle file at path. definitions are the statements that make its tables.
func Gather(path string, p *plan.Plan, program, dialect, definitions string, withInputs bool) (*Bundle, error) {
	source, err := os.ReadFile(path)
	if err != nil {
		return nil, unread(path, err)
	}
	var names []string
	f, err := ladlefile.DecodeWith(path, source, func(name string) string {
		names = append(names, name)
		return name
	})
	if err != nil {
		return nil, err
	}
	b := &Bundle{Manifest{Format: Format, Program: program, Ladle: filepath.Base(path), Dialect: dialect,
		Expects: expects(p)},
		map[string]func() (io.ReadCloser, error){}}
	b.put(LadleFile, b.Ladle, "", text(source))
	b.put(Definitions, TablesName, "", text([]byte(definitions)))
	folder := filepath.Dir(path)
	inputs := map[string]bool{}
	for _, in := range f.Inputs {
		for _, name := range in.Paths {
			inputs[name] = true
		}
		kept := setaside.KeptPath(folder, in.Name.Value)
		if _, err := os.Stat(kept); err == nil {
			b.put(Corrected, "corrected/"+filepath.Base(kept), "", file(kept))
		}
	}
	slices.Sort(names)
	for i, name := range slices.Compact(names) { // several inputs may read one workbook
		at := name
		if !filepath.IsAbs(at) {
			at = filepath.Join(folder, name)
		}
		switch {
		case !inputs[name]:
			b.put(Recode, fmt.Sprintf("recode/%d/%s", i+1, filepath.Base(name)), name, file(at))
		case withInputs:
			if err := b.inputs(fmt.Sprintf("inputs/%d/", i+1), name, at); err != nil {
				return nil, err
			}
		}
	}
	return b, nil
}

// inputs adds the files of an input, whose name may be a pattern, in a folder of their own.
func (b *Bundle) inputs(folder, name, at string) error {
	found, err := filepath.Glob(at)
	if err == nil && len(found) == 0 {
		err = os.ErrNotExist
	}
	if err != nil {
		return unread(at, err)
	}
	for _, path := range found {
		b.put(Input, folder+filepath.Base(path), name, file(path))
	}
	return nil
}

// put adds a file.
func (b *Bundle) put(what What, name, as string, open func() (io.ReadCloser, error)) {
	b.Files = append(b.Files, Entry{Name: name, What: what, As: as})
	b.contents[name] = open
}

func text(content []byte) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(content)), nil }
}

func file(path string) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) {
		f, err := os.Open(path)
		if err != nil {
			return nil, unread(path, err)
		}
		return f, nil
	}
}

func unread(path string, err error) error {
	return fault.Because(fault.Failed, err, fault.Problem{File: path,
		What: "the file can't be read: " + fault.OfSystem(err),
		Do:   "check the path"})
}

// Write writes the archive (PKWARE APPNOTE 6.3): files in the order of their names, without times, behind the manifest.
func (b *Bundle) Write(to io.Writer) error {
	slices.SortFunc(b.Files, func(x, y Entry) int { return strings.Compare(x.Name, y.Name) })
	for i := range b.Files {
		from, err := b.contents[b.Files[i].Name]()
		if err != nil {
			return err
		}
		sum := sha256.New()
		_, err = io.Copy(sum, from)
		if err = errors.Join(err, from.Close()); err != nil {
			return err
		}
		b.Files[i].Sum = hex.EncodeToString(sum.Sum(nil))
	}
	manifest, err := json.MarshalIndent(b.Manifest, "", "  ")
	if err != nil {
		return err
	}
	z := zip.NewWriter(to)
	z.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) {
		return flate.NewWriter(w,
			flate.BestCompression)
	})
	if err := add(z, ManifestName, text(append(manifest, '\n'))); err != nil {
		return err
	}
	for _, e := range b.Files {
		if err := add(z, e.Name, b.contents[e.Name]); err != nil {
			return err
		}
	}
	return z.Close()
}

// earliest is the time of all files of a bundle, the first that an archive can say.
var earliest = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)

func add(z *zip.Writer, name string, open func() (io.ReadCloser, error)) error {
	from, err := open()
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: earliest})
	if err != nil {
		return err
	}
	_, err = io.Copy(to, from)
	return err
}

// expects lists what a plan expects of the tables.
func expects(p *plan.Plan) []Table {
	all := []Table{}
	of := func(t *schema.Table) *Table {
		for i := range all {
			if all[i].Name == t.Name {
				return &all[i]
			}
		}
		all = append(all, Table{Name: t.Name, Columns: []Column{}, Keys: [][]string{}})
		return &all[len(all)-1]
	}
	use := func(t *schema.Table, names ...string) {
		expected := of(t)
		for _, name := range names {
			c := t.Column(name)
			if c != nil && !slices.ContainsFunc(expected.Columns, func(o Column) bool { return o.Name == name }) {
				expected.Columns = append(expected.Columns, Column{name, c.Declared})
			}
		}
	}
	rely := func(t *schema.Table, key []string) {
		expected := of(t)
		if t.UniqueOn(key) && !slices.ContainsFunc(expected.Keys, func(k []string) bool { return slices.Equal(k, key) }) {
			expected.Keys = append(expected.Keys, key)
		}
	}
	for _, s := range p.Steps {
		use(s.Table, s.Names()...)
		rely(s.Table, s.KeyNames())
		s.Lookups(func(l *plan.Lookup) {
			use(l.Table, append(l.Names(), l.Yields.Name)...)
			rely(l.Table, l.Names())
		})
	}
	return all
}
