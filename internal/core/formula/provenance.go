package formula

import (
	"slices"

	"github.com/expr-lang/expr/ast"
)

// Provenance is what formulas can ask of where a row comes from.
type Provenance int

const (
	FileName   Provenance = iota // the name of the file, without its folder
	SheetName                    // the name of the sheet; blank for a text
	TableName                    // the table of an input that is one, or several
	LineNumber                   // the line, or row of the sheet
	Today                        // the day on which the run began
	LoadedBy                     // the user of the database
	Provenances
)

// question is a function without arguments, and the kind of what it gives.
type question struct {
	name string
	kind Kind
}

var asks = [Provenances]question{{"file_name", Text}, {"sheet_name", Text}, {"table_name", Text}, {"line_number",
	Number}, {"today", Moment},
	{"loaded_by", Text}}

// askNames are the names of asks.
func askNames() (names []string) {
	for _, a := range asks {
		names = append(names, a.name)
	}
	return names
}

// Asks reports whether the formula asks for something of where a row comes from.
func (f *Formula) Asks(p Provenance) bool { return slices.Contains(f.asks, p) }

// SetProvenance sets what formulas are told.
func (m *Machine) SetProvenance(p Provenance, v *Value) { m.asked[p] = v }

// ask is a node for a function without arguments; an empty one for another one.
func (b *builder) ask(n *ast.CallNode, name string) (node, Kind, error) {
	at := slices.IndexFunc(asks[:], func(q question) bool { return q.name == name })
	if at < 0 {
		return node{}, 0, nil
	}
	if len(n.Arguments) > 0 {
		return node{}, 0, b.wrong(n, name+"() takes no arguments", "write "+name+"()")
	}
	b.formula.asks = append(b.formula.asks, Provenance(at))
	return node{func(m *Machine) (*Value, error) { return told(m.asked[at]) },
		func(m *Block) *Vector { return m.told(Provenance(at), asks[at].kind) }}, asks[at].kind, nil
}
