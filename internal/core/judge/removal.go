package judge

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/keyindex"
	"ladle/internal/core/schema"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// Removed are the rows of a step's table that its input no longer has. Every line counts as there, also one that is set
// aside or left out.
type Removed struct {
	Unknown    int64    // lines whose key can't be told
	References []string // the first rows that stay and refer to one that would go, in words
	By         []string // the columns by which the rows are removed
	Among      int64    // the number of rows among which they are looked for

	columns    []string                       // of the rows: By, their key, and what other rows refer to
	keysInFile []*spool.Stream[keyindex.Hash] // the keys of all lines, by part
	candidates []*spool.Stream[numberedKey]   // the keys of the rows, by part
	rows       *spool.Spool                   // the rows among which they are looked for
	missing    spool.RowSet                   // those that are gone
}

// numberedKey is the key of a row, and its number.
type numberedKey struct {
	key keyindex.Hash
	row int64
}

func newRemoved(dir string, parts int) *Removed {
	return &Removed{keysInFile: spool.Streams[keyindex.Hash](dir, parts), candidates: spool.Streams[numberedKey](dir,
		parts)}
}

// stay takes the keys of lines, but for those that have nothing for the step.
func (g *Removed) stay(hashes []keyindex.Hash, nothing func(line int) bool) error {
	for line, h := range hashes {
		if nothing(line) {
			continue
		}
		if h.None() {
			g.Unknown++
			continue
		}
		if err := g.keysInFile[h.Part(len(g.keysInFile))].Append(h); err != nil {
			return err
		}
	}
	return nil
}

// findRemoved reads the rows of the table among which those that are gone are looked for, and finds them.
func (r *round) findRemoved(ctx context.Context, m *match) error {
	g, s := m.step.Removed, m.step
	if g == nil {
		return nil
	}
	g.By = s.FoundBy()
	g.columns = slices.Clone(g.By)
	for _, c := range append(s.KeyNames(), r.referredColumns(s.Table)...) {
		if !slices.Contains(g.columns, c) {
			g.columns = append(g.columns, c)
		}
	}
	g.rows = spool.New(r.Dir, engine.Types(s.Table, g.columns))
	condition := s.Policy.Removal.Where.Value
	if !s.Policy.Removal.Where.Given() {
		condition = "1 = 1"
	}
	err := r.Database.Among(ctx, s.Table, condition, g.columns,
		func(b *value.Batch) error { return r.askRemoved(ctx, m, b) })
	if err != nil {
		return err
	}
	g.Among = g.rows.Rows()
	for i := range g.keysInFile {
		if err := g.part(i); err != nil {
			return err
		}
	}
	return nil
}

// askRemoved takes rows of the table. One without a key is none of the file's.
func (r *round) askRemoved(ctx context.Context, m *match, b *value.Batch) error {
	g := m.step.Removed
	hashes, err := m.index.Hashes(ctx, r.Database, g.pick(m.index.Columns, b), nil)
	if err != nil {
		return err
	}
	for row, h := range hashes {
		if h.None() {
			continue
		}
		if err := g.candidates[h.Part(len(g.candidates))].Append(numberedKey{h, g.rows.Rows() +
			int64(row)}); err != nil {
			return err
		}
	}
	return g.rows.Append(b)
}

// pick returns columns of rows by their names.
func (g *Removed) pick(names []string, b *value.Batch) []*value.Column {
	picked := make([]*value.Column, len(names))
	for i, name := range names {
		picked[i] = &b.Columns[slices.Index(g.columns, name)]
	}
	return picked
}

func (g *Removed) part(i int) error {
	var there keyindex.Set
	err := g.keysInFile[i].Each(func(h *keyindex.Hash) error {
		there.Insert(*h)
		return nil
	})
	if err != nil {
		return err
	}
	return g.candidates[i].Each(func(k *numberedKey) error {
		if there.Find(k.key) == nil {
			g.missing.Add(k.row)
		}
		return nil
	})
}

// Rows is the number of rows that are gone; a nil Removed has none.
func (g *Removed) Rows() int64 {
	if g == nil {
		return 0
	}
	return g.missing.Len()
}

// Keys returns the columns By of the rows that are gone, in batches.
func (g *Removed) Keys(take func(*value.Batch) error) error { return g.each(len(g.By), take) }

// each returns the first columns of the rows that are gone, in batches.
func (g *Removed) each(columns int, take func(*value.Batch) error) error {
	want, rows := make([]int, columns), &value.Batch{}
	for i := range want {
		want[i] = i
	}
	for i := range g.rows.Batches() {
		first := g.rows.First(i)
		if !g.missing.Any(first, g.rows.Len(i)) {
			continue
		}
		if err := g.rows.Read(i, want, rows); err != nil {
			return err
		}
		gone := value.NewBatch(g.rows.Types()[:columns])
		for row := range g.rows.Len(i) {
			if g.missing.Has(first + int64(row)) {
				for c := range want {
					gone.Columns[c].AppendFrom(&rows.Columns[c], row)
				}
			}
		}
		if err := take(gone); err != nil {
			return err
		}
	}
	return nil
}

// Names names the first rows that are gone by their keys, at most so many.
func (s *Step) RemovedNames(most int) (names []string, err error) {
	enough := errors.New("enough")
	err = s.EachRemoved(func(name string) error {
		if len(names) == most {
			return enough
		}
		names = append(names, name)
		return nil
	})
	if errors.Is(err, enough) {
		err = nil
	}
	return names, err
}

// EachRemoved names all rows that are removed, by their keys.
func (s *Step) EachRemoved(take func(name string) error) error {
	if s.Removed.Rows() == 0 {
		return nil
	}
	return s.Removed.each(len(s.Removed.columns), func(b *value.Batch) error {
		key := s.Removed.pick(s.KeyNames(), b)
		for row := range b.Len() {
			if err := take(textOf(key, row)); err != nil {
				return err
			}
		}
		return nil
	})
}

// references lists the relations by which rows refer to those of t, those that only lookups make among them.
func (r *round) references(t *schema.Table) []schema.Link {
	all := r.Plan.Schema.PointingAt(t)
	for _, s := range r.Plan.Steps {
		for _, f := range s.Undeclared() {
			if f.ParentTable == t {
				all = append(all, schema.Link{Child: s.Table, Relation: &f})
			}
		}
	}
	return all
}

// referredColumns lists the columns of t by which other rows refer to it.
func (r *round) referredColumns(t *schema.Table) (columns []string) {
	for _, p := range r.references(t) {
		columns = append(columns, p.ParentColumns...)
	}
	return columns
}

// referred looks for rows that stay and refer to one that would be removed.
func (r *round) referred(ctx context.Context) error {
	for _, s := range r.Steps {
		if s.Removed.Rows() == 0 {
			continue
		}
		for _, p := range r.references(s.Table) {
			if err := r.referring(ctx, s, p); err != nil {
				return err
			}
		}
	}
	return nil
}

// mostReferences is the number of rows that are named.
const mostReferences = 3

// referring looks for rows that refer to removed rows of s by the relation p.
func (r *round) referring(ctx context.Context, s *Step, p schema.Link) error {
	going, err := r.goingFrom(p.Child)
	if err != nil {
		return err
	}
	columns := slices.Clone(p.Columns)
	if going != nil {
		columns = append(columns, going.by...)
	}
	return s.Removed.each(len(s.Removed.columns), func(b *value.Batch) error {
		keys := &value.Batch{}
		for _, c := range s.Removed.pick(p.ParentColumns, b) {
			keys.Columns = append(keys.Columns, *c)
		}
		return r.Database.Probe(ctx, p.Child, p.Columns, keys, columns, func(found *value.Batch) error {
			for row := range found.Len() {
				if going != nil && going.rows[value.Identity(found.Columns[len(p.Columns):], row)] {
					continue
				}
				if len(s.Removed.References) < mostReferences {
					s.Removed.References = append(s.Removed.References,
						fmt.Sprintf("a row of %s refers to the row of %s with %s %s", p.Child.Name,
							s.Table.Name, strings.Join(p.ParentColumns, ", "),
							textOf(value.Pointers(found.Columns[:len(p.Columns)]), row)))
				}
			}
			return nil
		})
	})
}

// removal is the rows that are removed from a table.
type removal struct {
	by   []string
	rows map[string]bool
}

func (r *round) goingFrom(t *schema.Table) (*removal, error) {
	var g *removal
	for _, s := range r.Steps {
		if s.Table != t || s.Removed.Rows() == 0 {
			continue
		}
		if g == nil {
			g = &removal{s.Removed.By, map[string]bool{}}
		}
		err := s.Removed.Keys(func(b *value.Batch) error {
			for row := range b.Len() {
				g.rows[value.Identity(b.Columns, row)] = true
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return g, nil
}

func (g *Removed) close() error {
	closeAll(g.keysInFile)
	closeAll(g.candidates)
	if g.rows == nil {
		return nil
	}
	return g.rows.Close()
}
