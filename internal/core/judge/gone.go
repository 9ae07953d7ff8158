package judge

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/keyindex"
	"ladle/internal/core/plan"
	"ladle/internal/core/schema"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// Gone are the rows of a step's table that its input no longer has. Every line counts as there, also one that is set
// aside or left out. Where rows are marked, those with the mark are not gone once more; Returned are those with the mark
// that the input has again.
type Gone struct {
	Unknown    int64    // lines whose key can't be told
	References []string // the first rows that stay and refer to one that would be removed, in words
	By         []string // the columns by which the rows are found again; nil where nothing tells them apart
	Among      int64    // the number of rows among which they are looked for
	Returned   *Marking // nil where rows are not marked
	Marked     *Marking // the rows that are gone, as they are marked; nil where they are not

	columns    []string                       // of the rows: By, their key, marks, and what other rows refer to
	width      int                            // how many of them Keys gives
	keysInFile []*spool.Stream[keyindex.Hash] // the keys of all lines, by part
	candidates []*spool.Stream[numberedKey]   // the keys of the rows, by part
	rows       *spool.Spool                   // the rows among which they are looked for
	missing    spool.RowSet                   // those that are gone
	mark       mark
}

// numberedKey is the key of a row, and its number.
type numberedKey struct {
	key keyindex.Hash
	row int64
}

func newGone(dir string, parts int) *Gone {
	return &Gone{keysInFile: spool.Streams[keyindex.Hash](dir, parts), candidates: spool.Streams[numberedKey](dir, parts)}
}

// stay takes the keys of lines, but for those that have nothing for the step.
func (g *Gone) stay(hashes []keyindex.Hash, nothing func(line int) bool) error {
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

// findGone reads the rows of the table among which those that are gone are looked for, and finds them.
func (r *round) findGone(ctx context.Context, m *match) error {
	g := m.step.Gone
	if g == nil {
		return nil
	}
	if err := r.readyGone(m.step); err != nil {
		return err
	}
	err := r.Database.Among(ctx, m.step.Table, scope(m.step), g.columns,
		func(b *value.Batch) error { return r.askGone(ctx, m, b) })
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

// readyGone makes room for the rows of a step's table.
func (r *round) readyGone(s *Step) error {
	g := s.Gone
	g.By = s.FoundBy()
	g.columns = slices.Clone(g.By)
	if g.By == nil {
		g.columns = s.Table.Kept()
	}
	g.width = len(g.columns)
	use := func(columns ...string) {
		for _, c := range columns {
			if !slices.Contains(g.columns, c) {
				g.columns = append(g.columns, c)
			}
		}
	}
	use(s.RecognisedBy()...)
	if s.Policy.Gone.Does == plan.MarkGone {
		if err := g.readyMarks(s); err != nil {
			return err
		}
		use(g.Marked.Columns...)
	} else {
		use(r.referredColumns(s.Table)...)
	}
	g.rows = spool.New(r.Dir, engine.Types(s.Table, g.columns))
	return nil
}

// scope is the condition on the rows among which those that are gone are looked for.
func scope(s *Step) string {
	if where := s.Policy.Gone.Where; where.Given() {
		return where.Value
	}
	return "1 = 1"
}

// askGone takes rows of the table. One without a key is none of the file's.
func (r *round) askGone(ctx context.Context, m *match, b *value.Batch) error {
	g := m.step.Gone
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
	return g.take(b)
}

// take keeps rows, and which of them are marked.
func (g *Gone) take(b *value.Batch) error {
	if g.Marked != nil {
		marks := g.pick(g.Marked.Columns, b)
		for row := range b.Len() {
			if g.mark.on(marks, row) {
				g.mark.rows.Add(g.rows.Rows() + int64(row))
			}
		}
	}
	return g.rows.Append(b)
}

// stand says of a row whether a line has its key.
func (g *Gone) stand(row int64, there bool) {
	switch marked := g.mark.rows.Has(row); {
	case !there && !marked:
		g.missing.Add(row)
	case there && marked:
		g.Returned.rows.Add(row)
	}
}

// pick returns columns of rows by their names.
func (g *Gone) pick(names []string, b *value.Batch) []*value.Column {
	picked := make([]*value.Column, len(names))
	for i, name := range names {
		picked[i] = &b.Columns[slices.Index(g.columns, name)]
	}
	return picked
}

func (g *Gone) part(i int) error {
	var there keyindex.Set
	err := g.keysInFile[i].Each(func(h *keyindex.Hash) error {
		there.Insert(*h)
		return nil
	})
	if err != nil {
		return err
	}
	return g.candidates[i].Each(func(k *numberedKey) error {
		g.stand(k.row, there.Find(k.key) != nil)
		return nil
	})
}

// Rows is the number of rows that are gone; a nil Gone has none.
func (g *Gone) Rows() int64 {
	if g == nil {
		return 0
	}
	return g.missing.Len()
}

// Removed is the number of rows that are to be removed.
func (g *Gone) Removed() int64 {
	if g == nil || g.Marked != nil {
		return 0
	}
	return g.missing.Len()
}

// MarkedRows is the number of rows that are marked.
func (g *Gone) MarkedRows() int64 {
	if g == nil || g.Marked == nil {
		return 0
	}
	return g.Marked.Rows()
}

// ReturnedRows is the number of rows that are marked back.
func (g *Gone) ReturnedRows() int64 {
	if g == nil || g.Returned == nil {
		return 0
	}
	return g.Returned.Rows()
}

// Markings are the rows that are marked, and those that are marked back; nil for none.
func (g *Gone) Markings() (all []*Marking) {
	if g == nil || g.Marked == nil {
		return nil
	}
	return []*Marking{g.Marked, g.Returned}
}

// Keys returns the columns By of the rows that are gone, in batches; where there are none, all that the table keeps of
// them.
func (g *Gone) Keys(take func(*value.Batch) error) error { return g.each(&g.missing, g.width, take) }

// each returns the first columns of some of the rows, in batches.
func (g *Gone) each(set *spool.RowSet, columns int, take func(*value.Batch) error) error {
	want, rows := make([]int, columns), &value.Batch{}
	for i := range want {
		want[i] = i
	}
	for i := range g.rows.Batches() {
		first := g.rows.First(i)
		if !set.Any(first, g.rows.Len(i)) {
			continue
		}
		if err := g.rows.Read(i, want, rows); err != nil {
			return err
		}
		gone := value.NewBatch(g.rows.Types()[:columns])
		for row := range g.rows.Len(i) {
			if set.Has(first + int64(row)) {
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

// GoneNames names the first rows that are gone by their keys, at most so many.
func (s *Step) GoneNames(most int) ([]string, error) { return firstNames(s.EachGone, most) }

// firstNames takes the first names that each gives, at most so many.
func firstNames(each func(take func(string) error) error, most int) (names []string, err error) {
	enough := errors.New("enough")
	err = each(func(name string) error {
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

// EachGone names all rows that are gone, by their keys.
func (s *Step) EachGone(take func(name string) error) error {
	if s.Gone.Rows() == 0 {
		return nil
	}
	return s.Gone.eachName(&s.Gone.missing, s.RecognisedBy(), take)
}

// eachName names some of the rows by their keys.
func (g *Gone) eachName(set *spool.RowSet, key []string, take func(name string) error) error {
	return g.each(set, len(g.columns), func(b *value.Batch) error {
		columns := g.pick(key, b)
		for row := range b.Len() {
			if err := take(rowName(columns, row)); err != nil {
				return err
			}
		}
		return nil
	})
}

// rowName names a row by some of its columns.
func rowName(columns []*value.Column, row int) string {
	texts := make([]string, len(columns))
	for i, c := range columns {
		texts[i] = "NULL"
		if text := textIn(c, row); text != nil {
			texts[i] = *text
		}
	}
	return strings.Join(texts, ", ")
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
		if s.Gone.Removed() == 0 {
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
		columns = append(columns, going.columns...)
	}
	return s.Gone.each(&s.Gone.missing, len(s.Gone.columns), func(b *value.Batch) error {
		keys := &value.Batch{}
		for _, c := range s.Gone.pick(p.ParentColumns, b) {
			keys.Columns = append(keys.Columns, *c)
		}
		keys = keys.As(engine.Types(p.Child, p.Columns))
		return r.Database.Probe(ctx, p.Child, p.Columns, keys, columns, func(found *value.Batch) error {
			for row := range found.Len() {
				if going.has(found.Columns[len(p.Columns):], row) {
					continue
				}
				if len(s.Gone.References) < mostReferences {
					s.Gone.References = append(s.Gone.References,
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
	columns []string
	equal   bool           // rows may be equal
	rows    map[string]int // how many of them are equal and were not met yet
}

// has reports whether a row, by its columns, is one that goes; of rows that may be equal, each call takes one.
func (g *removal) has(columns []value.Column, row int) bool {
	if g == nil {
		return false
	}
	id := value.Identity(columns, row)
	goes := g.rows[id] > 0
	if goes && g.equal {
		g.rows[id]--
	}
	return goes
}

func (r *round) goingFrom(t *schema.Table) (*removal, error) {
	var g *removal
	for _, s := range r.Steps {
		if s.Table != t || s.Gone.Removed() == 0 {
			continue
		}
		if g == nil {
			g = &removal{s.Gone.columns[:s.Gone.width], s.Gone.By == nil, map[string]int{}}
		}
		err := s.Gone.Keys(func(b *value.Batch) error {
			for row := range b.Len() {
				g.rows[value.Identity(b.Columns, row)]++
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return g, nil
}

func (g *Gone) close() error {
	closeAll(g.keysInFile)
	closeAll(g.candidates)
	if g.rows == nil {
		return nil
	}
	return g.rows.Close()
}
