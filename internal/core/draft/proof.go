package draft

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// witness learns from all lines of a file whether a match is right.
type witness interface {
	line(m *matcher, r *source.Record) error
	// verdict changes the block by what was learnt.
	verdict(m *matcher, b *block) error
}

// prove reads the files of blocks once more, where the distinct values that a survey keeps don't decide: for columns
// with more of them that are looked up, and for numbers that could be ids.
func (m *matcher) prove(ctx context.Context, blocks []*block) error {
	for _, b := range blocks {
		witnesses := slices.Concat(m.counters(b), m.agreements(b))
		if m.err != nil || len(witnesses) == 0 {
			continue
		}
		err := b.file.Survey.EachRow(ctx, func(r *source.Record) error {
			for _, w := range witnesses {
				if err := w.line(m, r); err != nil {
					return err
				}
			}
			return nil
		})
		for _, w := range witnesses {
			if err == nil {
				err = w.verdict(m, b)
			}
		}
		if err != nil {
			return err
		}
	}
	return m.err
}

// cell is a cell of a column in the form in which it is compared; "" for a blank one.
func (f *file) cell(r *source.Record, c *column) string {
	text := strings.TrimSpace(string(r.Fields[slices.Index(f.columns, c)]))
	if text == "" || c.isWord(text) {
		return ""
	}
	return text
}

func lineOf(r *source.Record) int64 {
	_, line := source.PositionIn(r.Position)
	return line
}

// counter counts the cells of a column whose value is at a place.
type counter struct {
	question
	file         *file
	column       string // of the table, that is fed
	given, there int64
	waiting      []cellAt
	first        cellAt // that is not there
}

type cellAt struct {
	text string
	line int64
}

// mostWaitingCells is the number of cells that are asked for together.
const mostWaitingCells = 20_000

// counters are for lookups by columns with more distinct values than are compared.
func (m *matcher) counters(b *block) (all []witness) {
	for _, x := range b.fed {
		from, at := cmp.Or(x.column, x.single()), x.points
		if x.single() != nil {
			at = &place{x.lookup.table, x.lookup.by[0].of.Name}
		}
		if at == nil || from == nil || len(from.texts) <= fewTexts {
			continue
		}
		all = append(all, &counter{question: question{*at, from, true}, file: b.file, column: x.of.Name})
	}
	return all
}

func (c *counter) line(m *matcher, r *source.Record) error {
	if text := c.file.cell(r, c.from); text != "" {
		c.waiting = append(c.waiting, cellAt{text, lineOf(r)})
	}
	if len(c.waiting) >= mostWaitingCells {
		return c.ask(m)
	}
	return nil
}

// ask counts the cells that wait.
func (c *counter) ask(m *matcher) error {
	var texts []string
	for _, w := range c.waiting {
		texts = append(texts, w.text)
	}
	has, err := m.values.values(c.place, texts)
	if err != nil {
		return err
	}
	for _, w := range c.waiting {
		if c.given++; m.values.has(c.question, has, source.FoldName(w.text)) {
			c.there++
		} else if c.first.line == 0 {
			c.first = w
		}
	}
	c.waiting = c.waiting[:0]
	m.values.forget(c.place)
	return nil
}

func (c *counter) verdict(m *matcher, b *block) error {
	const enough, doubtful, most = 0.8, 0.65, 0.99
	if err := c.ask(m); err != nil || c.there == c.given {
		return err
	}
	for i := range b.fed {
		x := &b.fed[i]
		if x.of.Name != c.column {
			continue
		}
		x.Score = min(x.Score, most)
		if float64(c.there) < enough*float64(c.given) {
			x.Score = min(x.Score, doubtful)
		}
		x.Why += fmt.Sprintf("; of all lines, %s of %s cells are; the first other is %q in line %d",
			reason.Count(c.there), reason.Count(c.given), c.first.text, c.first.line)
	}
	return nil
}

// agreement holds other columns of the lines against the rows whose ids the numbers of a column would be.
type agreement struct {
	file        *file
	of          *schema.Column // that is fed
	from        *column        // of numbers
	table       *schema.Table  // whose ids they would be
	key         string
	others      []pair
	rows        map[string][]string // by id, the values of the others
	agree, miss int64               // lines whose row is there and agrees, lines whose row isn't there
	differ      int64
	first       string // how the first line differs
}

// pair is a column of a file and the one of a table whose values it has.
type pair struct {
	from *column
	to   *schema.Column
}

// agreements are for columns of numbers that are taken for ids, or could be where names are not unique.
func (m *matcher) agreements(b *block) (all []witness) {
	for _, x := range b.fed {
		a := &agreement{file: b.file, of: x.of}
		switch relation := b.table.Relation(x.of.Name) != nil; {
		case x.column != nil && x.of.Identity && !relation:
			a.from, a.table, a.key = x.column, b.table, x.of.Name
			for _, y := range b.fed {
				if y.column != nil && y.column != x.column && (y.of.Type.Kind == value.Text ||
					y.of.Type.Kind == value.Int) {
					a.others = append(a.others, pair{y.column, y.of})
				}
			}
		case x.column != nil && relation && x.column.Type == "whole number":
			a.from = x.column
			a.table, a.key, _ = m.relation(b.table, x.of)
			a.others = m.described(b.file, a.table, a.from)
		case x.lookup != nil && x.lookup.loose:
			a.from = m.numbers(b, x.of)
			a.table, a.key, _ = m.relation(b.table, x.of)
			a.others = []pair{{x.single(), x.lookup.by[0].of}}
		}
		if a.from == nil || a.table == nil || len(a.others) == 0 || !a.table.UniqueOn([]string{a.key}) {
			continue
		}
		m.err = cmp.Or(m.err, a.read(m))
		all = append(all, a)
	}
	return all
}

// numbers is the column of the file that names say holds the ids to which c refers; nil for none.
func (m *matcher) numbers(b *block, c *schema.Column) *column {
	for _, from := range b.file.columns {
		if m.ids(b.table, c, from, m.direct(b.table, c, from)).Score > 0 {
			return from
		}
	}
	return nil
}

// described lists the columns of a file, but one, whose values a table has.
func (m *matcher) described(f *file, t *schema.Table, but *column) (all []pair) {
	for _, from := range f.columns {
		if from == but || from.Type != "text" || t == nil {
			continue
		}
		for i := range t.Columns {
			if to := &t.Columns[i]; to.Type.Kind == value.Text &&
				m.byValue(question{place{t, to.Name}, from, false}).Score > 0 {
				all = append(all, pair{from, to})
				break
			}
		}
	}
	return all
}

// read reads the rows with ids that the file has.
func (a *agreement) read(m *matcher) error {
	a.rows = map[string][]string{}
	of := a.table.Column(a.key)
	keys := &value.Batch{Columns: []value.Column{value.NewColumn(of.Type)}}
	for _, t := range a.from.texts {
		_ = value.Parse(&keys.Columns[0], of.Type, []byte(t)) // what is no such number has no row
	}
	wanted := []string{a.key}
	for _, p := range a.others {
		wanted = append(wanted, p.to.Name)
	}
	return m.values.db.Probe(m.values.ctx, a.table, []string{a.key}, keys, wanted, func(b *value.Batch) error {
		for row := range b.Columns[0].States {
			texts := make([]string, len(a.others))
			for i := range a.others {
				if c := &b.Columns[i+1]; c.States[row] == value.Given {
					texts[i] = c.Text(row)
				}
			}
			a.rows[b.Columns[0].Text(row)] = texts
		}
		return nil
	})
}

func (a *agreement) line(_ *matcher, r *source.Record) error {
	id := a.file.cell(r, a.from)
	row, there := a.rows[id]
	if id == "" {
		return nil
	}
	if !there {
		a.miss++
		return nil
	}
	for i, p := range a.others {
		says := a.file.cell(r, p.from)
		if source.FoldName(says) == source.FoldName(row[i]) {
			continue
		}
		if a.differ++; a.differ == 1 {
			a.first = fmt.Sprintf("in line %d, %s is %q, but the row of %s with %s %s has another %s", lineOf(r),
				p.from.Name, says, a.table.Name, a.key, id, p.to.Name)
		}
		return nil
	}
	a.agree++
	return nil
}

func (a *agreement) verdict(_ *matcher, b *block) error {
	const proven, fewest = 0.95, 2 // lines
	i := slices.IndexFunc(b.fed, func(x assignment) bool { return x.of.Name == a.of.Name })
	if i < 0 {
		return nil
	}
	x := &b.fed[i]
	switch taken := x.lookup == nil; {
	case a.differ > 0 && taken:
		b.refuted = append(b.refuted, fmt.Sprintf("%s of the file is not taken for %s: %s", a.from.Name, a.of.Name,
			a.first))
		b.fed = slices.Delete(b.fed, i, i+1)
	case a.differ == 0 && a.miss == 0 && a.agree >= fewest:
		var names []string
		for _, p := range a.others {
			names = append(names, p.from.Name)
		}
		why := fmt.Sprintf("ids of %s: in %s, %s as in the row with that id", a.table.Name,
			reason.Plural(a.agree, "line"), strings.Join(names, " and ")+pick(len(names) == 1, " is", " are"))
		*x = assignment{guess: guess{proven, why}, of: x.of, column: a.from, proven: true}
	}
	return nil
}
