// Package term shows things in a terminal, or in what stands in for one: a pipe or a file.
package term

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"unicode"

	"ladle/internal/core/reason"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"
)

// Screen is where people read.
type Screen struct {
	out   io.Writer
	width int
	color bool
}

// narrowest and usual are widths in characters; usual is that of a pipe or a file.
const (
	narrowest = 40
	usual     = 120
)

// NewScreen shows on out. Colour is used on a terminal only, and not where NO_COLOR is set (no-color.org).
func NewScreen(out io.Writer) *Screen {
	s := &Screen{out: out, width: usual}
	if f, ok := out.(interface{ Fd() uintptr }); ok && term.IsTerminal(int(f.Fd())) {
		s.color = os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
			s.width = max(w, narrowest)
		}
	}
	return s
}

// NewPlain shows on out in a given width, without colour.
func NewPlain(out io.Writer, width int) *Screen { return &Screen{out: out, width: width} }

// Interactive reports whether a person can answer: both standard input and standard error are a terminal.
func Interactive() bool {
	return term.IsTerminal(int(os.Stdin.Fd())) && term.IsTerminal(int(os.Stderr.Fd()))
}

// Ask puts a question to the person and waits for a line, or for an interrupt; only y and yes are a yes, and no answer
// is a no.
func Ask(ctx context.Context, question string) (bool, error) {
	answer, err := Choose(ctx, question, "y/N")
	return answer == "y" || answer == "yes", err
}

// Choose puts a question to the person, with the letters by which to answer it, and returns the line that the person
// types, in small letters and without blanks around it; or an error after an interrupt.
func Choose(ctx context.Context, question, letters string) (string, error) {
	answer, err := Prompt(ctx, fmt.Sprintf("%s [%s] ", question, letters))
	if err == io.EOF {
		err = nil
	}
	return strings.ToLower(answer), err
}

// keyboard is what the person types; lines that were typed ahead wait in it.
var keyboard = bufio.NewReader(os.Stdin)

// Prompt shows a text and returns the line that the person types behind it, without blanks around it. Its error is
// io.EOF where the person ends the input, or that of ctx after an interrupt.
func Prompt(ctx context.Context, text string) (string, error) {
	type typed struct {
		line string
		err  error
	}
	fmt.Fprint(os.Stderr, text)
	line := make(chan typed, 1)
	go func() {
		answer, err := keyboard.ReadString('\n')
		line <- typed{answer, err}
	}()
	select {
	case <-ctx.Done():
		fmt.Fprintln(os.Stderr)
		return "", ctx.Err()
	case t := <-line:
		if t.err != nil && t.line == "" {
			fmt.Fprintln(os.Stderr)
		}
		return strings.TrimSpace(t.line), t.err
	}
}

// Safe shows control characters, which could command a terminal, as escapes.
func Safe(s string) string {
	if !strings.ContainsFunc(s, Commands) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if Commands(r) {
			fmt.Fprintf(&b, "\\u%04x", r)
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}

// Commands tells the characters that are not shown but do something: control and format characters.
func Commands(r rune) bool { return r != '\n' && (unicode.IsControl(r) || unicode.Is(unicode.Cf, r)) }

// Count writes a number with commas between thousands.
func Count(n int64) string { return reason.Count(n) }

// Height is the number of lines of the person's screen.
func Height() int {
	if _, h, err := term.GetSize(int(os.Stderr.Fd())); err == nil && h > 0 {
		return h
	}
	return 24
}

// Width is the number of columns of the screen.
func (s *Screen) Width() int { return s.width }

// Line shows a line.
func (s *Screen) Line(format string, arguments ...any) {
	fmt.Fprintln(s.out, Safe(fmt.Sprintf(format, arguments...)))
}

// Title shows a heading with an empty line above it.
func (s *Screen) Title(format string, arguments ...any) {
	fmt.Fprintln(s.out)
	fmt.Fprintln(s.out, s.paint(text.Bold, Safe(fmt.Sprintf(format, arguments...))))
}

// Item shows a paragraph behind a mark, wrapped to the width of the screen.
func (s *Screen) Item(mark, format string, arguments ...any) {
	words := Safe(fmt.Sprintf(format, arguments...))
	indent := strings.Repeat(" ", 2+text.StringWidth(mark)+1)
	wrapped := text.WrapSoft(words, max(s.width-len(indent)-1, narrowest/2))
	lines := strings.Split(wrapped, "\n")
	fmt.Fprintf(s.out, "  %s %s\n", s.mark(mark), strings.TrimRight(lines[0], " "))
	for _, l := range lines[1:] {
		fmt.Fprintln(s.out, indent+strings.TrimRight(l, " "))
	}
}

// Note shows a paragraph below something else, wrapped to the width of the screen.
func (s *Screen) Note(format string, arguments ...any) {
	for l := range strings.SplitSeq(text.WrapSoft(Safe(fmt.Sprintf(format, arguments...)), s.width-3), "\n") {
		fmt.Fprintln(s.out, "  "+strings.TrimRight(l, " "))
	}
}

// Text shows a paragraph, wrapped to the width of the screen.
func (s *Screen) Text(words string) {
	for l := range strings.SplitSeq(text.WrapSoft(Safe(words), s.width-1), "\n") {
		fmt.Fprintln(s.out, strings.TrimRight(l, " "))
	}
}

// Entry shows a name, and what it means in a column that begins after so many characters and is wrapped.
func (s *Screen) Entry(column int, name, means string) {
	indent := strings.Repeat(" ", column+2)
	lines := strings.Split(text.WrapSoft(Safe(means), max(s.width-len(indent)-1, narrowest/2)), "\n")
	lead := "  " + text.Pad(Safe(name), column, ' ')
	if name != "" && text.StringWidth(name) >= column {
		fmt.Fprintln(s.out, strings.TrimRight(lead, " "))
		lead = indent
	}
	for i, l := range lines {
		if i > 0 {
			lead = indent
		}
		fmt.Fprintln(s.out, strings.TrimRight(lead+l, " "))
	}
}

func (s *Screen) mark(mark string) string {
	switch mark {
	case Good:
		return s.paint(text.FgGreen, mark)
	case Wrong, Cross:
		return s.paint(text.FgRed, mark)
	}
	return mark
}

// The marks of items.
const (
	Good  = "ok"
	Wrong = "FAILED"
	Cross = "✗"
	Dot   = "-"
)

func (s *Screen) paint(c text.Color, words string) string {
	if !s.color {
		return words
	}
	return text.Colors{c}.Sprint(words)
}

// Strong shows a line that matters most: green when it is good, red when not.
func (s *Screen) Strong(good bool, format string, arguments ...any) {
	color := text.FgRed
	if good {
		color = text.FgGreen
	}
	fmt.Fprintln(s.out)
	for _, l := range strings.Split(text.WrapSoft(Safe(fmt.Sprintf(format, arguments...)), s.width-1), "\n") {
		fmt.Fprintln(s.out, s.paint(color, strings.TrimRight(l, " ")))
	}
}

// Table is a table with a header.
type Table struct {
	Header  []string
	Numbers []int // the columns, from 0, that hold numbers and stand to the right
	Wrap    []int // the columns, from 0, that may take several lines where not all fit
	Rows    [][]string
}

// DropZero takes a column out in which every row has a 0.
func (t *Table) DropZero(column int) {
	if !slices.ContainsFunc(t.Rows, func(row []string) bool { return row[column] != "0" }) {
		t.Drop(column)
	}
}

// Drop takes a column out.
func (t *Table) Drop(column int) {
	t.Header = slices.Delete(t.Header, column, column+1)
	for i, r := range t.Rows {
		t.Rows[i] = slices.Delete(r, column, column+1)
	}
	var numbers []int
	for _, n := range t.Numbers {
		switch {
		case n < column:
			numbers = append(numbers, n)
		case n > column:
			numbers = append(numbers, n-1)
		}
	}
	t.Numbers = numbers
	for i, w := range t.Wrap {
		if w > column {
			t.Wrap[i]--
		}
	}
}

// Fits reports whether the screen has room for all columns of a table.
func (s *Screen) Fits(t Table) bool {
	shown, _ := t.layout(s.width)
	return shown == len(t.Header)
}

// Table shows as many columns as fit, and names the others.
func (s *Screen) Table(t Table) {
	shown, wrapped := t.layout(s.width)
	w := table.NewWriter()
	w.SetStyle(plain)
	var configs []table.ColumnConfig
	for _, n := range t.Numbers {
		configs = append(configs, table.ColumnConfig{Number: n + 1, Align: text.AlignRight,
			AlignHeader: text.AlignRight})
	}
	for c, width := range wrapped {
		configs = append(configs, table.ColumnConfig{Number: c + 1, WidthMax: width, WidthMaxEnforcer: text.WrapSoft})
	}
	w.SetColumnConfigs(configs)
	w.AppendHeader(cells(t.Header[:shown]))
	for _, r := range t.Rows {
		w.AppendRow(cells(r[:shown]))
	}
	for line := range strings.Lines(w.Render()) {
		fmt.Fprintln(s.out, strings.TrimRight(line, " \n"))
	}
	if shown < len(t.Header) {
		s.Note("(not shown: %s)", strings.Join(t.Header[shown:], ", "))
	}
}

// plain has no frame, a line below the header, and two blanks between columns.
var plain = func() table.Style {
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Box.PaddingLeft, style.Box.PaddingRight = "  ", ""
	style.Format.Header = text.FormatDefault
	return style
}()

func cells(texts []string) table.Row {
	row := make(table.Row, len(texts))
	for i, t := range texts {
		row[i] = Safe(strings.ReplaceAll(t, "\n", "\\n"))
	}
	return row
}

// leastWrapped is the width, in characters, below which a column is not wrapped.
const leastWrapped = 12

// layout is the number of columns that are shown, and the widths of those that take several lines so that they fit.
func (t Table) layout(width int) (shown int, wrapped map[int]int) {
	fitting := t.fitting(width)
	for shown := len(t.Header); shown > fitting; shown-- {
		first := Table{Header: t.Header[:shown], Rows: t.Rows,
			Wrap: slices.DeleteFunc(slices.Clone(t.Wrap), func(c int) bool { return c >= shown })}
		if wrapped := first.wrapped(width); wrapped != nil {
			return shown, wrapped
		}
	}
	return fitting, nil
}

// wrapped returns the widths of columns that take several lines so that all columns fit; nil where that doesn't help.
func (t Table) wrapped(width int) map[int]int {
	if len(t.Wrap) == 0 {
		return nil
	}
	widths := make([]int, len(t.Header))
	left := width - 1
	for c, name := range t.Header {
		widths[c] = text.StringWidth(name)
		for _, r := range t.Rows {
			widths[c] = max(widths[c], text.StringWidth(Safe(r[c])))
		}
		left -= 2
		if !slices.Contains(t.Wrap, c) {
			left -= widths[c]
		}
	}
	wrap := slices.Clone(t.Wrap)
	slices.SortFunc(wrap, func(a, b int) int { return widths[a] - widths[b] })
	all := map[int]int{}
	for i, c := range wrap { // what a narrow one leaves goes to the wider ones
		share := left / (len(wrap) - i)
		if share < min(leastWrapped, widths[c]) {
			return nil
		}
		all[c] = min(widths[c], share)
		left -= all[c]
	}
	return all
}

// fitting is the number of columns that fit into width, at least one.
func (t Table) fitting(width int) int {
	used := 0
	for c, name := range t.Header {
		widest := text.StringWidth(name)
		for _, r := range t.Rows {
			widest = max(widest, text.StringWidth(Safe(r[c])))
		}
		if used += widest + 2; used >= width && c > 0 {
			return c
		}
	}
	return len(t.Header)
}
