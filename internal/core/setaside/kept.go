package setaside

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"

	"github.com/cespare/xxhash/v2"

	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
	"ladle/internal/core/whole"
)

// Kept is the corrected lines of an input, which are kept in a file beside the ladle file. Each is used as long as the
// input has the line that it stands for: by its content, wherever it stands.
type Kept struct {
	Path  string
	Notes []string // what to know of lines that were taken in

	lines []*correction
	index index  // of the lines
	sum   string // SHA-256 of the file; "" for none
}

// original is a line as it stands in the input.
type original struct {
	spot        // none where the input has no such place
	hash string // of what it holds
}

// correction is what was made of a line.
type correction struct {
	original
	place   string // where the line stood when it was corrected
	dropped bool
	asIs    bool // it stays as it is, unlike others with the same content
	fields  [][]byte
	problem *reason.Cause // why the fields can't be trusted
	used    atomic.Bool
}

// agrees reports whether the same was made of two lines.
func (c *correction) agrees(o *correction) bool {
	return c.dropped == o.dropped && c.asIs == o.asIs &&
		(c.dropped || c.asIs || hashOf(c.fields) == hashOf(o.fields))
}

// index finds corrections by the lines that they stand for.
type index struct {
	at    map[original]*correction
	alike map[string]*alike // by hash
}

// alike are the corrections of lines with the same content.
type alike struct {
	first *correction
	agree bool        // the same was made of all of them
	used  atomic.Bool // for lines in other places
}

func newIndex(lines []*correction) index {
	x := index{map[original]*correction{}, map[string]*alike{}}
	for _, c := range lines {
		x.at[c.original] = c
		if all := x.alike[c.hash]; all == nil {
			x.alike[c.hash] = &alike{first: c, agree: true}
		} else {
			all.agree = all.agree && c.agrees(all.first)
		}
	}
	return x
}

// of is the correction of a line of the input, and what notes its use: the one that was made of it in its place, or else
// what was made of all lines with its content. It is nil where there is none, or where it is not clear which.
func (x index) of(o original) (c *correction, used *atomic.Bool) {
	if c := x.at[o]; c != nil {
		return c, &c.used
	}
	if all := x.alike[o.hash]; all != nil && all.agree {
		return all.first, &all.used
	}
	return nil, nil
}

// keptColumns stand before those of the input.
var keptColumns = []string{"line", "original"}

const keptTitle = "corrected lines, kept by ladle: each is used as long as the input has the line that it stands for"

// KeptPath is where the corrected lines of an input are kept, in the folder for those of its ladle file.
func KeptPath(folder, input string) string { return filepath.Join(folder, input+".corrected.csv") }

// ReadKept reads the corrected lines of t that are kept at path; none where there is no file. Its error is a
// *fault.Fault.
func ReadKept(path string, t source.Table) (*Kept, error) {
	k := &Kept{Path: path}
	content, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return k, nil
	}
	if err != nil {
		return nil, fault.Because(fault.Failed, err, fault.Problem{File: path, What: "the corrected lines can't be read: " +
			fault.OfSystem(err), Do: "check the permissions of the file"})
	}
	sum := sha256.Sum256(content)
	k.sum = hex.EncodeToString(sum[:])
	file, err := openLines(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if err := sameColumns(file, path, keptColumns, t, "if the input has other columns now, move this file away, and "+
		"correct its lines anew"); err != nil {
		return nil, err
	}
	err = eachLine(file, path, func(place string, at int64, r *source.Record) error {
		c := &correction{original: original{hash: string(bytes.TrimSpace(r.Fields[1]))}, problem: r.Problem}
		if len(c.hash) != hashDigits {
			return refuse(path, at, fmt.Sprintf("%q does not stand for a line", r.Fields[1]), "leave the second column as "+
				"it was, or delete the line")
		}
		c.place, c.dropped = withoutWord(place, dropWord)
		c.place, c.asIs = withoutWord(c.place, asIsWord)
		c.spot, _ = spotIn(t, c.place)
		for _, f := range r.Fields[len(keptColumns):] {
			c.fields = append(c.fields, value.Unguarded(bytes.Clone(f)))
		}
		k.lines = append(k.lines, c)
		return nil
	})
	k.index = newIndex(k.lines)
	return k, err
}

// Any reports whether there are corrected lines.
func (k *Kept) Any() bool { return len(k.lines) > 0 }

// Sum is the SHA-256 of the file of the lines, in hexadecimal; "" where there is none.
func (k *Kept) Sum() string { return k.sum }

// put takes corrections in, in place of those that were made of the same lines before. That a line stays as it is need
// be said only where something was made of others with the same content.
func (k *Kept) put(made []*correction) {
	now := newIndex(made).at
	k.lines = slices.DeleteFunc(k.lines, func(c *correction) bool { return now[c.original] != nil })
	k.lines = append(k.lines, made...)
	k.index = newIndex(k.lines)
	k.lines = slices.DeleteFunc(k.lines, func(c *correction) bool { return c.asIs && k.index.alike[c.hash].agree })
	k.index = newIndex(k.lines)
}

// In returns t with the corrected lines in it.
func (k *Kept) In(t source.Table) source.Table {
	return source.Map(t, t.Header(), func(*source.Chunk) source.Mapping { return k })
}

// Map puts the corrected line in the place of a record.
func (k *Kept) Map(r *source.Record) bool {
	c, used := k.index.of(original{spotOf(r), hashOfRecord(r)})
	if c == nil {
		return true
	}
	if !used.Load() {
		used.Store(true)
	}
	switch {
	case c.asIs:
		return true
	case c.dropped:
		r.Dropped = true
		return true
	}
	kinds := slices.Clone(r.Stored)
	if r.Problem != nil || len(r.Fields) != len(c.fields) {
		kinds = nil
	}
	for i := range kinds { // what was left as it was is still what the workbook stores
		if !bytes.Equal(c.fields[i], r.Fields[i]) {
			kinds[i] = source.StoredText
		}
	}
	r.Fields, r.Raw, r.Problem, r.Faults, r.Stored = slices.Clone(c.fields), nil, c.problem, nil, kinds
	return true
}

// Said is what to know of the corrected lines once the input was read; partial says that not all of it was.
func (k *Kept) Said(partial bool) (notes []string) {
	notes = slices.Clone(k.Notes)
	name := filepath.Base(k.Path)
	var replaced, dropped, unused int64
	for _, c := range k.lines {
		switch {
		case c.asIs:
		case !c.used.Load() && !k.index.alike[c.hash].used.Load():
			unused++
		case c.dropped:
			dropped++
		default:
			replaced++
		}
	}
	if replaced > 0 {
		notes = append(notes, fmt.Sprintf("%s: %s used", name, counted(replaced, "corrected line")))
	}
	if dropped > 0 {
		notes = append(notes, fmt.Sprintf("%s: %s left out, as you said", name, counted(dropped, "line")))
	}
	if unused > 0 && !partial {
		notes = append(notes, fmt.Sprintf("%s: %s not used, since the input no longer has what was corrected there",
			name, counted(unused, "corrected line")))
	}
	return notes
}

// counted is a number of things, and their verb.
func counted(n int64, what string) string {
	if n == 1 {
		return "1 " + what + " is"
	}
	return reason.Plural(n, what) + " are"
}

// Write writes the lines to their file, which is there whole or not at all; without lines there is none afterwards.
func (k *Kept) Write(t source.Table) error {
	if !k.Any() {
		k.sum = ""
		if err := os.Remove(k.Path); err != nil && !errors.Is(err, os.ErrNotExist) {
			return k.failed(err)
		}
		return nil
	}
	sum := sha256.New()
	err := whole.Write(k.Path, func(to io.Writer) error {
		d := source.Dialect{Delimiter: ',', Quote: '"'}
		out := io.MultiWriter(to, sum)
		if _, err := io.WriteString(out, d.Line(keptTitle)+"\r\n"+
			d.Line(append(slices.Clone(keptColumns), t.Header().Names...)...)+"\r\n"); err != nil {
			return err
		}
		for _, c := range k.lines {
			place := c.place
			switch {
			case c.dropped:
				place = dropWord + " " + place
			case c.asIs:
				place = asIsWord + " " + place
			}
			cells := []string{place, c.hash}
			for _, f := range c.fields {
				cells = append(cells, string(value.Guarded(f)))
			}
			if _, err := io.WriteString(out, d.Line(cells...)+"\r\n"); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return k.failed(err)
	}
	k.sum = hex.EncodeToString(sum.Sum(nil))
	return nil
}

func (k *Kept) failed(err error) error {
	return fault.Because(fault.Failed, err, fault.Problem{File: k.Path, What: "the corrected lines can't be kept: " +
		fault.OfSystem(err), Do: "check the folder's permissions and free disk space"})
}

// hashDigits is the length of the hash of a line.
const hashDigits = 16

// hashOf is the hash of what a line holds: its XXH64 (xxhash.com, specification 0.2.0), in hexadecimal.
func hashOf(fields [][]byte) string {
	h := xxhash.New()
	var size [8]byte
	for _, f := range fields {
		binary.LittleEndian.PutUint64(size[:], uint64(len(f)))
		_, _ = h.Write(size[:])
		_, _ = h.Write(f)
	}
	return fmt.Sprintf("%016x", h.Sum64())
}

// hashOfRecord is the hash of a line as it stands in the input.
func hashOfRecord(r *source.Record) string {
	if r.Problem != nil && r.Raw != nil {
		return hashOf([][]byte{r.Raw})
	}
	return hashOf(r.Fields)
}
