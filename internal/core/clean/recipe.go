package clean

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/formula"
	"ladle/internal/core/source"
)

// Recipe says how the records of an input become rows of cleaned cells: the columns of the file, those that are split
// off or made of others, and conditions on rows.
type Recipe struct {
	columns []column
	file    int // the first columns, that the file has
	named   bool
	only    int // the condition by which the input keeps rows; -1 for all
	whole   bool
	order   []int
	levels  int // of what depends on other lines: how often the file must be read before
	fills   []*fill
	across  []*across
	aboveOf []int // the columns of if_blank: above
	carried map[chunkPlace]aboves

	provenance Provenance
}

// column is a column of a recipe.
type column struct {
	name  string
	rule  Rule
	bare  bool // nothing is done with its cells
	fills []*fill
	last  *cell // default:
	from  origin
	used  bool // by formulas
	above int  // its number, from 1, among the columns of if_blank: above
}

// origin is where the cells of a column come from. Exactly one is used: the field of the file, a part of another
// column, other columns, or a formula.
type origin struct {
	field   int
	part    int // from 0
	of      int // the column of which it is a part, or -1
	join    []int
	with    string
	formula *formula.Formula
	level   int // the pass behind which the cells are whole
}

// fill is a resolved Fill.
type fill struct {
	column  int
	formula *formula.Formula
	same    []int // the columns of as_in_lines_with_same
	above   bool
	level   int
	groups  map[string]*group
}

// builder collects what is wrong with a recipe while it is made.
type builder struct {
	*Recipe
	problems []fault.Problem
}

func (m *builder) wrong(at Located, err error) {
	p := fault.Problem{Line: at.Line, Column: at.Column, What: err.Error()}
	var advised fault.InvalidValue
	if errors.As(err, &advised) {
		p.What, p.Do = advised.What, advised.Do
	}
	m.problems = append(m.problems, p)
}

// NewRecipe makes a recipe for the records of an input under a header. Problems don't name the ladle file.
func NewRecipe(header source.Header, rules []NamedRule, made []DerivedColumn, only *Located) (*Recipe,
	[]fault.Problem) {
	m := &builder{Recipe: &Recipe{file: len(header.Names), only: -1}}
	for i, name := range header.Names {
		m.columns = append(m.columns, column{name: name, bare: true, from: origin{field: i, of: -1}})
	}
	m.split(header, rules)
	m.rules(header, rules)
	if m.problems == nil {
		for _, x := range made {
			m.make(x)
		}
	}
	if m.problems == nil {
		m.fillBlanks()
	}
	if m.problems == nil && only != nil {
		m.only = m.condition(*only)
	}
	if m.problems == nil {
		m.arrange()
		m.judgeAbove()
	}
	return m.Recipe, m.problems
}

// Condition adds a condition on rows, for one of the blocks that the input feeds, and returns its column.
func (r *Recipe) Condition(only Located) (int, []fault.Problem) {
	m := &builder{Recipe: r}
	c := m.condition(only)
	if m.problems == nil {
		m.arrange()
	}
	return c, m.problems
}

// Names are the names of the columns of the file, then of those that are made. Conditions have none.
func (r *Recipe) Names() []string {
	var names []string
	for _, c := range r.columns {
		if c.name != "" {
			names = append(names, c.name)
		}
	}
	return names
}

// Name is what column i is called; only: for a condition.
func (r *Recipe) Name(i int) string { return cmp.Or(r.columns[i].name, "only:") }

// Field is the field of the file from which the cells of column i come, or -1.
func (r *Recipe) Field(i int) int {
	if c := r.columns[i].from; c.of >= 0 {
		return r.Field(c.of)
	}
	return r.columns[i].from.field
}

// Form is what the cells of column i are.
func (r *Recipe) Form(i int) formula.Kind { return r.columns[i].form() }

func (c *column) form() formula.Kind {
	if f := c.from.formula; f != nil && c.rule.form() == formula.Text {
		return f.Kind()
	}
	return c.rule.form()
}

// Find returns the columns that go by name; see source.Header.Find.
func (r *Recipe) Find(name string) []int { return source.Header{Names: r.Names()}.Find(name) }

// InHeader reports whether a column of the file goes by name because its header says so, not by its position.
func (r *Recipe) InHeader(name string) bool {
	return !source.ByPosition(name) && slices.ContainsFunc(r.Find(name), func(i int) bool { return i < r.file })
}

// Named reports whether rules, new columns or conditions use names that the header has, which is one then.
func (r *Recipe) Named() bool { return r.named }

// Only is the condition by which the input keeps rows, or -1.
func (r *Recipe) Only() int { return r.only }

// CleanAll has the cells of rows cleaned too that the input leaves out.
func (r *Recipe) CleanAll() { r.whole = true }

// add adds a column with a name of its own.
func (m *builder) add(name Located, c column) {
	if name.Text == "" {
		m.wrong(name, fault.InvalidValue{What: "a column needs a name", Do: "write it before the colon"})
	}
	if len(m.Find(name.Text)) > 0 {
		m.wrong(name, fault.InvalidValue{What: fmt.Sprintf("there is already a column %q", name.Text),
			Do: "choose another name"})
	}
	c.name = name.Text
	m.columns = append(m.columns, c)
}

// split adds the columns that are parts of others.
func (m *builder) split(header source.Header, rules []NamedRule) {
	for _, r := range rules {
		at := header.Find(r.Name.Text)
		if r.Rule.Split == nil || len(at) != 1 {
			continue
		}
		for i, name := range r.Rule.Split.Columns {
			m.add(name, column{bare: true, from: origin{field: -1, of: at[0], part: i}})
		}
	}
}

// rules returns the columns their rules.
func (m *builder) rules(header source.Header, rules []NamedRule) {
	ruled := map[int]bool{}
	for _, r := range rules {
		at, ok := m.find(r.Name)
		if !ok {
			continue
		}
		if ruled[at] {
			m.wrong(r.Name, fault.InvalidValue{What: fmt.Sprintf("%s has two rules", r.Name.Text),
				Do: "combine them"})
		}
		ruled[at] = true
		if r.Rule.Split != nil && at >= len(header.Names) {
			m.wrong(r.Name, fault.InvalidValue{What: "a part of a split can't be split again",
				Do: "use clean: with part:, or a formula"})
		}
		if r.Rule.Recode != nil && r.Rule.Recode.Path != "" {
			m.recode(&r.Rule)
		}
		m.columns[at].rule, m.columns[at].bare = r.Rule, false
	}
}

// recode reads the file of a rule's recode. What the ladle file says itself goes before it.
func (m *builder) recode(r *Rule) {
	values, err := RecodeFile(r.Recode.Path)
	if err != nil {
		m.wrong(r.Recode.File, err)
		return
	}
	maps.Copy(values, r.Recode.Values)
	r.Recode = &Recode{Values: values, Others: r.Recode.Others}
}

// find resolves the name of a column.
func (m *builder) find(name Located) (int, bool) {
	at := m.Find(name.Text)
	switch len(at) {
	case 1:
		m.named = m.named || m.InHeader(name.Text)
		return at[0], true
	case 0:
		m.wrong(name, fault.InvalidValue{What: fmt.Sprintf("there is no column %q", name.Text),
			Do: fault.DidYouMean(name.Text, m.Names())})
	default:
		m.wrong(name, fault.InvalidValue{What: fmt.Sprintf("there are several columns %q", name.Text),
			Do: fmt.Sprintf("rename one of them, or write: column %d", at[0]+1)})
	}
	return 0, false
}

func (m *builder) findAll(names []Located) (all []int) {
	for _, n := range names {
		if at, ok := m.find(n); ok {
			all = append(all, at)
		}
	}
	return all
}

// make adds a new column. It may be made of those of the file and of new ones above it.
func (m *builder) make(x DerivedColumn) {
	c := column{rule: x.Rule, from: origin{field: -1, of: -1}}
	if x.Join != nil {
		c.from.join, c.from.with = m.findAll(x.Join), x.Between
	} else {
		c.from.formula = m.compile(x.Formula)
	}
	if x.Rule.Recode != nil && x.Rule.Recode.Path != "" {
		m.recode(&c.rule)
	}
	m.add(x.Name, c)
}

func (m *builder) formulaColumns() []formula.Column {
	columns := make([]formula.Column, len(m.columns))
	for i, c := range m.columns {
		columns[i] = formula.Column{Name: c.name, Plain: formula.PlainName(c.name), Kind: c.form()}
	}
	return columns
}

func (m *builder) compile(f Located) *formula.Formula {
	made, err := formula.Compile(f.Text, m.formulaColumns())
	if err != nil {
		m.wrong(f, err)
		return nil
	}
	for _, i := range made.Uses() {
		m.columns[i].used = true
		m.named = m.named || m.InHeader(m.columns[i].name)
	}
	for _, a := range made.Across() {
		for _, i := range m.across[m.acrossOf(a)].columns() {
			m.named = m.named || m.InHeader(m.columns[i].name)
		}
	}
	return made
}

// condition adds a column that reports whether a row is kept.
func (m *builder) condition(only Located) int {
	f := m.compile(only)
	if f == nil {
		return -1
	}
	if f.Kind() != formula.Truth && f.Kind() != formula.Any {
		m.wrong(only, fault.InvalidValue{What: fmt.Sprintf("only: needs a condition, but this is a %s", f.Kind()),
			Do: `write for example: tons > 0`})
		return -1
	}
	m.columns = append(m.columns, column{from: origin{field: -1, of: -1, formula: f}})
	return len(m.columns) - 1
}

// fillBlanks resolves if_blank and default.
func (m *builder) fillBlanks() {
	for i := range m.columns {
		c := &m.columns[i]
		for _, f := range c.rule.IfBlank {
			made := &fill{column: i}
			switch {
			case f.Above.Line > 0:
				made.above = true
				m.aboveOf = append(m.aboveOf, i)
				c.above = len(m.aboveOf)
			case f.Same != nil:
				made.same = m.findAll(f.Same)
				m.fills = append(m.fills, made)
			default:
				made.formula = m.compile(f.Formula)
				m.judgeFill(c, made.formula, f.Formula)
			}
			c.fills = append(c.fills, made)
		}
		if c.rule.Default != nil {
			c.last = m.constant(c, *c.rule.Default)
		}
	}
}

// judgeAbove refuses to take values from above that are themselves made of those of other lines.
func (m *builder) judgeAbove() {
	for _, i := range m.aboveOf {
		for _, n := range m.closure(m.needs(i)) {
			if c := &m.columns[n]; n != i && (c.above > 0 || c.from.level > 0) {
				m.wrong(m.aboveAt(i), fault.InvalidValue{What: fmt.Sprintf("%s is made of %s, which is itself filled from other "+
					"lines", m.columns[i].name, c.name), Do: "fill only one of them"})
				break
			}
		}
	}
}

// aboveAt is where the ladle file says if_blank: above of a column.
func (m *builder) aboveAt(i int) Located {
	for _, f := range m.columns[i].rule.IfBlank {
		if f.Above.Line > 0 {
			return f.Above
		}
	}
	return Located{}
}

// judgeFill refuses a formula that gives something else than the column holds.
func (m *builder) judgeFill(c *column, f *formula.Formula, at Located) {
	if f == nil || f.Kind() == c.form() || f.Kind() == formula.Any || f.Kind() == formula.Text ||
		c.form() == formula.Text {
		return
	}
	m.wrong(at, fault.InvalidValue{What: fmt.Sprintf("this formula results in a %s, but %s is a %s", f.Kind(), c.name,
		c.form()), Do: "number() and date() convert a text"})
}

func (m *builder) constant(c *column, text Located) *cell {
	made, err := c.rule.constant(text.Text)
	if err != nil {
		m.wrong(text, fmt.Errorf("%q %w", text.Text, err))
	}
	return &made
}

// needs lists the columns that must be cleaned before column i.
func (r *Recipe) needs(i int) []int {
	c := &r.columns[i]
	all := slices.Clone(c.from.join)
	if c.from.of >= 0 {
		all = append(all, c.from.of)
	}
	if c.from.formula != nil {
		all = append(all, c.from.formula.Uses()...)
	}
	for _, f := range c.fills {
		all = append(all, f.same...)
		if f.formula != nil {
			all = append(all, f.formula.Uses()...)
		}
	}
	return all
}

// arrange puts the columns in an order in which each stands behind those that it needs, and finds behind which pass
// over the file each is whole.
func (m *builder) arrange() {
	m.order, m.levels = m.order[:0], 0
	state := make([]int, len(m.columns)) // 1 while it is visited, 2 then
	var path []int
	var visit func(i int) bool
	visit = func(i int) bool {
		switch state[i] {
		case 1:
			m.cycle(path[slices.Index(path, i):])
			return false
		case 2:
			return true
		}
		state[i], path = 1, append(path, i)
		c := &m.columns[i]
		c.from.level = 0
		for _, n := range m.needs(i) {
			if !visit(n) {
				return false
			}
			c.from.level = max(c.from.level, m.columns[n].from.level)
		}
		for _, a := range m.acrossIn(i) {
			a.level = 1
			for _, n := range a.columns() {
				if !visit(n) {
					return false
				}
				a.level = max(a.level, m.columns[n].from.level+1)
			}
			c.from.level, m.levels = max(c.from.level, a.level), max(m.levels, a.level)
		}
		for _, f := range c.fills {
			if f.same != nil {
				f.level = c.from.level + 1
				c.from.level, m.levels = f.level, max(m.levels, f.level)
			}
		}
		state[i], path = 2, path[:len(path)-1]
		m.order = append(m.order, i)
		return true
	}
	for i := range m.columns {
		if !visit(i) {
			return
		}
	}
}

// cycle tells of a circular reference between columns.
func (m *builder) cycle(path []int) {
	var names []string
	for _, i := range append(path, path[0]) {
		names = append(names, m.columns[i].name)
	}
	at := Located{}
	for _, i := range path {
		for _, f := range m.columns[i].rule.IfBlank {
			if f.Formula.Line > 0 {
				at = f.Formula
			}
			if len(f.Same) > 0 {
				at = f.Same[0]
			}
		}
	}
	m.wrong(at, fault.InvalidValue{What: "circular reference between these columns: " + strings.Join(names, " needs "),
		Do: "delete one of the formulas"})
}

// ReadNumber reads a number as column i writes them, or plainly, and returns it plainly; i is -1 where there is no
// column.
func (r *Recipe) ReadNumber(i int, text string) (string, error) {
	rule := &Rule{Rounded: true}
	if i >= 0 && r.columns[i].rule.form() == formula.Number {
		rule = &r.columns[i].rule
	}
	c, err := rule.constant(text)
	if err != nil {
		return "", err
	}
	return string(c.digits.Append(nil)), nil
}
