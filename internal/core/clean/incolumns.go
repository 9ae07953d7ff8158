package clean

import (
	"slices"

	"ladle/internal/core/formula"
	"ladle/internal/core/notation"
	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// inColumns cleans what stands together in the rows of a block - the columns that others need, and those that are made of
// others - a column after the other. A row with anything that is not plain is left to be cleaned as a record.
type inColumns struct {
	steps []*step // in the order of the recipe
	of    []*step // by column of the recipe
	alone []bool  // by row of the block
	asked [formula.Provenances]formula.Vector
}

// step makes the cells of one column in a block.
type step struct {
	column int
	cells  *formula.Vector
	own    formula.Vector // where they are not those of a formula
	did    []deeds        // to each, once anything was
	texts  []byte         // memory for those that don't stand in the file

	plainly reading        // most cells of a field of the file; nil where there is no such way
	filled  bool           // blanks may get a value that a formula gives
	formula *formula.Block // of a column that is computed
	ruled   bool           // what is computed goes through a rule
}

// reading puts a cell into a row of a vector, and tells what was done to it; false when it needs a closer look.
type reading func(v *formula.Vector, row int, cell []byte) (deeds, bool)

// inColumns is such a way for what stands together; nil where there is none, since something depends on other lines.
func (k *rowCleaner) inColumns() *inColumns {
	if len(k.order) == 0 || k.aboveOf != nil || k.known != nil {
		return nil
	}
	s := &inColumns{of: make([]*step, len(k.columns))}
	for _, i := range k.order {
		c := &k.columns[i]
		x := &step{column: i, filled: c.fills != nil}
		switch f := c.from.formula; {
		case slices.ContainsFunc(c.fills, func(f *fill) bool { return f.formula == nil }), f != nil && !f.Together():
			return nil
		case f != nil:
			x.formula, x.ruled = formula.NewBlock(f, len(k.columns)), !c.rule.isNothing() || c.fills != nil || c.last != nil
			for p := range s.asked {
				x.formula.SetProvenance(formula.Provenance(p), &s.asked[p])
			}
		case c.from.field >= 0:
			x.plainly = c.rule.plainly()
		}
		s.steps, s.of[i] = append(s.steps, x), x
	}
	return s
}

// isNothing reports whether the rule leaves all cells as they are.
func (r *Rule) isNothing() bool {
	return r.isPlain() && r.Number == nil && r.Dates == nil && r.Truths == nil && !r.Rounded
}

// isPlain reports whether nothing is done with cells but that they are read, and rounded.
func (r *Rule) isPlain() bool {
	return r.BlankIs == nil && r.Clean == nil && r.Recode == nil && r.ShortenTo == 0
}

// plainly is how most cells are read by the rule; nil where each needs a closer look.
func (r *Rule) plainly() reading {
	switch {
	case !r.isPlain():
		return nil
	case r.Number != nil:
		return r.plainNumber
	case r.Dates != nil:
		return plainMoment(r.Dates)
	case r.isNothing():
		return func(v *formula.Vector, row int, cell []byte) (deeds, bool) {
			v.Texts[row] = text.Of(cell)
			return 0, true
		}
	}
	return nil
}

// plainNumber reads a number, and rounds it where the rule says so.
func (r *Rule) plainNumber(v *formula.Vector, row int, cell []byte) (did deeds, ok bool) {
	v.Numbers[row], did, ok = r.scaled(cell)
	return did, ok
}

// scaled reads a cell as a number that needs no closer look, rounded where the rule says so.
func (r *Rule) scaled(cell []byte) (s formula.Scaled, did deeds, ok bool) {
	n, fraction, ok := r.Number.ScanPlain(cell)
	if !ok {
		return s, 0, false
	}
	if s, ok = formula.NewScaled(n, fraction); ok {
		s, did = r.rounded(s)
	}
	return s, did, ok
}

// rounded rounds a number where the rule says so.
func (r *Rule) rounded(s formula.Scaled) (formula.Scaled, deeds) {
	if !r.Rounded {
		return s, 0
	}
	made, lost := s.Rounded(r.Round)
	if lost {
		return made, deeds(0).with(Rounded)
	}
	return made, 0
}

func plainMoment(dates *notation.Dates) reading {
	timed := dates.Timed()
	return func(v *formula.Vector, row int, cell []byte) (deeds, bool) {
		days, micros, ok := dates.ScanPlain(cell)
		v.Moments[row] = value.Moment{Days: days, Micros: micros, Dated: true, Timed: timed}
		return 0, ok
	}
}

// clean makes the cells of all columns in the block of c, and finds which rows must be cleaned as records.
func (s *inColumns) clean(c *cleaner) {
	s.alone = slices.Grow(s.alone[:0], c.block.Rows)[:c.block.Rows]
	clear(s.alone)
	s.tell(c)
	for _, x := range s.steps {
		x.texts = x.texts[:0]
		if x.did != nil {
			clear(x.did)
		}
		switch {
		case x.formula != nil:
			s.compute(c, x)
		case c.rowCleaner.columns[x.column].from.field >= 0:
			x.read(c)
		default:
			s.combine(c, x)
		}
		for row, state := range x.cells.States[:c.block.Rows] {
			if state == formula.Alone {
				s.alone[row] = true
			}
		}
	}
}

// tell hands formulas what they ask of where the block comes from.
func (s *inColumns) tell(c *cleaner) {
	if c.from == nil {
		return
	}
	c.record.Position = c.block.Position
	c.tellOf(&c.record)
	for p := range s.asked {
		if !c.Asks(formula.Provenance(p)) {
			continue
		}
		v := &s.asked[p]
		if v.Fill(&c.from.values[p], c.block.Rows); formula.Provenance(p) == formula.LineNumber {
			for row := range v.Numbers {
				v.Numbers[row].Units += int64(row)
			}
		}
	}
}

// compute makes the cells of a column that is computed.
func (s *inColumns) compute(c *cleaner, x *step) {
	column := &c.rowCleaner.columns[x.column]
	for _, u := range column.from.formula.Uses() {
		x.formula.Set(u, s.of[u].cells)
	}
	made := x.formula.Run(c.block.Rows)
	if x.cells = made; !x.ruled && !slices.Contains(made.States[:c.block.Rows], formula.Alone) {
		return
	}
	x.begin(column.form(), c.block.Rows)
	plainly := column.rule.isPlain() && column.form() == formula.Number
	for row, state := range made.States[:c.block.Rows] {
		switch {
		case state == formula.Alone:
			if n, ok := x.formula.Quotient(row, column.rule.Round); ok && plainly && column.rule.Rounded {
				x.cells.Numbers[row] = n
				x.note(row, deeds(0).with(Rounded))
				continue
			}
			s.computeAlone(c, x, row)
		case !x.ruled:
			x.cells.Take(row, made)
		case state == formula.Blank && x.filled:
			x.cells.States[row] = formula.Alone
		case state == formula.Blank && column.last == nil:
			x.cells.States[row] = formula.Blank
		case state == formula.Given && made.Kind == formula.Number && plainly:
			var did deeds
			x.cells.Numbers[row], did = column.rule.rounded(made.Numbers[row])
			x.note(row, did)
		default:
			to := c.restored(x.column, made, row)
			if to.form == formula.Text {
				c.rowCleaner.clean(x.column, column, to, false)
			}
			c.finish(x.column, column, to)
			x.take(row, to)
		}
	}
}

// computeAlone makes the cell of a row, if those that it needs are there: a quotient that has many digits, say, may be rounded to
// few.
func (s *inColumns) computeAlone(c *cleaner, x *step, row int) {
	column := &c.rowCleaner.columns[x.column]
	for _, u := range column.from.formula.Uses() {
		if s.of[u].cells.States[row] == formula.Alone {
			x.cells.States[row] = formula.Alone
			return
		}
		s.of[u].cells.Value(row, &c.values[u])
	}
	if c.from != nil {
		c.record.Position = c.block.Position + int64(row)
		c.tellOf(&c.record)
	}
	c.cell(x.column, column, &c.lone)
	x.take(row, &c.cells[x.column])
}

// begin makes room for cells that a step makes itself.
func (x *step) begin(kind formula.Kind, rows int) {
	x.cells = &x.own
	x.own.Reset(kind, rows)
}

// note notes what was done to the cell of a row.
func (x *step) note(row int, did deeds) {
	if did == 0 {
		return
	}
	if len(x.did) <= row {
		x.did = append(x.did, make([]deeds, mostRecords-len(x.did))...)
	}
	x.did[row] = did
}

// read makes the cells of a column of the file.
func (x *step) read(c *cleaner) {
	column := &c.rowCleaner.columns[x.column]
	x.begin(column.form(), c.block.Rows)
	for row := range c.block.Rows {
		cell := c.block.Field(row, column.from.field)
		switch {
		case len(cell) == 0 && x.filled:
			x.cells.States[row] = formula.Alone
			continue
		case len(cell) == 0 && column.last == nil:
			x.cells.States[row] = formula.Blank
			continue
		case len(cell) > 0 && cell[0] != '#' && x.plainly != nil: // or it may be the error of a spreadsheet
			if did, ok := x.plainly(x.cells, row, cell); ok {
				x.note(row, did)
				continue
			}
		}
		c.lone.Position, c.lone.Fields[column.from.field] = c.block.Position+int64(row), cell
		c.cell(x.column, column, &c.lone)
		x.take(row, &c.cells[x.column])
	}
}

// combine makes the cells of a column that is made of others without a formula.
func (s *inColumns) combine(c *cleaner, x *step) {
	column := &c.rowCleaner.columns[x.column]
	x.begin(column.form(), c.block.Rows)
	from := column.from.join
	if column.from.of >= 0 {
		from = []int{column.from.of}
	}
	for row := range c.block.Rows {
		if slices.ContainsFunc(from, func(i int) bool { return s.of[i].cells.States[row] == formula.Alone }) {
			x.cells.States[row] = formula.Alone
			continue
		}
		for _, i := range from {
			c.restored(i, s.of[i].cells, row).raw = s.raw(c, i, row)
		}
		c.cell(x.column, column, &c.lone)
		x.take(row, &c.cells[x.column])
	}
}

// take puts a cell that was cleaned alone into a row; one that is bad, or blank where blanks may get a value, leaves the row
// alone.
func (x *step) take(row int, from *cell) {
	v := x.cells
	switch {
	case from.state == value.Null && !x.filled:
		v.States[row] = formula.Blank
	case from.state != value.Given, from.form != v.Kind, x.filled && (from.did.includes(Filled) || from.did.includes(Defaulted)),
		len(from.text) > longestTogether:
		v.States[row] = formula.Alone
		return
	case v.Kind == formula.Number:
		var few bool
		if v.Numbers[row], few = formula.ScaledOf(from.digits); !few {
			v.States[row] = formula.Alone
			return
		}
	case v.Kind == formula.Moment:
		v.Moments[row] = from.moment
	case v.Kind == formula.Truth:
		v.Truths[row] = from.truth
	default:
		at := len(x.texts)
		x.texts = append(x.texts, from.text...)
		v.Texts[row] = text.Of(x.texts[at:])
	}
	x.note(row, from.did)
}

// restored makes the cell of column i what stands in a row.
func (k *rowCleaner) restored(i int, v *formula.Vector, row int) *cell {
	to := &k.cells[i]
	*to = cell{form: formula.Text}
	if v.States[row] != formula.Given {
		return to
	}
	to.state, to.form = value.Given, v.Kind
	switch v.Kind {
	case formula.Number:
		to.digits = v.Numbers[row].Digits(k.buffers[i].other[:0])
		k.buffers[i].other = to.digits.Whole
	case formula.Moment:
		to.moment = v.Moments[row]
	case formula.Truth:
		to.truth = v.Truths[row]
	default:
		to.text = text.Bytes(v.Texts[row])
	}
	return to
}

// raw is a cell as it stands in the file.
func (s *inColumns) raw(c *cleaner, i, row int) []byte {
	switch from := &c.rowCleaner.columns[i].from; {
	case from.field >= 0:
		return c.block.Field(row, from.field)
	case from.of >= 0:
		return s.raw(c, from.of, row)
	}
	return nil
}

// row adds a row to what the block has become; false, with nothing added, when it must be cleaned as a record.
func (s *inColumns) row(c *cleaner, row int) bool {
	if s.alone[row] {
		return false
	}
	kept := c.only < 0 || s.of[c.only].cells.Holds(row)
	if kept || c.whole {
		for _, x := range s.steps {
			if x.did != nil && x.did[row] != 0 && !c.effects.known(x.column, x.did[row], s.raw(c, x.column, row)) {
				return false
			}
		}
	}
	c.batch.Columns[position].AppendNum(c.block.Position + int64(row))
	if c.kept[row] = value.Given; !kept && !c.whole {
		c.pad(c.only, value.Null)
		c.kept[row] = value.Null
		return true
	}
	for _, x := range s.steps {
		if x.did != nil && x.did[row] != 0 {
			c.effects.count(x.column, x.did[row])
		}
	}
	for i := range c.columns {
		if x := &c.columns[i]; !c.alone[i] && !s.plain(c, x, &c.batch.Columns[cells+i], row) {
			c.restored(x.Of, s.of[x.Of].cells, row).raw = s.raw(c, x.Of, row)
			c.put(&c.batch.Columns[cells+i], x.Type, x.Of, c.tell)
		}
	}
	return true
}

// plain adds a cell to a column of values, when that is plainly one; false, with nothing added, when it needs a closer look.
func (s *inColumns) plain(c *cleaner, x *Column, to *value.Column, row int) bool {
	switch v := s.of[x.Of].cells; {
	case v.States[row] == formula.Blank:
		to.AppendState(value.Null)
		return true
	case v.Kind == formula.Number:
		n := v.Numbers[row]
		return value.PutScaled(to, &x.Type, n.Units, int(n.Places))
	case v.Kind == formula.Moment:
		m := &v.Moments[row]
		return m.Dated && !m.Zoned && c.rowCleaner.columns[x.Of].rule.Zone == nil && value.PutPlain(to, &x.Type, m.Days, m.Micros)
	case v.Kind == formula.Text:
		made := text.Bytes(v.Texts[row])
		return text.Plain(made) && !HasLostDigits(made) && value.PutText(to, &x.Type, made)
	}
	return false
}
