package cli

import (
	"fmt"
	"strings"

	"ladle/internal/core/source"
	"ladle/internal/core/survey"
	"ladle/internal/term"
)

// showSurvey shows what was learnt of all inputs; in depth, all that is known of each column.
func showSurvey(s *term.Screen, all *survey.Survey, inDepth bool) {
	for i, in := range all.Inputs {
		if i > 0 {
			s.Line("")
		}
		if inDepth {
			for _, c := range in.Columns {
				showColumn(s, in, c)
			}
			continue
		}
		showInput(s, in)
	}
	if len(all.Relations) > 0 && !inDepth {
		s.Title("Relations between the files")
		for _, r := range all.Relations {
			s.Item(term.Dot, "%s", relationWords(r))
		}
	}
}

func relationWords(r survey.Relation) string {
	share := fmt.Sprintf("all %s distinct values", term.Count(int64(r.Values)))
	if r.Shared < r.Values {
		share = fmt.Sprintf("%s of %s distinct values", term.Count(int64(r.Shared)), term.Count(int64(r.Values)))
	}
	words := fmt.Sprintf("%s of %s: %s also occur in %s of %s", r.Column, r.Input, share, r.Key, r.Parent)
	if len(r.Missing) > 0 {
		words += ", but not " + quoted(r.Missing)
	}
	if r.Sampled {
		words += " (compared by a sample of the values)"
	}
	return words
}

func showInput(s *term.Screen, in *survey.Input) {
	m := in.Read
	size := fmt.Sprintf("%s, %s", plural(in.Rows, "row"), plural(int64(len(in.Columns)), "column"))
	s.Title("%s: %s", cutLeft(m.Name(), s.Width()-len(size)-2), size)
	s.Note("%s", formatWords(m))
	for _, note := range formatNotes(m) {
		s.Note("%s", note)
	}
	s.Line("")
	s.Table(columnTable(s, in))
	showOddities(s, in)
	showKeys(s, in)
	showParents(s, in)
}

// formatWords say how a file was read.
func formatWords(m *source.Format) string {
	words := []string{"workbook (" + m.Format + ")"}
	if m.Format == "text" {
		words = []string{"text in " + encodingWords(m), delimiterWords(m), m.LineEndings}
		if m.Quote == "none" {
			words = append(words, "quotes are part of the data")
		} else if m.Quote != `"` {
			words = append(words, m.Quote+" around fields")
		}
	}
	if m.Query {
		words = []string{"rows of a database"}
	}
	if m.JSON != "" {
		words = []string{m.JSON, "text in " + encodingWords(m)}
	}
	if m.Compression != "" {
		words = append(words, "compressed with "+m.Compression)
	}
	line := lineOf(m)
	if m.Header.Value == "" {
	} else if m.Header.Value == "none" {
		words = append(words, guessed("no header", m.Header))
	} else {
		words = append(words, guessed("header on "+line+" "+m.Header.Value, m.Header))
	}
	kept := words[:0]
	for _, w := range words {
		if w != "" {
			kept = append(kept, w)
		}
	}
	return strings.Join(kept, ", ")
}

func encodingWords(m *source.Format) string {
	if m.Could != nil {
		return m.Encoding.Value + " (not certain)"
	}
	return guessed(m.Encoding.Value, m.Encoding)
}

func delimiterWords(m *source.Format) string {
	names := map[string]string{",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars", "none": "a single column"}
	if name, ok := names[m.Delimiter.Value]; ok {
		return guessed(name, m.Delimiter)
	}
	return guessed(fmt.Sprintf("%q between fields", m.Delimiter.Value), m.Delimiter)
}

// guessed adds how sure a guess is, where it isn't.
func guessed(words string, g source.Setting) string {
	const sure = 0.9
	if g.Given || g.Confidence >= sure {
		return words
	}
	return fmt.Sprintf("%s (a guess: %d %% certain)", words, int(100*g.Confidence))
}

// formatNotes tell what a person may not expect in a file.
func formatNotes(m *source.Format) (notes []string) {
	add := func(words string, arguments ...any) { notes = append(notes, fmt.Sprintf(words, arguments...)) }
	line := lineOf(m)
	if m.Could != nil {
		add("its encoding isn't certain; it could be %s; give the right one with --encoding", source.Readings(m.Could))
	}
	if m.Fixed != nil {
		add("columns seem to have fixed widths: read them with --widths %q", strings.Trim(fmt.Sprint(m.Fixed), "[]"))
	}
	if m.Escaped {
		add(`backslashes seem to stand before quotes inside of values: read them with --escape '\'`)
	}
	if m.SkippedLines > 0 {
		add("%s above the header: %s", plural(int64(m.SkippedLines), line), quoted(m.SkippedTexts))
	}
	if m.Blank > 0 {
		add("%s between the rows", plural(m.Blank, "blank "+line))
	}
	if m.HiddenRows > 0 {
		add("%s, read like the others", plural(m.HiddenRows, "hidden row"))
	}
	if len(m.HiddenColumns) > 0 {
		add("hidden columns, read like the others: %s", strings.Join(m.HiddenColumns, ", "))
	}
	if m.Merged > 0 {
		add("%s among the rows; only the first cell of each holds a value, and if_blank: above gives it to those below",
			plural(m.Merged, "block")+" of merged cells")
	}
	if m.Formulas > 0 {
		add("%s, of which the stored results are read", plural(m.Formulas, "formula"))
	}
	if m.Totals > 0 {
		add("%s of the table, left out", plural(int64(m.Totals), "totals row"))
	}
	if len(m.Sheets) > 1 {
		var names []string
		for _, sheet := range m.Sheets {
			name := sheet.Name
			if sheet.Hidden {
				name += " (hidden)"
			}
			if sheet.NoCells {
				name += " (a chart)"
			}
			names = append(names, name)
		}
		add("sheets of the workbook: %s", strings.Join(names, ", "))
	}
	return notes
}

func quoted(words []string) string {
	all := make([]string, len(words))
	for i, w := range words {
		all[i] = fmt.Sprintf("%q", cut(w, 60))
	}
	return strings.Join(all, ", ")
}

// cut shortens words to n characters.
func cut(words string, n int) string {
	if r := []rune(words); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return words
}

// cutLeft shortens a path to n characters, from its start.
func cutLeft(path string, n int) string {
	if r := []rune(path); len(r) > n {
		return "…" + string(r[len(r)-max(n, 10)+1:])
	}
	return path
}

func columnTable(s *term.Screen, in *survey.Input) term.Table {
	t := term.Table{Header: []string{"", "column", "type", "blank", "distinct", "least", "greatest", "most frequent"},
		Numbers: []int{0, 3, 4}}
	wide := (s.Width() - 30) / 5
	for _, c := range in.Columns {
		kind := strings.TrimSuffix(c.Type, " number")
		// those of ISO 8601 go without saying
		if c.Written != "" && !strings.HasPrefix(c.Written, "yyyy-MM-dd") && c.Type != "time" {
			kind += " " + c.Written
		}
		distinct := term.Count(c.Distinct)
		if !c.Exact {
			distinct = "~" + distinct
		}
		frequent := ""
		if len(c.Frequent) > 0 && c.Frequent[0].Count > 1 {
			frequent = fmt.Sprintf("%s (%s)", cut(c.Frequent[0].Value, wide), term.Count(c.Frequent[0].Count))
		}
		blank := c.Blank
		for _, w := range c.Words {
			blank += w.Count
		}
		t.Rows = append(t.Rows, []string{fmt.Sprint(c.Number), cut(c.Name, wide+4), cut(kind, 2*wide+4),
			term.Count(blank), distinct, cut(c.Least, wide+2), cut(c.Most, wide+2), frequent})
	}
	return t
}

// shapeWords say what could be lines of their own.
func shapeWords(s survey.Shape) string {
	if s.Key == survey.ColumnsToRows {
		return fmt.Sprintf("%s look like values of one column; columns_to_rows makes a line of each",
			strings.Join(s.Columns, ", "))
	}
	return fmt.Sprintf("%s: %s of %s distinct values look like lists separated by %q; parts_to_rows makes a line of "+
		"each part", s.Columns[0], term.Count(s.Cells), term.Count(s.Of), s.Between)
}

const mostOddities = 40 // that are shown of an input

// showOddities shows what doesn't fit, line by line.
func showOddities(s *term.Screen, in *survey.Input) {
	var items []string
	if in.Broken.Count > 0 {
		items = append(items, fmt.Sprintf("%s could not be split into columns: %s", plural(in.Broken.Count,
			lineWord(in)),
			placesWith(in, in.Broken)))
	}
	if in.Totals != nil {
		items = append(items, "possibly totals of other rows: "+placesWith(in,
			survey.Oddity{Places: in.Totals, Count: int64(len(in.Totals))}))
	}
	if in.Second != nil {
		items = append(items, "possibly the header of another table: "+placesWith(in,
			survey.Oddity{Places: []survey.Place{in.Second.Place}, Count: 1}))
	}
	for _, s := range in.Shapes {
		items = append(items, shapeWords(s))
	}
	for _, c := range in.Columns {
		items = append(items, columnItems(in, c)...)
	}
	if items == nil {
		return
	}
	s.Title("Worth a look")
	for i, item := range items {
		if i == mostOddities {
			s.Item(term.Dot, "and %s more; --column NAME shows everything about a column, --json about the file",
				term.Count(int64(len(items)-i)))
			break
		}
		s.Item(term.Dot, "%s", item)
	}
}

func lineWord(in *survey.Input) string { return lineOf(in.Read) }

// lineOf is what the records of a file are called.
func lineOf(m *source.Format) string {
	if m.Sheet != "" {
		return "row"
	}
	return "line"
}

// columnItems are what is odd in a column, in words.
func columnItems(in *survey.Input, c *survey.Column) []string {
	var items []string
	add := func(words string, arguments ...any) {
		items = append(items, c.Name+": "+fmt.Sprintf(words, arguments...))
	}
	if c.Unclear != "" {
		add("%s", c.Unclear)
	}
	if c.Misfits.Count > 0 {
		add("%s of %s %s: %s", term.Count(c.Misfits.Count), plural(c.Misfits.Count+c.Fit, "cell"), c.NotOfType(),
			placesWith(in, c.Misfits))
	}
	for _, w := range c.Words {
		add("%q seems to mean blank: %s", w.What, places(in, w))
	}
	if len(c.Also) > 1 {
		var ways []string
		for _, a := range c.Also {
			ways = append(ways, fmt.Sprintf("%s (%s)", a.Value, term.Count(a.Count)))
		}
		add("written in several ways: %s", strings.Join(ways, ", "))
	}
	for _, o := range c.Oddities {
		if o.What == "spellings of one word" {
			var words []string
			for _, p := range o.Places {
				words = append(words, fmt.Sprintf("%q", p.Says))
			}
			add("possibly one word in %s spellings: %s", few(len(words)), strings.Join(words, ", "))
			continue
		}
		add("%s %s: %s", plural(o.Count, "cell"), o.What, placesWith(in, o))
	}
	if c.Looks != "" {
		add("looks like %s", c.Looks)
	}
	return items
}

// places lists where something is.
func places(in *survey.Input, o survey.Oddity) string {
	var all []string
	for _, p := range o.Places {
		all = append(all, placeName(p))
	}
	word := lineWord(in)
	if o.Count > 1 {
		word += "s"
	}
	if len(o.Places) > 0 && o.Places[0].Cell != "" {
		word = ""
	}
	more := ""
	if n := o.Count - int64(len(all)); n > 0 {
		more = fmt.Sprintf(" and %s more", term.Count(n))
	}
	return strings.TrimSpace(word + " " + strings.Join(all, ", ") + more)
}

func placeName(p survey.Place) string {
	if p.Cell != "" {
		return p.Cell
	}
	return fmt.Sprint(p.Line)
}

// placesWith lists where something is, with what stands there.
func placesWith(in *survey.Input, o survey.Oddity) string {
	const most = 3
	var all []string
	for i, p := range o.Places {
		if i == most {
			break
		}
		place := p.Cell
		if place == "" {
			place = fmt.Sprintf("%s %d", lineWord(in), p.Line)
		}
		all = append(all, fmt.Sprintf("%s %q", place, p.Says))
	}
	more := ""
	if n := o.Count - int64(len(all)); n > 0 {
		more = fmt.Sprintf(" and %s more", term.Count(n))
	}
	return strings.Join(all, ", ") + more
}

func showKeys(s *term.Screen, in *survey.Input) {
	if len(in.Keys) == 0 {
		return
	}
	s.Title("Possible keys")
	for _, k := range in.Keys {
		words := strings.Join(k.Columns, " + ")
		if k.Blanks > 0 {
			words += fmt.Sprintf(", but blank on %s", plural(k.Blanks, lineWord(in)))
		}
		if k.Repeats > 0 {
			var pairs []string
			for _, r := range k.First {
				pairs = append(pairs, fmt.Sprintf("%s %d repeats %d", lineWord(in), r.Line, r.Earlier))
			}
			words += fmt.Sprintf(", but for %s: %s", plural(k.Repeats, "duplicate"), strings.Join(pairs, ", "))
		}
		s.Item(term.Dot, "%s", words)
	}
	s.Note("found in the first %s, verified over all rows", plural(int64(in.Bounds.SampleRows), "row"))
}

// few writes a small number as a word.
func few(n int) string {
	if words := []string{"no", "one", "two", "three", "four", "five", "six"}; n < len(words) {
		return words[n]
	}
	return fmt.Sprint(n)
}

func showParents(s *term.Screen, in *survey.Input) {
	if len(in.Parents) == 0 {
		return
	}
	s.Title("Columns that belong together: possibly a table of their own")
	for _, p := range in.Parents {
		var names, against []string
		for _, d := range p.Decides {
			names = append(names, d.Column)
			if d.Against.Count > 0 {
				against = append(against, fmt.Sprintf("except %s on %s", d.Column, placesWith(in, d.Against)))
			}
		}
		words := fmt.Sprintf("each of the %s values of %s always comes with the same %s", term.Count(p.Distinct),
			p.Column,
			strings.Join(names, ", "))
		if against != nil {
			words += " (" + strings.Join(against, "; ") + ")"
		}
		s.Item(term.Dot, "%s", words)
	}
}

// showColumn shows all that is known of a column.
func showColumn(s *term.Screen, in *survey.Input, c *survey.Column) {
	title := fmt.Sprintf("%s, column %d of ", cut(c.Name, s.Width()/2), c.Number)
	s.Title("%s%s", title, cutLeft(in.Read.Name(), s.Width()-len([]rune(title))))
	kind := c.Type
	if c.Written != "" {
		kind += ", written " + c.Written
	}
	if c.Decided != nil {
		kind += fmt.Sprintf(" (decided by %q, %s %s)", c.Decided.Says, lineWord(in), placeName(*c.Decided))
	}
	exact := ""
	if !c.Exact {
		exact = ", an estimate"
	}
	rows := [][]string{{"type", kind}, {"of that type", fmt.Sprintf("%s of %s", term.Count(c.Fit),
		term.Count(c.Fit+c.Misfits.Count))}, {"blank", term.Count(c.Blank)},
		{"distinct", term.Count(c.Distinct) + exact}, {"least", c.Least}, {"greatest", c.Most},
		{"characters", fmt.Sprintf("%d to %d", c.Shortest, c.Longest)}}
	if c.Digits > 0 {
		rows = append(rows, []string{"digits", fmt.Sprintf("%d, %d of them after the point", c.Digits, c.Scale)})
	}
	for _, r := range rows {
		s.Line("  %-14s%s", r[0], r[1])
	}
	if items := columnItems(in, c); items != nil {
		s.Title("Worth a look")
		for _, item := range items {
			s.Item(term.Dot, "%s", item)
		}
	}
	if len(c.Frequent) > 0 {
		s.Title("Most frequent")
		for _, f := range c.Frequent {
			s.Line("  %8s  %s", term.Count(f.Count), f.Value)
		}
		if c.Distinct > int64(c.Counted) {
			s.Note("counted among the first %s distinct values", term.Count(int64(c.Counted)))
		}
	}
	showBars(s, "Values", c.Values)
	showBars(s, "Characters", c.Lengths)
}

// showBars shows a histogram.
func showBars(s *term.Screen, title string, bars []survey.Bar) {
	if len(bars) < 2 {
		return
	}
	most, wide := int64(1), 0
	labels := make([]string, len(bars))
	for i, b := range bars {
		most = max(most, b.Count)
		labels[i] = b.From
		if b.To != b.From {
			labels[i] += " – " + b.To
		}
		wide = max(wide, len([]rune(labels[i])))
	}
	s.Title("%s", title)
	buf := max(10, s.Width()-wide-16)
	for i, b := range bars {
		length := int((b.Count*int64(buf) + most - 1) / most)
		s.Line("  %*s  %s %s", wide, labels[i], strings.Repeat("▆", length), term.Count(b.Count))
	}
}
