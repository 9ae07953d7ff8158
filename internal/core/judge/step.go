package judge

import (
	"errors"
	"slices"

	"ladle/internal/core/clean"
	"ladle/internal/core/plan"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// Step is a step with what was decided of its lines.
type Step struct {
	*plan.Step
	Tally    Tally
	Gone     *Gone             // rows of the table that the input no longer has; nil where they stay
	Problems []*spool.Problems // each by ascending line; their columns are those of the step
	SetAside spool.RowSet
	FirstNew int64 // the number of the first row that it adds, among those that steps add to the table
	FedMost  int64 // the greatest locator that the file brings along
	// lines that are left out because a blank cell makes a condition blank, so that it neither holds nor fails
	BlankConditions int64
	BlankLines      int64        // lines that are left out since each cell that the step uses is blank
	Overruled       []Overruling // the first of them
	Similar         []Similar    // keys that look like others, and that a person accepted
	Typeless        []Typeless   // what stands in columns without a type
	Unheld          int64        // new keys that were not held against each other, since they are too many

	rows        *clean.Rows
	constraints []*constraint // that are judged before anything is written
	sources     []*evaluator
	first       *Step // of a second half: the step whose rows it completes
	later       []int // of a first half: the cells that second halves read
	oldIDs      []int // the cells by which lookups of other steps find its rows
	findings    *findings
	verdicts    *verdicts
	ranks       *spool.Stream[int64] // see Ranks; nil where rows are added in the order of the file
	merges      *merges              // the lines that take values of others; nil where there are none
	changes     *changes             // what becomes of rows that are there; nil where they stay as they are
	unresolved  map[LeftBlank]int64  // cells that lookups left blank
	spoilt      spool.RowSet         // lines whose rows would break a constraint once they are changed
	// lines that can change a row that is there, but not add one: a value that a row needs is blank
	gaps spool.RowSet
}

func newStep(p *plan.Step, rows *clean.Rows) *Step {
	return &Step{Step: p, rows: rows, constraints: constraintsOf(p)}
}

func (s *Step) close() error {
	var errs []error
	if s.findings != nil {
		errs = append(errs, s.findings.spool.Close())
	}
	if s.verdicts != nil {
		errs = append(errs, s.verdicts.spool.Close())
	}
	if s.changes != nil {
		errs = append(errs, s.changes.spool.Close())
	}
	errs = append(errs, s.merges.close())
	if s.ranks != nil {
		errs = append(errs, s.ranks.Close())
	}
	if s.Gone != nil {
		errs = append(errs, s.Gone.close())
	}
	for _, log := range s.Problems {
		errs = append(errs, log.Close())
	}
	return errors.Join(errs...)
}

// Size is about the number of bytes of the cells of its lines.
func (s *Step) Size() int64 { return s.rows.Size() }

// EachVerdict gives take what was decided of the lines from first to last, in the order of the file.
func (s *Step) EachVerdict(first, last int64, take func(line int64, v Verdict)) error {
	var batch verdictBatch
	for i := range s.rows.Batches() {
		start, n := s.rows.Span(i)
		if start+int64(n) <= first || start > last {
			continue
		}
		if err := s.verdicts.read(i, &batch); err != nil {
			return err
		}
		for line := max(start, first); line <= min(start+int64(n)-1, last); line++ {
			take(line, batch.verdict(int(line-start)))
		}
	}
	return nil
}

// conditions lists the cells that are conditions of the step.
func (s *Step) conditions() []int { return s.Only }

// keyOf returns those of a step's columns, or of what stands for them, that are its key.
func keyOf[T any](s *Step, columns []T) []T {
	key := make([]T, len(s.Key))
	for i, k := range s.Key {
		key[i] = columns[k]
	}
	return key
}

// findings are what the first pass of a step found out: for each line its state, then what its lookups led to.
type findings struct {
	spool *spool.Spool
	at    []int // for each column of the step: where the spool has it; 0 for one that is not looked up
}

// rowState is what the first pass says of a line: one of these, or the part that its key belongs to.
const (
	bad = -1
	out = -2 // it is left out: by a condition, by a person, since it is blank, or since an earlier run has loaded it
)

func newFindings(s *plan.Step, dir string) *findings {
	f := &findings{at: make([]int, len(s.Columns))}
	types := []value.Type{{Kind: value.Int}}
	for i, c := range s.Columns {
		if c.Source.Lookup != nil {
			f.at[i] = len(types)
			types = append(types, c.Source.Lookup.Yields.Type)
		}
	}
	f.spool = spool.New(dir, types)
	return f
}

// add adds a batch of lines.
func (f *findings) add(rowState []int64, columns []*value.Column) error {
	b := &value.Batch{Columns: make([]value.Column, len(f.spool.Types()))}
	for _, part := range rowState {
		b.Columns[0].AppendNum(part)
	}
	b.Columns[0].Kind = value.Int
	for i, at := range f.at {
		if at > 0 {
			b.Columns[at] = *columns[i]
		}
	}
	return f.spool.Append(b)
}

// read fills b with batch i: the state of its lines, and what the wanted columns of the step hold that are looked
// up.
func (f *findings) read(i int, b *findingBatch, columns ...int) error {
	b.of = f
	b.want = append(b.want[:0], 0)
	for _, c := range columns {
		if f.at[c] > 0 {
			b.want = append(b.want, f.at[c])
		}
	}
	return f.spool.Read(i, b.want, &b.batch)
}

// findingBatch is a batch of findings.
type findingBatch struct {
	of    *findings
	batch value.Batch
	want  []int
}

func (b *findingBatch) rowState(line int) int64 { return b.batch.Columns[0].Nums[line] }

// column is what was found for a column of the step; nil for one that is not looked up.
func (b *findingBatch) column(c int) *value.Column {
	if at := b.of.at[c]; at > 0 {
		return &b.batch.Columns[at]
	}
	return nil
}

// verdicts are what was decided: for each line its verdict, and the row that it is or becomes.
type verdicts struct{ spool *spool.Spool }

func newVerdicts(dir string) *verdicts {
	return &verdicts{spool.New(dir, []value.Type{{Kind: value.Int}, {Kind: value.Int}})}
}

func (v *verdicts) read(i int, b *verdictBatch) error { return v.spool.Read(i, []int{0, 1}, &b.batch) }

// verdictBatch is a batch of verdicts.
type verdictBatch struct{ batch value.Batch }

func newDecided() *verdictBatch {
	return &verdictBatch{*value.NewBatch([]value.Type{{Kind: value.Int}, {Kind: value.Int}})}
}

func (d *verdictBatch) add(v Verdict) { d.batch.Columns[0].AppendNum(int64(v)) }

// row is the column of the rows: the locator of one that is there, or a NewRow.
func (d *verdictBatch) row() *value.Column { return &d.batch.Columns[1] }

func (d *verdictBatch) verdict(line int) Verdict { return Verdict(d.batch.Columns[0].Nums[line]) }

func (d *verdictBatch) set(line int, v Verdict) { d.batch.Columns[0].Nums[line] = int64(v) }

func (d *verdictBatch) any(v Verdict) bool { return slices.Contains(d.batch.Columns[0].Nums, int64(v)) }
