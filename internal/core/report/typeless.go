package report

import "ladle/internal/core/judge"

// Typeless is a column without a type that keeps texts although half of its values or more are numbers.
type Typeless struct {
	Column  string `json:"column"`
	Values  int64  `json:"values"`
	Numbers int64  `json:"numbers"`
}

// typeless lists the columns of a step in which numbers are kept as texts.
func typeless(s *judge.Step) []Typeless {
	all := []Typeless{}
	for _, t := range s.Typeless {
		if t.Numbers > 0 && 2*t.Numbers >= t.Values {
			all = append(all, Typeless{s.Columns[t.Column].Column.Name, t.Values, t.Numbers})
		}
	}
	return all
}
