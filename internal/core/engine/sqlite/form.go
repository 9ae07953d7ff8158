package sqlite

import (
	"bytes"
	"fmt"
	"strings"

	"zombiezen.com/go/sqlite"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// form is how a column of a kind that SQLite doesn't have writes its values.
type form struct {
	integer  bool // seconds since 1970-01-01 00:00:00 UTC, or 0 and 1
	sep      byte // between date and time: ' ' or 'T'
	zulu     bool // a Z behind the time
	step     int64
	yes, no  string // a yes/no value as text
	seconds  bool   // times have seconds
	fraction bool   // times have a fraction of a second
}

const (
	minute     = 60 * second
	second     = 1_000_000 // microseconds
	sampleRows = 200
)

var isoForm = form{sep: ' ', seconds: true, fraction: true}

// formed tells the kinds that a form is for.
func formed(k value.Kind) bool {
	return k == value.Bool || k == value.Date || k == value.Time || k == value.DateTime
}

// sample learns from the newest and the oldest rows how the columns that SQLite has no type for write their values.
func (d *Database) sample(t *schema.Table) error {
	d.forms[t] = map[string]form{}
	for i := range t.Columns {
		c := &t.Columns[i]
		if !formed(c.Type.Kind) || c.Generated {
			continue
		}
		cells, err := d.sampleColumn(t, c.Name)
		if err != nil {
			return err
		}
		f, odd := learn(c.Type.Kind, cells)
		if odd != "" {
			c.Odd = fmt.Sprintf("existing rows hold %s as %s in a column declared %s", odd, c.Type.Kind,
				c.Declared)
		}
		c.Type.Step = f.step
		d.forms[t][c.Name] = f
	}
	return nil
}

// cell is a value as SQLite stores it.
type cell struct {
	kind sqlite.ColumnType
	text string
}

func (d *Database) sampleColumn(t *schema.Table, column string) ([]cell, error) {
	var cells []cell
	take := func(row *sqlite.Stmt) error {
		if !row.ColumnIsNull(0) {
			cells = append(cells, cell{row.ColumnType(0), row.ColumnText(0)})
		}
		return nil
	}
	order := ""
	if t.Locator != "" {
		order = " ORDER BY " + quote(t.Locator) + " DESC"
	}
	from := "SELECT " + quote(column) + " FROM " + quote(t.Name)
	if err := d.each(from+order+fmt.Sprintf(" LIMIT %d", sampleRows), nil, take); err != nil {
		return nil, err
	}
	return cells, d.each(from+fmt.Sprintf(" LIMIT %d", sampleRows), nil, take)
}

// learn finds the one form of cells, or gives a cell that is in no form or in another one than those before it.
func learn(k value.Kind, cells []cell) (f form, odd string) {
	if len(cells) == 0 {
		f = isoForm
		f.integer = k == value.Bool
		return f, ""
	}
	if k == value.Bool {
		return learnBool(cells)
	}
	f.sep = ' '
	for i, c := range cells {
		g, ok := momentForm(k, c)
		if !ok || i > 0 && (g.integer != f.integer || g.sep != f.sep || g.zulu != f.zulu) {
			return f, fmt.Sprintf("%q", c.text)
		}
		f.integer, f.sep, f.zulu = g.integer, g.sep, g.zulu
		f.seconds, f.fraction = f.seconds || g.seconds, f.fraction || g.fraction
	}
	switch {
	case f.fraction:
	case f.seconds || f.integer:
		f.step = second
	default:
		f.step = minute
	}
	return f, ""
}

func learnBool(cells []cell) (form, string) {
	f := form{integer: cells[0].kind == sqlite.TypeInteger}
	for _, c := range cells {
		if f.integer {
			if c.kind != sqlite.TypeInteger || c.text != "0" && c.text != "1" {
				return f, fmt.Sprintf("%q", c.text)
			}
			continue
		}
		yes, no, ok := boolWords(c.text)
		if !ok || f.yes != "" && f.yes != yes {
			return f, fmt.Sprintf("%q", c.text)
		}
		f.yes, f.no = yes, no
	}
	return f, ""
}

// boolWords is the pair of words that text is one of.
func boolWords(text string) (yes, no string, ok bool) {
	for _, pair := range [][2]string{{"true", "false"}, {"TRUE", "FALSE"}, {"t", "f"}, {"yes", "no"}, {"Y", "N"},
		{"y", "n"}} {
		if text == pair[0] || text == pair[1] {
			return pair[0], pair[1], true
		}
	}
	return "", "", false
}

func momentForm(k value.Kind, c cell) (form, bool) {
	f := form{sep: ' '}
	if c.kind == sqlite.TypeInteger {
		f.integer = true
		return f, k == value.DateTime
	}
	text := c.text
	f.zulu = strings.HasSuffix(text, "Z")
	text = strings.TrimSuffix(text, "Z")
	if k == value.DateTime && len(text) > 10 {
		f.sep = text[10]
	}
	clock := text
	if k == value.DateTime {
		clock = text[min(11, len(text)):]
	}
	f.seconds = strings.Count(clock, ":") == 2
	f.fraction = strings.Contains(clock, ".")
	var column value.Column
	column.Kind = k
	return f, c.kind == sqlite.TypeText && value.Parse(&column, value.Type{Kind: k}, []byte(text)) == nil
}

// append writes n, a value of kind k, in this form as text.
func (f *form) append(b []byte, k value.Kind, n int64) []byte {
	step := int64(0)
	if !f.seconds {
		step = minute
	}
	switch k {
	case value.Bool:
		if n != 0 {
			return append(b, f.yes...)
		}
		return append(b, f.no...)
	case value.Date:
		b = value.AppendDate(b, n)
	case value.Time:
		b = value.AppendTime(b, n, step)
	default:
		b = value.AppendDateTime(b, n, f.sep, step)
	}
	if f.zulu {
		b = append(b, 'Z')
	}
	return b
}

// parse reads text in this form; what is in another form is Bad.
func (f *form) parse(c *value.Column, text []byte) {
	if c.Kind == value.Bool {
		switch string(text) {
		case f.yes:
			c.AppendNum(1)
		case f.no:
			c.AppendNum(0)
		default:
			c.AppendState(value.Bad)
		}
		return
	}
	if f.zulu {
		text = bytes.TrimSuffix(text, []byte{'Z'})
	}
	if len(text) == 0 {
		c.AppendState(value.Bad)
		return
	}
	_ = value.Parse(c, value.Type{Kind: c.Kind}, text) // adds Bad where it gives an error
}
