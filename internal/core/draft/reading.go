package draft

import (
	"context"
	"fmt"
	"maps"
	"strings"

	"ladle/internal/core/survey"
)

// The kinds of questions about the way a file is read. Each is asked once of a file.
const (
	askEncoding = "encoding"
	askHeader   = "header"
	askWidths   = "widths"
	askEscape   = "escape"
	askSecond   = "another table"
	askTotal    = "footer_lines"
	askShape    = "shape"
	askTable    = "table"
)

// Question is the next question about the way the file is read; nil for none. What it was read as before is the guess.
func (f File) Question() *Question {
	for _, ask := range []func(File) *Question{File.encodingQuestion, File.widthsQuestion, File.escapeQuestion,
		File.headerQuestion, File.endQuestion, File.shapeQuestion} {
		if q := ask(f); q != nil && !f.settled[q.kind] {
			q.Answer, q.doubt, q.obstacle = -1, -1, -1
			return q
		}
	}
	return nil
}

// Read returns the file as an answer about its reading has it, and whether it must be surveyed again with that.
func (f File) Read(q *Question) (File, bool, error) {
	f.settled = maps.Clone(f.settled)
	if f.settled == nil {
		f.settled = map[string]bool{}
	}
	f.settled[q.kind] = true
	c := q.Choices[q.Answer]
	if c.read == nil {
		return f, false, nil
	}
	err := c.read(&f, q.Typed)
	return f, c.again, err
}

// Reading reports whether a question is about the way a file is read, or the table that it is for.
func (q *Question) Reading() bool { return q.kind != "" }

func (f File) where() string { return f.Survey.Read.Name() }

func (f File) encodingQuestion() *Question {
	could := f.Survey.Read.Could
	if could == nil {
		return nil
	}
	q := &Question{kind: askEncoding, Where: f.where(), Why: "the file isn't UTF-8, and its encoding isn't certain; " +
		"in which one does this read right?"}
	set := func(f *File, name string) error { return f.Asked.SetEncoding(name) }
	for _, r := range could {
		c := Choice{Says: r.Encoding, again: true, read: func(f *File, _ string) error { return set(f, r.Encoding) }}
		for _, l := range r.Lines {
			c.Samples = append(c.Samples, l.Text)
		}
		q.Choices = append(q.Choices, c)
	}
	q.Choices = append(q.Choices, Choice{Says: "another one", Asks: "its name, such as windows-1252", again: true,
		read: set})
	return q
}

func (f File) headerQuestion() *Question {
	const certain = 0.9
	h := f.Survey.Read.Header
	if h.Value == "" || h.Confidence >= certain {
		return nil
	}
	var names []string
	for _, c := range f.Survey.Columns {
		names = append(names, c.Name)
	}
	set := func(value string) Choice {
		return Choice{again: true, read: func(f *File, _ string) error { return f.Asked.SetHeader(value) }}
	}
	here, none := set(h.Value), set("none")
	here.Says, here.again = "line "+h.Value, false
	none.Says = "none: the first line is a row, and columns go by their number"
	if h.Value == "none" {
		first := set("1")
		none.again, first.Says = false, "line 1"
		here, none = none, first
	} else {
		here.Samples = names[:min(len(names), 6)]
	}
	return &Question{kind: askHeader, Where: f.where(), Why: "which line has the names of the columns?",
		Choices: []Choice{here, none, {Says: "another line", Asks: "its number, or 3-4 where they take two",
			again: true,
			read:  func(f *File, line string) error { return f.Asked.SetHeader(line) }}}}
}

func (f File) widthsQuestion() *Question {
	fixed := f.Survey.Read.Fixed
	if fixed == nil || f.Asked.Widths != "" {
		return nil
	}
	widths := strings.Trim(strings.ReplaceAll(fmt.Sprint(fixed), " ", ", "), "[]")
	return &Question{kind: askWidths, Where: f.where(), Why: "columns seem to have fixed widths, without a delimiter",
		Choices: []Choice{{Says: "read them so, in widths of " + widths, again: true,
			read: func(f *File, _ string) error { return f.Asked.SetWidths(widths) }},
			{Says: "no, each line is as it was read"},
			{Says: "other widths", Asks: "the widths, such as 8 20 10", again: true,
				read: func(f *File, widths string) error { return f.Asked.SetWidths(widths) }}}}
}

func (f File) escapeQuestion() *Question {
	if !f.Survey.Read.Escaped || f.Asked.Escape != "" {
		return nil
	}
	return &Question{kind: askEscape, Where: f.where(), Why: "a backslash seems to stand before quotes inside of " +
		"values",
		Choices: []Choice{{Says: "it makes the quote part of the value", again: true,
			read: func(f *File, _ string) error { return f.Asked.SetEscape(`\`) }},
			{Says: "no, it is part of the value itself"}}}
}

// endQuestion asks of what stands below the rows: another table, or a total.
func (f File) endQuestion() *Question {
	text := f.Survey.Read.Format == "text"
	out := func(says string, lines int64) Choice {
		return Choice{Says: says, again: true, read: func(f *File, _ string) error {
			f.Asked.Footer += int(lines)
			return nil
		}}
	}
	switch s := f.Survey.Second; {
	case s != nil && text:
		return &Question{kind: askSecond, Where: f.where(), Why: fmt.Sprintf(anotherTable, "line", s.Line, s.Says),
			Choices: []Choice{out("leave it and what follows out", s.Rows),
				{Says: "no, these are rows like the others"}}}
	case s == nil && f.Survey.EndsWithTotal && text:
		last := f.Survey.Totals[len(f.Survey.Totals)-1]
		return &Question{kind: askTotal, Where: f.where(), Why: fmt.Sprintf("line %d, %q, seems to sum up the others",
			last.Line, last.Says), Choices: []Choice{out("leave it out", 1), {Says: "no, it is a row like the others",
			read: func(f *File, _ string) error { f.keepTotal = true; return nil }}}}
	}
	return nil
}

func (f File) shapeQuestion() *Question {
	if f.shape != nil || len(f.Survey.Shapes) == 0 {
		return nil
	}
	q := &Question{kind: askShape, Where: f.where(), Harmless: true,
		Choices: []Choice{{Says: "leave them as they are"}}}
	for _, s := range f.Survey.Shapes {
		q.Choices = append(q.Choices, Choice{Says: pick(s.Key == survey.ColumnsToRows,
			"make a line of each of the columns from "+
				s.Columns[0]+" to "+s.Columns[len(s.Columns)-1], "make a line of each part of "+s.Columns[0]),
			read: func(f *File, _ string) error {
				made, err := shaped(context.Background(), *f, s)
				if err == nil {
					made.settled = f.settled
					*f = made
				}
				return err
			}})
	}
	q.Why = pick(f.Survey.Shapes[0].Key == survey.ColumnsToRows, "some columns look like values of one",
		"the cells of "+f.Survey.Shapes[0].Columns[0]+" look like lists")
	return q
}

// tableQuestion asks which table a file is for.
func (w *writer) tableQuestion(b *block) *Question {
	why, _, _ := strings.Cut(b.doubt, "; draft --table")
	q := &Question{kind: askTable, Where: b.file.input, Why: why, Answer: -1, doubt: len(w.made.Doubts) - 1,
		obstacle: -1}
	into := func(name string) func(*File, string) error {
		return func(f *File, said string) error {
			f.Into = name
			if name == "" {
				f.Into = said
			}
			return nil
		}
	}
	for i, f := range w.files {
		if f == b.file {
			q.File = i
		}
	}
	q.Choices = append(q.Choices, Choice{Says: "it is for " + b.table.Name, read: into(b.table.Name)})
	if b.rival != nil {
		q.Choices = append(q.Choices, Choice{Says: "it is for " + b.rival.Name, read: into(b.rival.Name)})
	}
	q.Choices = append(q.Choices, Choice{Says: "it is for another table", Asks: "its name", read: into(""),
		check: func(name string) error {
			if w.schema.Table(name) == nil {
				return noTable(name, w.schema)
			}
			return nil
		}})
	return q
}
