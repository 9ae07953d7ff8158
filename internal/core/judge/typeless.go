package judge

import (
	"ladle/internal/core/value"
)

// Typeless is what the good lines of a step have for a column that has no type, and of which the ladle file doesn't say
// as what it is stored: it keeps texts.
type Typeless struct {
	Column  int // of the step
	Values  int64
	Numbers int64 // of them, those that are written like numbers
}

// countTypeless counts the values of a batch for columns without a type.
func (s *Step) countTypeless(columns []*value.Column, rowState []int64) {
	if s.Typeless == nil {
		for i, c := range s.Columns {
			if c.Column.Typeless && c.StoreAs == "" && c.Source.Lookup == nil && c.Column.Type.Kind == value.Text {
				s.Typeless = append(s.Typeless, Typeless{Column: i})
			}
		}
	}
	for at := range s.Typeless {
		t := &s.Typeless[at]
		c := columns[t.Column]
		for line, state := range rowState {
			if state < 0 || c.States[line] != value.Given {
				continue
			}
			t.Values++
			if isNumber(c.Bytes(line)) {
				t.Numbers++
			}
		}
	}
}

// isNumber reports whether a text is a number in plain writing, and the only one for it: 007 is a code.
func isNumber(text []byte) bool {
	if len(text) == 0 {
		return false
	}
	d, err := value.ScanNumber(text)
	return err == nil && (len(d.Whole) == 1 || d.Whole[0] != '0')
}
