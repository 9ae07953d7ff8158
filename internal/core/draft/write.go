package draft

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/schema"
)

// writer writes the ladle file and collects what is said of it.
type writer struct {
	*matcher
	files  []*file
	blocks []*block
	out    strings.Builder
	made   Draft
}

func (w *writer) draft() *Draft {
	w.line("# A draft by ladle. Each guess says why; look at the lines with # ? before you load.")
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
	w.made.Text = w.out.String()
	return &w.made
}

func (w *writer) line(format string, arguments ...any) {
	fmt.Fprintln(&w.out, strings.TrimRight(fmt.Sprintf(format, arguments...), " "))
}

// said is a line of the file with a reason behind it; a doubt is marked, and collected.
func (w *writer) said(text, why string, doubt bool, where string) {
	switch {
	case doubt:
		w.line("%s  # ? %s", text, oneLine(why))
		w.made.Doubts = append(w.made.Doubts, where+": "+why)
	case why != "":
		w.line("%s  # %s", text, oneLine(why))
	default:
		w.line("%s", text)
	}
}

// doubt is a line of its own.
func (w *writer) doubt(indent, why, where string) {
	w.line("%s# ? %s", indent, oneLine(why))
	w.made.Doubts = append(w.made.Doubts, where+": "+why)
}

func (w *writer) input(f *file) {
	m := f.Survey.Read
	w.line("  %s:", scalar(f.input))
	w.line("    file: %s", scalar(f.Path))
	if len(m.Sheets) > 1 {
		w.line("    sheet: %s", scalar(m.Sheet))
	}
	if h := m.Header; h.Is != "" {
		w.said("    header: "+h.Is, pick(h.Sure < 0.9, "it isn't sure that the names of the columns stand here", ""), h.Sure < 0.9, f.input)
	}
	if e := m.Encoding; e.Is != "" && e.Is != "ASCII" && !strings.HasPrefix(e.Is, "UTF-") {
		w.said("    encoding: "+scalar(e.Is), pick(e.Sure < 0.9, "a guess; look at letters with accents", ""), e.Sure < 0.9, f.input)
	}
	if d := m.Limits; d.Is != "" && d.Is != "none" && d.Is != "," && m.Format == "text" {
		w.said("    delimiter: "+delimiter(d.Is), "", false, f.input)
	}
	w.rules(f)
}

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
	return quoted(is)
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
	w.line("  %s:", scalar(name))
	if name != b.table.Name {
		w.line("    into: %s", scalar(b.table.Name))
	}
	w.line("    from: %s", scalar(b.file.input))
	key, why, certain := b.key()
	text := "none"
	switch {
	case len(key) == 1:
		text = scalar(key[0])
	case len(key) > 1:
		var all []string
		for _, k := range key {
			all = append(all, inFlow(k))
		}
		text = "[" + strings.Join(all, ", ") + "]"
	}
	w.said("    key: "+text, why, !certain, name+", key")
	w.keyRepeats(b, name, key)
	w.line("    columns:")
	for _, x := range b.fed {
		w.column(b, name, x)
	}
	for _, missing := range b.missing {
		why := fmt.Sprintf("%s must have a value, and no column of the file looks like it", missing)
		w.line("      # ? %s", oneLine(why))
		w.line("      # %s: {constant: ...}", scalar(missing))
		w.made.Errors = append(w.made.Errors, name+": "+why)
	}
}

// keyRepeats tells of lines that share a key.
func (w *writer) keyRepeats(b *block, name string, key []string) {
	for _, k := range b.file.Survey.Keys {
		if len(k.Columns) != len(key) || k.Repeats == 0 {
			continue
		}
		same := !slices.ContainsFunc(key, func(of string) bool {
			return !slices.ContainsFunc(b.fed, func(x fed) bool {
				from := cmp.Or(x.column, x.single())
				return x.of.Name == of && from != nil && slices.Contains(k.Columns, from.Name)
			})
		})
		if same && len(k.First) > 0 {
			w.doubt("    ", fmt.Sprintf("%d lines have the key of an earlier one, the first is line %d; where they differ they are set aside, unless repeats: says otherwise",
				k.Repeats, k.First[0].Line), name)
		}
	}
}

func (w *writer) column(b *block, name string, x fed) {
	match := Match{Input: b.file.input, Block: name, Table: b.table.Name, Column: x.of.Name, Score: x.Score, Why: x.Why}
	for _, c := range b.file.columns {
		if x.uses(c) {
			match.From = append(match.From, c.Name)
		}
	}
	doubt, why := x.Score < sure, x.Why
	if differs := b.undecided(x); differs != "" {
		doubt, why = true, join(why, differs)
	}
	if x.find != nil {
		match.Find = x.find.table.Name
		if x.find.named {
			why += "; the database declares no such relation, only its name tells"
		}
	}
	w.made.Matches = append(w.made.Matches, match)
	where := name + "." + x.of.Name
	if from := x.single(); from != nil {
		add, more := w.newNames(x)
		why = join(why, more)
		w.said(fmt.Sprintf("      %s: {from: %s, find: %s%s}", scalar(x.of.Name), inFlow(from.ref), inFlow(x.find.table.Name+"."+x.find.by[0].of.Name), add),
			why, doubt || more != "" && add == "", where)
		return
	}
	if x.find == nil {
		w.said(fmt.Sprintf("      %s: %s", scalar(x.of.Name), scalar(x.column.ref)), why, doubt, where)
		return
	}
	w.said(fmt.Sprintf("      %s:", scalar(x.of.Name)), why, doubt, where)
	w.line("        find:")
	w.line("          table: %s", scalar(x.find.table.Name))
	w.line("          by:")
	for _, by := range x.find.by {
		w.part("            ", by)
	}
}

// part writes one column by which a row is found.
func (w *writer) part(indent string, x fed) {
	switch from := x.single(); {
	case x.find == nil:
		w.said(fmt.Sprintf("%s%s: %s", indent, scalar(x.of.Name), scalar(x.column.ref)), x.Why, false, "")
	case from != nil:
		w.said(fmt.Sprintf("%s%s: {from: %s, find: %s}", indent, scalar(x.of.Name), inFlow(from.ref), inFlow(x.find.table.Name+"."+x.find.by[0].of.Name)), x.Why, false, "")
	default:
		w.line("%s%s:", indent, scalar(x.of.Name))
		w.line("%s  find:", indent)
		w.line("%s    table: %s", indent, scalar(x.find.table.Name))
		w.line("%s    by:", indent)
		for _, by := range x.find.by {
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

// newNames says what becomes of values that the table of a find doesn't have: they are added where nothing but the name
// is needed for a row, and no block fills the table.
func (w *writer) newNames(x fed) (add, why string) {
	t := x.find.table
	if slices.ContainsFunc(w.blocks, func(b *block) bool { return b.table == t }) {
		return "", ""
	}
	asked := question{place{t, x.find.by[0].of.Name}, x.single(), true}
	missing, err := w.values.missing(asked)
	if w.err = cmp.Or(w.err, err); len(missing) == 0 {
		return "", ""
	}
	var first []string
	for _, m := range missing[:min(3, len(missing))] {
		name := fmt.Sprintf("%q", m)
		if like := w.values.like(asked.place, m); like != "" {
			name += fmt.Sprintf(" (there is %q)", like)
		}
		first = append(first, name)
	}
	what := fmt.Sprintf("not there: %s", strings.Join(first, ", "))
	if len(missing) > len(first) {
		what += fmt.Sprintf(" and %d more", len(missing)-len(first))
	}
	yields := t.Identity()
	if yields != nil && len(t.Missing([]string{x.find.by[0].of.Name})) == 0 && lookup(t) {
		return ", not_found: add", what + "; they are added"
	}
	return "", what
}

// lookup tells whether a table is one of names: nothing but an id and a name is required of its rows, and they point at
// nothing.
func lookup(t *schema.Table) bool { return len(t.Relations) == 0 }

// unused tells which columns of a file feed nothing.
func (w *writer) unused(f *file) {
	var names []string
	for _, c := range f.columns {
		used := false
		for _, b := range w.blocks {
			used = used || b.file == f && !b.unused(c)
		}
		if !used {
			names = append(names, c.Name)
			w.made.LeftOut = append(w.made.LeftOut, Left{f.input, c.Name})
		}
	}
	switch {
	case len(names) == len(f.columns):
		w.line("  # ? %s fits no table", oneLine(f.input))
		w.made.Errors = append(w.made.Errors, f.input+": it fits no table; write a block for it, or leave it out")
	case names != nil:
		w.line("  # left out of %s: %s", oneLine(f.input), oneLine(strings.Join(names, ", ")))
	}
}
