package clean

import (
	"bytes"
	"fmt"
	"slices"
	"unicode/utf8"

	"ladle/internal/core/formula"
	"ladle/internal/core/reason"
	"ladle/internal/core/source"
	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// cell is one cell on its way from the file to a value.
type cell struct {
	state  value.State // Null, Given or Bad
	form   formula.Kind
	text   []byte
	digits value.Digits
	moment value.Moment
	truth  bool
	raw    []byte        // as it stands in the file
	why    *reason.Cause // why it is bad
	blame  int           // the column whose cell is at fault
	did    deeds         // what the rule changed
}

// rowCleaner works on the records of a chunk by a recipe. Its memory is used again for each record.
type rowCleaner struct {
	*Recipe
	order   []int // the columns that are wanted, and those that they need
	gather  int   // the level of as_in_lines_with_same whose groups are gathered; 0 when blanks are filled
	cells   []cell
	buffers []buffers
	machine *formula.Machine
	values  []formula.Value
	found   []groupCell
	above   aboves
	from    *origins // nil where nothing is asked
	known   []acrossState
	lines   map[*across][]acrossLine // what the lines of a chunk have for others, while that is gathered
	line    int                      // of the chunk, among those that have the shape of the input
	passing bool                     // the record makes no line

	short map[int]string // cells that look shortened, by column; nil where nobody asks
}

// buffers is the memory of a column for texts that don't stand in the file.
type buffers struct {
	texts [2][]byte // one for what a cleaning makes of what stands in the other
	next  int
	other []byte // digits, and texts of formulas

	rounded []byte // digits
}

func (r *Recipe) newRowCleaner(order []int, gather int) *rowCleaner {
	c := &rowCleaner{Recipe: r, order: order, gather: gather, cells: make([]cell, len(r.columns)),
		buffers: make([]buffers, len(r.columns)),
		machine: formula.NewMachine(len(r.columns)), values: make([]formula.Value, len(r.columns))}
	for i := range c.values {
		c.values[i].From = r.columns[i].name
		c.machine.Set(i, &c.values[i])
	}
	c.prepareProvenance()
	for _, a := range r.across {
		if gather == 0 || a.level < gather {
			c.known = append(c.known, acrossState{of: a})
		}
	}
	for i := range c.known {
		c.machine.SetAcross(c.known[i].of.Across, &c.known[i].value)
	}
	return c
}

// closure returns the wanted columns and all that they need, in order.
func (r *Recipe) closure(wanted []int) []int {
	need := make([]bool, len(r.columns))
	for _, w := range wanted {
		need[w] = true
	}
	for i := len(r.order) - 1; i >= 0; i-- {
		if at := r.order[i]; need[at] {
			for _, n := range r.needs(at) {
				need[n] = true
			}
		}
	}
	var all []int
	for _, at := range r.order {
		if need[at] {
			all = append(all, at)
		}
	}
	return all
}

// row cleans the cells of a record.
func (k *rowCleaner) row(r *source.Record) {
	if k.from != nil {
		k.tellOf(r)
	}
	if !k.passing {
		k.tellAcross()
	}
	for _, i := range k.order {
		c := &k.columns[i]
		k.cell(i, c, r)
		if c.above > 0 {
			k.noteAbove(c, &k.cells[i])
		}
		if c.used {
			k.value(i)
		}
	}
}

// keeps reports whether the input keeps the row; its condition may be bad.
func (k *rowCleaner) keeps() bool {
	if k.only < 0 {
		return true
	}
	c := &k.cells[k.only]
	return c.state == value.Bad || c.state == value.Given && c.truth
}

func (c *cell) bad(blame int, why *reason.Cause) { c.state, c.blame, c.why = value.Bad, blame, why }

// refused makes the cell bad for the cause that err is.
func (c *cell) refused(blame int, err error) {
	why := reason.CauseOf(err)
	c.bad(blame, &why)
}

// cell cleans one cell.
func (k *rowCleaner) cell(i int, c *column, r *source.Record) {
	to := &k.cells[i]
	to.state, to.form, to.raw, to.why, to.did = value.Null, formula.Text, nil, nil, 0
	typed := false
	switch {
	case c.from.field >= 0:
		to.raw = r.Fields[c.from.field]
		to.text = to.raw
		if len(r.Faults) > 0 && k.fault(i, to, r) {
			return
		}
		if r.Stored == nil && isError(to.raw) && !c.rule.knows(to.raw) {
			to.bad(i, cellError)
			return
		}
		typed = r.Stored != nil && (r.Stored[c.from.field] == source.StoredNumber ||
			r.Stored[c.from.field] == source.StoredMoment)
	case c.from.of >= 0:
		if !k.part(i, to, c) {
			return
		}
	case c.from.join != nil:
		if !k.join(i, to, c) {
			return
		}
	default:
		k.compute(i, to, c.from.formula)
		if to.state != value.Given || to.form != formula.Text {
			k.finish(i, c, to)
			return
		}
	}
	if len(to.text) > 0 {
		to.state = value.Given
	}
	if !c.bare {
		k.clean(i, c, to, typed)
		k.finish(i, c, to)
	}
}

// errorTexts are what spreadsheets show in cells without a value (ECMA-376, 18.18.11; OpenFormula 1.3, 4.6), also when
// they write them as text.
var errorTexts = map[string]bool{"#DIV/0!": true, "#N/A": true, "#NAME?": true, "#NULL!": true, "#NUM!": true,
	"#REF!": true, "#VALUE!": true, "#GETTING_DATA": true, "#SPILL!": true, "#CALC!": true, "#BLOCKED!": true,
	"#FIELD!": true}

var cellError = &reason.Cause{Why: reason.Why{Kind: reason.CellError}}

func isError(text []byte) bool { return len(text) >= 4 && text[0] == '#' && errorTexts[string(text)] }

// knows reports whether the rule says what a cell becomes that is an error.
func (r *Rule) knows(text []byte) bool {
	if r.BlankIs.has(text) {
		return true
	}
	if r.Recode == nil {
		return false
	}
	_, known := r.Recode.Values[string(text)]
	return known
}

// fault takes over what the reader says of a cell.
func (k *rowCleaner) fault(i int, to *cell, r *source.Record) bool {
	for _, f := range r.Faults {
		if f.Field == k.columns[i].from.field {
			if f.Why.Kind == reason.CellError && k.columns[i].rule.knows(to.raw) {
				return false
			}
			to.bad(i, f.Why)
			return true
		}
	}
	return false
}

// part takes a part of the cell of another column.
func (k *rowCleaner) part(i int, to *cell, c *column) bool {
	whole := &k.cells[c.from.of]
	if whole.state == value.Bad {
		to.bad(whole.blame, whole.why)
		return false
	}
	to.raw, to.text = whole.raw, nil
	if whole.state == value.Null {
		return true
	}
	split := k.columns[c.from.of].rule.Split
	body, most := whole.written(), len(split.Columns)
	if n := bytes.Count(body, []byte(split.At)) + 1; n > most {
		to.bad(c.from.of, &reason.Cause{Why: reason.Why{Kind: reason.TooManyParts, Limit: int64(most)}})
		return false
	}
	to.text = nth(body, split.At, c.from.part+1)
	return true
}

// join brings the cells of other columns together that are not blank.
func (k *rowCleaner) join(i int, to *cell, c *column) bool {
	buf := k.buffers[i].other[:0]
	for _, from := range c.from.join {
		part := &k.cells[from]
		switch part.state {
		case value.Bad:
			to.bad(part.blame, part.why)
			return false
		case value.Given:
			if len(buf) > 0 {
				buf = append(buf, c.from.with...)
			}
			buf = part.plain(buf)
		}
	}
	k.buffers[i].other, to.text = buf, buf
	return true
}

// plain adds the cell in its canonical text.
func (c *cell) plain(buf []byte) []byte {
	switch c.form {
	case formula.Number:
		return c.digits.Append(buf)
	case formula.Moment:
		return value.AppendMoment(buf, c.moment)
	case formula.Truth:
		return fmt.Append(buf, c.truth)
	}
	return append(buf, c.text...)
}

// written is the cell in its canonical text, which must not be changed.
func (c *cell) written() []byte {
	if c.form == formula.Text {
		return c.text
	}
	return c.plain(nil)
}

// clean goes through the rule of a column up to its parsing.
func (k *rowCleaner) clean(i int, c *column, to *cell, typed bool) {
	rule := &c.rule
	if to.state == value.Null {
		return
	}
	if rule.BlankIs.has(to.text) {
		to.state, to.text, to.did = value.Null, nil, to.did.with(Blanked)
		return
	}
	if rule.Clean != nil {
		before := to.text
		if to.text = k.buffers[i].through(rule.Clean, to.text); len(to.text) > mostText {
			to.state, to.text, to.why = value.Bad, nil, cleanedTooLong
			return
		}
		typed = typed && bytes.Equal(before, to.text)
		if rule.BlankIs.has(to.text) {
			to.text, to.did = nil, to.did.with(Blanked)
		}
		if len(to.text) == 0 {
			to.state = value.Null
			return
		}
	}
	if rule.Recode != nil && !k.recode(i, rule.Recode, to) {
		return
	}
	k.parse(i, rule, to, typed)
}

// through puts a cell through cleanings.
func (r *buffers) through(all []Cleaning, cell []byte) []byte {
	for _, clean := range all {
		made := clean.Change(r.texts[r.next][:0], cell)
		if !text.Inside(made, cell) {
			r.texts[r.next] = made
			r.next ^= 1
		}
		if cell = made; len(cell) > mostText {
			break
		}
	}
	return cell
}

var cleanedTooLong = &reason.Cause{Why: reason.Why{Kind: reason.CleanedTooLong}}

var notInRecode = &reason.Cause{Why: reason.Why{Kind: reason.NotInRecode}}

// recode puts another value in the place of the cell; false when that ends the cleaning.
func (k *rowCleaner) recode(i int, r *Recode, to *cell) bool {
	made, known := r.Values[string(to.text)]
	switch {
	case known:
		if made != string(to.text) {
			to.did = to.did.with(Recoded)
		}
		to.text = append(k.buffers[i].other[:0], made...)
		k.buffers[i].other = to.text
		if made == "" {
			to.state = value.Null
		}
		return made != ""
	case r.Others == SetAsideOthers:
		to.bad(i, notInRecode)
		return false
	case r.Others == BlankOthers:
		to.state, to.did = value.Null, to.did.with(OthersBlanked)
		return false
	}
	return true
}

// parse makes a number, moment or truth of the text, where the rule says how these are written. What a workbook stores
// as one is plain already.
func (k *rowCleaner) parse(i int, rule *Rule, to *cell, typed bool) {
	var err error
	switch {
	case rule.Number != nil && !typed:
		to.digits, k.buffers[i].other, err = rule.Number.Scan(k.buffers[i].other, to.text)
		to.form = formula.Number
	case rule.Number != nil || rule.Rounded:
		to.digits, err = value.ScanNumber(to.text)
		to.form = formula.Number
	case rule.Dates != nil && typed:
		var ok bool
		if to.moment, ok = value.ScanMoment(to.text); !ok {
			to.moment, err = rule.Dates.Scan(to.text)
		}
		to.form = formula.Moment
	case rule.Dates != nil:
		to.moment, err = rule.Dates.Scan(to.text)
		to.form = formula.Moment
	case rule.Truths != nil:
		to.truth, err = rule.Truths.scan(to.text)
		to.form = formula.Truth
	}
	if err != nil {
		to.refused(i, err)
	}
}

// scan reads a word for yes or no.
func (t *YesNo) scan(cell []byte) (bool, error) {
	switch {
	case t.Yes.has(cell):
		return true, nil
	case t.No.has(cell):
		return false, nil
	}
	return false, t.refusal
}

// NewTruths makes words for yes and no; the error says that a word stands for both.
func NewTruths(yes, no []string) (*YesNo, error) {
	t := &YesNo{Yes: NewWords(yes...), No: NewWords(no...)}
	t.refusal = reason.Because(reason.Why{Kind: reason.NotYesNo, List: reason.List(slices.Concat(yes, no)...),
		Limit: int64(len(yes))})
	for _, w := range yes {
		if t.No.has([]byte(w)) {
			return nil, fmt.Errorf("%q means both yes and no", w)
		}
	}
	return t, nil
}

// put adds a cell to a column of values; what is wrong is told to tell.
func (k *rowCleaner) put(to *value.Column, t value.Type, i int, tell func(blame int, raw []byte, why reason.Cause)) {
	c := &k.cells[i]
	var err error
	switch {
	case c.state != value.Given:
		to.AppendState(c.state)
		if c.state == value.Bad {
			tell(c.blame, k.cells[c.blame].raw, *c.why)
		}
		return
	case c.form == formula.Number:
		err = value.PutNumber(to, t, c.digits)
	case c.form == formula.Moment:
		err = value.PutMoment(to, t, c.moment, k.columns[i].rule.Zone)
	case c.form == formula.Truth && t.Kind == value.Text:
		err = value.Parse(to, t, c.written())
	case c.form == formula.Truth:
		err = value.Parse(to, t, oneOrZero[c.truth])
	default:
		k.noteLostDigits(c, &t, i)
		err = value.ParseIn(to, t, c.text, k.columns[i].rule.Zone)
	}
	if err != nil {
		tell(i, c.shown(), reason.CauseOf(err))
	}
}

var oneOrZero = map[bool][]byte{false: []byte("0"), true: []byte("1")}

// shown is the cell in messages: as it stands in the file, unless it is blank there.
func (c *cell) shown() []byte {
	if len(c.raw) > 0 || !utf8.Valid(c.text) {
		return c.raw
	}
	return c.written()
}
