// Package survey says what is in files: it reads every row, in one pass and in bounded memory, and tells of each column
// its type and how it is written, what doesn't fit and where; keys; columns that decide others; and how files belong
// together.
package survey

import (
	"cmp"
	"context"
	"errors"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"

	"ladle/internal/core/fault"
	"ladle/internal/core/source"
)

// Survey is all that was learnt of some inputs.
type Survey struct {
	Inputs    []*Input   `json:"inputs"`
	Relations []Relation `json:"relations"` // columns of one input whose values are keys of another
}

// Input is what was learnt of one file, or of one sheet.
type Input struct {
	Read          *source.Format `json:"format"`          // how it was read
	Rows          int64          `json:"row_count"`       // that can be read, whatever their cells hold
	Broken        Oddity         `json:"broken_lines"`    // lines that could not be split into columns
	Totals        []Place        `json:"possible_totals"` // rows that seem to sum up others
	EndsWithTotal bool           `json:"ends_with_total"` // the last row is one of them
	Second        *SecondTable   `json:"second_table,omitempty"`
	Columns       []*Column      `json:"columns"`
	Keys          []Key          `json:"possible_keys"`
	Shapes        []Shape        `json:"possible_shapes"`
	Parents       []Parent       `json:"possible_parents"`
	Bounds        Bounds         `json:"bounds"`

	values  []*values
	table   source.Table
	origins []source.Origin
}

// SecondTable is the row that seems to be the header of another table below this one.
type SecondTable struct {
	Place
	Rows int64 `json:"rows"` // from it to the end
}

// Distinct lists distinct cells of a column without blank ones, some thousand of them, the first of the file.
func (in *Input) Distinct(column int) (texts []string) {
	for _, k := range in.values[column].kept {
		if strings.TrimSpace(k.text) != "" {
			texts = append(texts, k.text)
		}
	}
	return texts
}

// Again is the table of the input, to be read once more. It must still be open.
func (in *Input) Again() source.Table { return source.Replay(in.table, in.origins) }

// EachRow reads the rows once more, those that could be split into columns; a cell that can't be trusted is blank. The
// table must still be open, and the record is used again.
func (in *Input) EachRow(ctx context.Context, visit func(*source.Record) error) error {
	none := func(*source.Chunk) struct{} { return struct{}{} }
	r := source.Record{Keep: true}
	return source.Each(ctx, in.Again(), none, func(c *source.Chunk, _ struct{}) error {
		for c.Next(&r) {
			if source.Misshapen(&r, len(in.Columns)) != nil {
				continue
			}
			for _, f := range r.Faults {
				r.Fields[f.Field] = nil
			}
			if err := visit(&r); err != nil {
				return err
			}
		}
		return nil
	})
}

// Bounds are the limits within which keys and parents were looked for.
type Bounds struct {
	SampleRows int `json:"sample_rows"` // by which they were found; they were verified over all rows
	Singles    int `json:"most_single_keys"`
	Pairs      int `json:"most_pairs"`
	Triples    int `json:"most_triples"`
	Determined int `json:"most_determined_columns"`
	Columns    int `json:"most_columns_compared"` // that are held against each other
}

// Place is a line or row of an input, with a cell or words on it.
type Place struct {
	Line int64  `json:"line"`
	Cell string `json:"cell,omitempty"` // its address, in a sheet
	Says string `json:"says"`
}

// Oddity is something that is odd, how often it is, and where first.
type Oddity struct {
	What   string  `json:"what,omitempty"`
	Count  int64   `json:"count"`
	Places []Place `json:"places"`
}

// Key is columns that tell rows apart: all of them, or all but Repeats.
type Key struct {
	Columns []string `json:"columns"`
	Blanks  int64    `json:"blanks"`  // rows with a blank in one of the columns
	Repeats int64    `json:"repeats"` // rows whose key stands in an earlier row
	First   []Repeat `json:"first_repeats"`

	column int // of a key of one column
}

// Repeat is a row whose key stands in an earlier one.
type Repeat struct {
	Line    int64 `json:"line"`
	Earlier int64 `json:"earlier"`
}

// Parent is a column that decides others, so that they could be rows of a table of their own.
type Parent struct {
	Column   string     `json:"column"`
	Distinct int64      `json:"distinct"`
	Decides  []Decision `json:"decides"`
}

// Decision is a column that another one decides, with the rows that contradict.
type Decision struct {
	Column  string `json:"name"`
	Against Oddity `json:"exceptions"`
}

// Relation is a column whose values are keys of another input, all or nearly all of them.
type Relation struct {
	Input   string   `json:"input"`
	Column  string   `json:"column"`
	Parent  string   `json:"parent"`
	Key     string   `json:"parent_column"`
	Shared  int      `json:"distinct_shared"` // distinct values that both have
	Values  int      `json:"distinct"`        // distinct values that the column has
	Missing []string `json:"missing"`         // the first values that the key lacks
	Sampled bool     `json:"sampled"`         // only a sample of the values was compared
}

const mostFaults = 100_000 // cells that can't be trusted, which are counted

// Progress is how far a survey is, in bytes of a file.
type Progress struct {
	What     string
	Done, Of int64
}

// Run surveys tables, one after the other; tell, when not nil, hears how far it is.
func Run(ctx context.Context, tables []source.Table, tell func(Progress)) (*Survey, error) {
	s := &Survey{}
	for _, t := range tables {
		in, err := readTable(ctx, t, tell, false)
		if err != nil {
			return nil, err
		}
		s.Inputs = append(s.Inputs, in)
	}
	s.Relations = relate(s.Inputs)
	return s, nil
}

// Columns surveys the columns of a table, each by itself: no keys and no parents are looked for, so that the table is read
// just once.
func Columns(ctx context.Context, t source.Table) (*Input, error) {
	return readTable(ctx, t, nil, true)
}

// reading is a survey of one table at work.
type reading struct {
	table   source.Table
	columns int
	apart   bool // each column by itself
	stats   []*stats
	values  []*values
	waiting []*pass // the first ones, until the sample is large enough
	waits   int
	sample  *sample
	keys    []*candidate
	bonds   []*determinant
	rows    int64
	broken  places
	seconds []second
	records int64 // with those that are broken
	totals  []oddRecord
	last    int64 // the position of the last record
	faults  []faultyCell
	idle    idleStats
	origins []source.Origin
}

// idleStats are the stats that no worker uses just now. What they say together doesn't depend on who saw which chunk.
type idleStats struct {
	sync.Mutex
	all [][]*stats
}

func (s *idleStats) take(columns int) []*stats {
	s.Lock()
	defer s.Unlock()
	if n := len(s.all); n > 0 {
		last := s.all[n-1]
		s.all = s.all[:n-1]
		return last
	}
	fresh := make([]*stats, columns)
	for i := range fresh {
		fresh[i] = newStats(columns)
	}
	return fresh
}

func (s *idleStats) give(back []*stats) {
	s.Lock()
	defer s.Unlock()
	s.all = append(s.all, back)
}

// merged is what all saw together.
func (s *idleStats) merged(columns int) []*stats {
	first := s.take(columns)
	for _, mine := range first {
		mine.settle()
	}
	for _, other := range s.all {
		for i := range first {
			first[i].merge(other[i])
		}
	}
	return first
}

// readTable reads a table to its end.
func readTable(ctx context.Context, t source.Table, tell func(Progress), apart bool) (*Input, error) {
	r := &reading{table: t, columns: len(t.Header().Names), apart: apart}
	defer r.close()
	name := t.Files()[0].Name()
	for range r.columns {
		r.values = append(r.values, newValues(r.columns))
	}
	work := func(c *source.Chunk) *pass {
		mine := r.idle.take(r.columns)
		defer r.idle.give(mine)
		return readThrough(c, mine)
	}
	err := source.Each(ctx, t, work, func(c *source.Chunk, p *pass) error {
		if tell != nil {
			tell(Progress{name, c.Origin.Done, t.Size()})
		}
		r.origins = append(r.origins, c.Seal())
		return r.take(p)
	})
	if err == nil {
		err = r.begin()
	}
	r.stats = r.idle.merged(r.columns)
	for _, f := range r.faults {
		r.stats[f.column].faulty.add(1, f.position, []byte(f.why))
	}
	if err != nil {
		return nil, err
	}
	return r.result(ctx)
}

func (r *reading) close() {
	for _, k := range r.keys {
		k.close()
	}
}

const mostWaiting = 64 // passes, when they hold few rows that can be read

// take takes a pass, in the order of the file.
func (r *reading) take(p *pass) error {
	if r.sample == nil {
		r.waiting, r.waits = append(r.waiting, p), r.waits+p.rows
		if r.waits >= sampleSize(r.columns) || len(r.waiting) >= mostWaiting {
			return r.begin()
		}
		return nil
	}
	return r.add(p)
}

// begin finds what could be a key or a bond by the passes that wait, and takes them.
func (r *reading) begin() error {
	if r.sample != nil {
		return nil
	}
	r.sample = newSample(r.waiting, r.columns)
	if !r.apart {
		r.keys, r.bonds = r.sample.candidates(), r.sample.determinants()
	}
	for _, p := range r.waiting {
		if err := r.add(p); err != nil {
			return err
		}
	}
	r.waiting = nil
	return nil
}

// add brings a pass into what was seen before.
func (r *reading) add(p *pass) error {
	defer p.done()
	r.rows += int64(p.rows)
	for i := range r.columns {
		r.values[i].add(&p.tallies[i])
	}
	for _, b := range p.broken {
		r.broken.add(1, b.position, []byte(b.why))
	}
	if n := len(p.positions); n > 0 {
		r.last = p.positions[n-1]
	}
	if len(r.totals) < fewSpots {
		r.totals = append(r.totals, p.totals...)
	}
	for _, s := range p.seconds[:min(len(p.seconds), max(0, fewSpots-len(r.seconds)))] {
		s.number += r.records
		r.seconds = append(r.seconds, s)
	}
	r.records += int64(p.records)
	r.faults = append(r.faults, p.faults[:min(len(p.faults), max(0, mostFaults-len(r.faults)))]...)
	for _, d := range r.bonds {
		d.add(p, r.sample.blank)
		d.settle(r.rows)
	}
	for _, k := range r.keys {
		if err := k.add(p, r.sample.blank, os.TempDir()); err != nil {
			return err
		}
	}
	return nil
}

// result says what was seen.
func (r *reading) result(ctx context.Context) (*Input, error) {
	read := r.table.Formats()[0]
	in := &Input{Read: &read, Rows: r.rows, Broken: r.oddity("", &r.broken, -1), values: r.values,
		table: r.table, origins: r.origins,
		Bounds: Bounds{r.sample.rows, mostSingles, mostPairs, mostTriples, mostDetermined, mostCompared}}
	for _, t := range r.totals[:min(len(r.totals), fewSpots)] {
		in.Totals = append(in.Totals, r.place(t.position, -1, t.why))
		in.EndsWithTotal = t.position == r.last
	}
	for i, name := range r.table.Header().Names {
		in.Columns = append(in.Columns, r.column(i, name))
	}
	in.Second = r.second(in.Columns)
	keys, err := r.verify(ctx)
	if err != nil {
		return nil, err
	}
	for i, key := range keys {
		k := r.keys[i]
		if key != nil && key.column >= 0 {
			c := in.Columns[key.column]
			c.Distinct, c.Exact = k.keys.Len()-key.Repeats, true
		}
		if key != nil && (key.column < 0 || in.Columns[key.column].couldBeKey(key.Repeats)) {
			in.Keys = append(in.Keys, *key)
		}
	}
	slices.SortStableFunc(in.Keys, func(a, b Key) int { return cmp.Compare(min(a.Repeats, 1), min(b.Repeats, 1)) })
	for _, d := range parents(r.bonds) {
		in.Parents = append(in.Parents, r.parent(d))
	}
	in.Shapes = in.shapes()
	return in, nil
}

// verify says how good each candidate is, as many at a time as there are processors.
func (r *reading) verify(ctx context.Context) ([]*Key, error) {
	keys, errs := make([]*Key, len(r.keys)), make([]error, len(r.keys))
	var wait sync.WaitGroup
	slots := make(chan struct{}, runtime.GOMAXPROCS(0))
	for i, k := range r.keys {
		wait.Add(1)
		slots <- struct{}{}
		go func() {
			defer wait.Done()
			defer func() { <-slots }()
			defer fault.Recover(&errs[i])
			keys[i], errs[i] = r.key(ctx, k)
		}()
	}
	wait.Wait()
	return keys, errors.Join(errs...)
}

// couldBeKey reports whether a column that tells rows apart, all but repeats, does so not only by chance: measured
// things do in a short file.
func (c *Column) couldBeKey(repeats int64) bool {
	switch c.Type {
	case typeText:
		return true
	case typeWhole:
		return repeats == 0 || c.Fit > 100*fewRows
	}
	return repeats == 0 && c.Type != typeDecimal
}

// place is a place for people: its line, and in a sheet the cell.
func (r *reading) place(position int64, column int, says string) Place {
	_, line := source.PositionIn(position)
	p := Place{Line: line, Says: says}
	if column >= 0 {
		p.Cell = source.CellName(r.table, position, column)
	}
	return p
}

func (r *reading) oddity(what string, s *places, column int) Oddity {
	o := Oddity{What: what, Count: s.count}
	for _, at := range s.first {
		o.Places = append(o.Places, r.place(at.position, column, at.cell))
	}
	return o
}

// key says how good a candidate is; nil when too many rows repeat.
func (r *reading) key(ctx context.Context, c *candidate) (*Key, error) {
	k := &Key{Blanks: c.blanks, column: -1}
	if len(c.columns) == 1 {
		k.column = c.columns[0]
	}
	for _, column := range c.columns {
		k.Columns = append(k.Columns, r.table.Header().Names[column])
	}
	if c.keys == nil || c.keys.Len() == 0 {
		return nil, nil
	}
	count, first, err := c.repeats(ctx)
	if err != nil {
		return nil, err
	}
	if !nearKey(int(count), int(c.keys.Len())) {
		return nil, nil
	}
	k.Repeats = count
	for _, f := range first {
		_, line := source.PositionIn(f.position)
		_, earlier := source.PositionIn(f.earlier)
		k.First = append(k.First, Repeat{line, earlier})
	}
	return k, nil
}

func (r *reading) parent(d *determinant) Parent {
	names := r.table.Header().Names
	p := Parent{Column: names[d.column], Distinct: int64(d.met)}
	for i := range d.others {
		o := &d.others[i]
		p.Decides = append(p.Decides, Decision{names[o.column], r.oddity("", &o.against, -1)})
	}
	return p
}

// Open opens all that holds rows in the files at paths. Files that patterns match come in the order of their names.
func Open(paths []string, asked source.ReadOptions) ([]source.Table, error) {
	var all []source.Table
	var failed []error
	for _, p := range paths {
		asked.Guess = true // it is only looked at
		tables, err := source.All(p, asked)
		all, failed = append(all, tables...), append(failed, err)
	}
	if err := errors.Join(failed...); err != nil {
		Close(all)
		return nil, source.Together(err)
	}
	return all, nil
}

// Close closes tables.
func Close(tables []source.Table) {
	for _, t := range tables {
		_ = t.Close() // they were only read
	}
}
