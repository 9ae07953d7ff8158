package draft

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
)

// writer writes the ladle file and collects what is said of it.
type writer struct {
	*matcher
	files  []*file
	blocks []*block
	lines  []string
	made   Draft
}

func (w *writer) draft() *Draft {
	w.line("# Drafted by ladle. Each guess has its reason; check the lines marked # ? before loading.")
	w.line("ladle: 1")
	w.line("")
	w.line("inputs:")
	for _, f := range w.files {
		w.input(f)
	}
	w.line("")
	w.line("tables:")
	for _, b := range w.blocks {
		w.block(b)
	}
	for _, f := range w.files {
		w.unused(f)
	}
	w.made.Text, w.made.lines = strings.Join(w.lines, "\n")+"\n", w.lines
	return &w.made
}

func (w *writer) line(format string, arguments ...any) {
	w.lines = append(w.lines, strings.TrimRight(fmt.Sprintf(format, arguments...), " "))
}

// said is a line of the file with a reason behind it; a doubt is marked, and collected.
func (w *writer) said(text, why string, doubt bool, where string) {
	switch {
	case doubt:
		w.line("%s  # ? %s", text, ladlefile.OneLine(why))
		w.made.Doubts = append(w.made.Doubts, where+": "+why)
	case why != "":
		w.line("%s  # %s", text, ladlefile.OneLine(why))
	default:
		w.line("%s", text)
	}
}

// doubt is a line of its own.
func (w *writer) doubt(indent, why, where string) {
	w.line("%s# ? %s", indent, ladlefile.OneLine(why))
	w.made.Doubts = append(w.made.Doubts, where+": "+why)
}

func (w *writer) input(f *file) {
	m := f.Survey.Read
	w.line("  %s:", ladlefile.Scalar(f.input))
	if f.Query != "" {
		w.line("    query: %s", ladlefile.Scalar(f.Query))
	} else {
		w.line("    file: %s", ladlefile.Scalar(f.Path))
	}
	if len(m.Sheets) > 1 {
		w.line("    sheet: %s", ladlefile.Scalar(m.Sheet))
	}
	if h := m.Header; h.Value != "" {
		unsure := h.Confidence < 0.9 && !f.settled[askHeader]
		w.said("    header: "+h.Value, pick(unsure, "a guess; check which line has the names of the columns", ""),
			unsure, f.input+": header")
	}
	if e := m.Encoding; e.Given || e.Value != "" && e.Value != "ASCII" && !strings.HasPrefix(e.Value, "UTF-") {
		if m.Could == nil {
			w.said("    encoding: "+ladlefile.Scalar(e.Value), "", false, f.input)
		} else {
			w.said("    # encoding: "+ladlefile.Scalar(e.Value), "not certain; it could be "+
				source.Readings(m.Could), true, f.input+": encoding")
		}
	}
	w.asked(f)
	if m.Fixed != nil && !f.settled[askWidths] {
		w.doubt("    ", fmt.Sprintf("columns seem to have fixed widths: widths: [%s] reads them one by one",
			strings.Trim(strings.ReplaceAll(fmt.Sprint(m.Fixed), " ", ", "), "[]")), f.input)
	}
	if m.Escaped && !f.settled[askEscape] {
		w.doubt("    ", `a backslash seems to stand before quotes inside of values: escape: '\' reads it so`, f.input)
	}
	if m.Merged > 0 && m.MergedDown == nil {
		w.doubt("    ",
			fmt.Sprintf("%s of merged cells: only the first cell of each holds a value; if_blank: above in the rule "+
				"of their column gives it to those below", reason.Plural(m.Merged, "block")), f.input)
	}
	w.shapes(f)
	w.footer(f)
	if d := m.Delimiter; (d.Given || d.Value != "" && d.Value != "none" && d.Value != ",") && f.Asked.Widths == "" &&
		m.Format == "text" {
		w.said("    delimiter: "+delimiter(d.Value), "", false, f.input)
	}
	w.rules(f)
}

// asked writes what was said of the way to read a file, where nothing that was found says it.
func (w *writer) asked(f *file) {
	a := f.Asked
	widths := strings.FieldsFunc(a.Widths, func(c rune) bool { return c == ' ' || c == ',' })
	for _, k := range []struct{ key, given, value string }{{"member", a.Member, ladlefile.Scalar(a.Member)},
		{"range", a.Range, ladlefile.Scalar(a.Range)}, {"quote", a.Quote, ladlefile.Quoted(a.Quote)},
		{"escape", a.Escape, ladlefile.Quoted(a.Escape)}, {"comment", a.Comment, ladlefile.Quoted(a.Comment)},
		{"widths", a.Widths, "[" + strings.Join(widths, ", ") + "]"}} {
		if k.given != "" {
			w.line("    %s: %s", k.key, k.value)
		}
	}
}

// footer writes how many lines at the end are no rows: those that were said, and a total that is left. Another table
// below is for a person to see.
func (w *writer) footer(f *file) {
	lines, text := f.Asked.Footer, f.Survey.Read.Format == "text"
	switch s := f.Survey.Second; {
	case f.settled[askSecond] || f.keepTotal:
	case s != nil && text:
		w.said(fmt.Sprintf("    # footer_lines: %d", int64(lines)+s.Rows),
			fmt.Sprintf(anotherTable, "line", s.Line, s.Says), true, f.input+": another table")
	case s != nil:
		w.said("    # range: CELLS OF THIS TABLE", fmt.Sprintf(anotherTable, "row", s.Line, s.Says), true,
			f.input+": another table")
	case f.Survey.EndsWithTotal && text:
		last := f.Survey.Totals[len(f.Survey.Totals)-1]
		w.said(fmt.Sprintf("    footer_lines: %d", lines+1), fmt.Sprintf("line %d, %q, seems to sum up the others",
			last.Line, last.Says), true, f.input+": footer_lines")
		return
	}
	if lines > 0 {
		w.line("    footer_lines: %d", lines)
	}
}

const anotherTable = "%s %d, %q, seems to be the header of another table"

func pick(when bool, then, otherwise string) string {
	if when {
		return then
	}
	return otherwise
}

func delimiter(is string) string {
	if is == "\t" {
		return "tab"
	}
	return ladlefile.Quoted(is)
}

// blockName is the name of a block: its table's, unless an earlier one has that.
func (w *writer) blockName(b *block) string {
	for _, o := range w.blocks {
		if o == b {
			break
		}
		if o.table == b.table {
			return b.table.Name + " from " + b.file.input
		}
	}
	return b.table.Name
}

func (w *writer) block(b *block) {
	name := w.blockName(b)
	w.line("  %s:", ladlefile.Scalar(name))
	if name != b.table.Name {
		w.line("    into: %s", ladlefile.Scalar(b.table.Name))
	}
	w.line("    from: %s", ladlefile.Scalar(b.file.input))
	if b.doubt != "" {
		w.doubt("    ", b.doubt, name)
		w.made.Questions = append(w.made.Questions, w.tableQuestion(b))
	}
	key, why, certain := b.key()
	text := "none"
	switch {
	case len(key) == 1:
		text = ladlefile.Scalar(key[0])
	case len(key) > 1:
		var all []string
		for _, k := range key {
			all = append(all, ladlefile.Flow(k))
		}
		text = "[" + strings.Join(all, ", ") + "]"
	}
	w.said("    key: "+text, why, !certain, name+": key")
	if !certain {
		w.ask(len(w.lines)-1, name+": key", why, keyChoices(b, key)...)
	}
	w.keyRepeats(b, name, key)
	w.line("    columns:")
	for _, x := range b.fed {
		w.column(b, name, x)
	}
	for _, why := range b.refuted {
		w.doubt("      ", why, name)
	}
	for _, missing := range b.missing {
		why := fmt.Sprintf("%s is required, and no column of the file matches it", missing)
		w.line("      # ? %s", ladlefile.OneLine(why))
		w.line("      # %s: {constant: ...}", ladlefile.Scalar(missing))
		w.made.Errors = append(w.made.Errors, name+": "+why)
		q := w.ask(len(w.lines)-2, name+"."+missing, why, w.requiredChoices(b, missing)...)
		q.doubt, q.obstacle, q.Harmless = -1, len(w.made.Errors)-1, true
	}
}

// keyRepeats tells of lines that share a key.
func (w *writer) keyRepeats(b *block, name string, key []string) {
	for _, k := range b.file.Survey.Keys {
		if len(k.Columns) != len(key) || k.Repeats == 0 {
			continue
		}
		same := !slices.ContainsFunc(key, func(of string) bool {
			return !slices.ContainsFunc(b.fed, func(x assignment) bool {
				from := cmp.Or(x.column, x.single())
				return x.of.Name == of && from != nil && slices.Contains(k.Columns, from.Name)
			})
		})
		if same && len(k.First) > 0 {
			why := fmt.Sprintf("duplicate keys: in %s, the first is line %d; lines that differ from the "+
				"earlier one are set aside, unless contradictions: says otherwise", reason.Plural(k.Repeats, "line"),
				k.First[0].Line)
			w.doubt("    ", why, name)
			w.ask(len(w.lines)-1, name, why, contradictionChoices(name)...).Harmless = true
		}
	}
}

func (w *writer) column(b *block, name string, x assignment) {
	match := Match{Input: b.file.input, Block: name, Table: b.table.Name, Column: x.of.Name, Score: x.Score, Why: x.Why}
	match.Type = x.of.Declared
	for _, c := range b.file.columns {
		if !x.uses(c) {
			continue
		}
		if match.From = append(match.From, c.Name); len(match.From) == 1 {
			match.Sample, match.Rule = c.sample(), c.rule
		}
	}
	doubt, why := x.Score < sure, x.Why
	if x.rival != nil {
		doubt, why = true, join(why, "the column "+x.rival.ref+" fits as well")
	}
	if differs := b.undecided(x); differs != "" {
		doubt, why = true, join(why, differs)
	}
	if x.lookup == nil && x.of.Identity && !x.proven {
		doubt, why = true, join(why,
			"the table numbers its rows by itself; with this line the numbers of the file become ids")
	}
	if x.points != nil {
		doubt = true
	}
	if x.lookup != nil {
		match.Lookup = x.lookup.table.Name
		for _, by := range x.lookup.by {
			match.By = append(match.By, by.of.Name)
		}
		if x.lookup.named {
			doubt = true
			why += "; guessed from its name, since the database declares no foreign key"
		}
		if x.lookup.loose {
			doubt, why = true, join(why,
				fmt.Sprintf("%s is not unique in %s: a line whose value is there several times is set aside",
					x.lookup.by[0].of.Name, x.lookup.table.Name))
		}
	}
	where := name + "." + x.of.Name
	var missing []string
	adds := false      // names that are not in the table are added
	onlyNames := false // the match is sure, but some values are not in the table
	first := len(w.lines)
	defer func() {
		if doubt && !onlyNames {
			w.ask(first, where, x.of.Declared+"; which column of the file feeds it? "+why, w.matchChoices(b, x)...)
		}
		if missing != nil && doubt {
			w.askNames(first, where, b, name, x, missing, adds)
		}
		match.Doubt = doubt || slices.ContainsFunc(b.file.columns, func(c *column) bool { return c.doubt && x.uses(c) })
		w.made.Matches = append(w.made.Matches, match)
	}()
	if from := x.single(); from != nil {
		add, more, not := w.newNames(x)
		if more != "" && (add == "" || !w.empty(x.lookup.table)) { // a name that others stand beside may be a slip
			missing, adds, onlyNames, doubt = not, add != "", !doubt, true
		}
		why = join(why, more)
		w.said(fmt.Sprintf("      %s: {from: %s, lookup: %s%s}", ladlefile.Scalar(x.of.Name), ladlefile.Flow(from.ref),
			ladlefile.Flow(x.lookup.table.Name+"."+x.lookup.by[0].of.Name), add), why, doubt, where)
		return
	}
	if x.lookup == nil {
		source := ladlefile.Scalar(x.column.ref)
		if x.points != nil {
			source = fmt.Sprintf("{from: %s, points_at: %s}", ladlefile.Flow(x.column.ref),
				ladlefile.Flow(x.points.table.Name+"."+x.points.column))
		}
		w.said(fmt.Sprintf("      %s: %s", ladlefile.Scalar(x.of.Name), source), why, doubt, where)
		return
	}
	w.said(fmt.Sprintf("      %s:", ladlefile.Scalar(x.of.Name)), why, doubt, where)
	w.line("        lookup:")
	w.line("          table: %s", ladlefile.Scalar(x.lookup.table.Name))
	w.line("          by:")
	for _, by := range x.lookup.by {
		w.part("            ", by)
	}
}

// part writes one column by which a row is found.
func (w *writer) part(indent string, x assignment) {
	switch from := x.single(); {
	case x.lookup == nil:
		w.said(fmt.Sprintf("%s%s: %s", indent, ladlefile.Scalar(x.of.Name), ladlefile.Scalar(x.column.ref)), x.Why,
			false, "")
	case from != nil:
		w.said(fmt.Sprintf("%s%s: {from: %s, lookup: %s}", indent, ladlefile.Scalar(x.of.Name),
			ladlefile.Flow(from.ref), ladlefile.Flow(x.lookup.table.Name+"."+x.lookup.by[0].of.Name)), x.Why, false, "")
	default:
		w.line("%s%s:", indent, ladlefile.Scalar(x.of.Name))
		w.line("%s  lookup:", indent)
		w.line("%s    table: %s", indent, ladlefile.Scalar(x.lookup.table.Name))
		w.line("%s    by:", indent)
		for _, by := range x.lookup.by {
			w.part(indent+"      ", by)
		}
	}
}

func join(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	return a + "; " + b
}

// newNames says what becomes of values that the table of a lookup doesn't have: they are added where nothing but the
// name is needed for a row, and no block fills the table.
func (w *writer) newNames(x assignment) (add, why string, missing []string) {
	t := x.lookup.table
	if slices.ContainsFunc(w.blocks, func(b *block) bool { return b.table == t }) {
		return "", "", nil
	}
	asked := question{place{t, x.lookup.by[0].of.Name}, x.single(), true}
	missing, err := w.values.missing(asked)
	if w.err = cmp.Or(w.err, err); len(missing) == 0 {
		return "", "", nil
	}
	var first []string
	for _, m := range missing[:min(3, len(missing))] {
		name := fmt.Sprintf("%q", m)
		if like := w.values.like(asked.place, m); like != "" {
			name += fmt.Sprintf(" (there is %q)", like)
		}
		first = append(first, name)
	}
	what := fmt.Sprintf("missing: %s", strings.Join(first, ", "))
	if len(missing) > len(first) {
		what += fmt.Sprintf(" and %d more", len(missing)-len(first))
	}
	yields := t.Identity()
	none := len(missing) == len(asked.from.texts) && w.filled(asked.place) // they are of something else
	if yields != nil && !none && len(t.Missing([]string{x.lookup.by[0].of.Name})) == 0 && isNames(t) {
		return ", not_found: add", what + "; they are added", missing
	}
	return "", what, missing
}

// askNames asks what becomes of names that a lookup doesn't find. It is one doubt with the match itself.
func (w *writer) askNames(first int, where string, b *block, block string, x assignment, missing []string, adds bool) {
	why := fmt.Sprintf("%s of %s %s not in %s: %s", reason.Plural(int64(len(missing)), "value"), x.single().Name,
		pick(len(missing) == 1, "is", "are"), x.lookup.table.Name, quotedFirst(missing))
	w.ask(first, where, why, w.nameChoices(b, block, x, missing, adds)...).Harmless = !adds
}

// quotedFirst quotes the first of some texts.
func quotedFirst(texts []string) string {
	const most = 3
	var all []string
	for _, t := range texts[:min(most, len(texts))] {
		all = append(all, fmt.Sprintf("%q", t))
	}
	if more := len(texts) - most; more > 0 {
		all = append(all, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(all, ", ")
}

// isNames reports whether a table is one of names: nothing but an id and a name is required of its rows, and they refer
// to nothing.
func isNames(t *schema.Table) bool { return len(t.Relations) == 0 }

// unused returns which columns of a file are not used.
func (w *writer) unused(f *file) {
	var names []string
	for _, c := range f.columns {
		used := false
		for _, b := range w.blocks {
			used = used || b.file == f && !b.unused(c)
		}
		if !used {
			names = append(names, c.Name)
			w.made.LeftOut = append(w.made.LeftOut, UnusedColumn{f.input, c.Name})
		}
	}
	switch {
	case len(names) == len(f.columns):
		w.line("  # ? %s fits no table; a block would be like this:", ladlefile.OneLine(f.input))
		w.line("  # TABLE:")
		w.line("  #   from: %s", ladlefile.Scalar(f.input))
		w.line("  #   key: COLUMN")
		w.line("  #   columns:")
		for _, c := range f.columns {
			w.line("  #     COLUMN: %s", ladlefile.OneLine(ladlefile.Scalar(c.ref)))
		}
		w.made.Errors = append(w.made.Errors, f.input+": it fits no table; write a block for it, or delete it")
	case names != nil:
		w.line("  # not used of %s: %s", ladlefile.OneLine(f.input), ladlefile.OneLine(strings.Join(names, ", ")))
	}
}
