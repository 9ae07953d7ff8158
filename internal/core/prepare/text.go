package prepare

import (
	"bufio"
	"bytes"
	"io"

	"ladle/internal/core/formula"
	"ladle/internal/core/value"
)

// text writes rows as CSV (RFC 4180) in UTF-8.
type text struct {
	out     *bufio.Writer
	guarded *int64
	line    []byte
}

func newText(to io.Writer, names []string, guarded *int64) (*text, error) {
	t := &text{out: bufio.NewWriterSize(to, 1<<20), guarded: guarded}
	header := make([]cell, len(names))
	for i, n := range names {
		header[i] = cell{[]byte(n), formula.Text}
	}
	err := t.row(header)
	*guarded = 0
	return t, err
}

func (t *text) row(cells []cell) error {
	line := t.line[:0]
	for i, c := range cells {
		if i > 0 {
			line = append(line, ',')
		}
		guard := c.form == formula.Text && value.Runs(c.text)
		if guard {
			*t.guarded++
		}
		if len(c.text) > 0 && !bytes.ContainsAny(c.text, "\",\r\n") && c.text[0] != ' ' &&
			c.text[len(c.text)-1] != ' ' {
			if guard {
				line = append(line, '\'')
			}
			line = append(line, c.text...)
			continue
		}
		line = t.quoted(line, c.text, guard, len(cells) == 1)
	}
	t.line = append(line, '\r', '\n')
	_, err := t.out.Write(t.line)
	return err
}

// quoted adds a cell in quotes, unless it is blank and not alone.
func (t *text) quoted(line, cell []byte, guard, alone bool) []byte {
	if len(cell) == 0 && !alone {
		return line
	}
	line = append(line, '"')
	if guard {
		line = append(line, '\'')
	}
	line = append(line, bytes.ReplaceAll(cell, []byte(`"`), []byte(`""`))...)
	return append(line, '"')
}

func (t *text) finish() error { return t.out.Flush() }
