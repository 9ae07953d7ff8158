package prepare

import (
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/source"
)

// Rename gives a column another name in what is written.
type Rename struct{ From, To string }

// selection is which columns of an input are written, under which names.
type selection struct {
	fields []int
	names  []string
}

// selected finds the columns of an input that are written: all of them, or those that are asked for, in their order.
func (o Options) selected(all []string) (s selection, err error) {
	for i, name := range all {
		s.fields, s.names = append(s.fields, i), append(s.names, name)
	}
	if o.Columns != nil {
		s = selection{}
		for _, name := range o.Columns {
			if i := source.IndexOfName(all, name); i >= 0 {
				s.fields, s.names = append(s.fields, i), append(s.names, all[i])
			}
		}
	}
	for _, r := range o.Renames {
		if i := source.IndexOfName(s.names, r.From); i >= 0 {
			s.names[i] = r.To
		}
	}
	for i, name := range s.names {
		if source.IndexOfName(s.names[:i], name) >= 0 {
			return s, fault.New(fault.Wrong, fmt.Sprintf("two columns would be called %q", name),
				"give one of them another name")
		}
	}
	return s, nil
}

// selectAll finds, for each input, the columns that are written. A column that no input has is an error, and so is an
// input that has none of them.
func (o Options) selectAll(inputs []*Input) ([]selection, error) {
	var made []selection
	var names []string
	for _, in := range inputs {
		s, err := o.selected(in.Recipe.Names())
		if err != nil {
			return nil, source.OfInput(err, in.Name)
		}
		if len(s.fields) == 0 {
			return nil, fault.New(fault.Wrong, fmt.Sprintf("the input %s has none of the columns that are to be "+
				"written", in.Name), "its columns are: "+strings.Join(in.Recipe.Names(), ", "))
		}
		made, names = append(made, s), append(names, in.Recipe.Names()...)
	}
	asked := slices.Clone(o.Columns)
	for _, r := range o.Renames {
		asked = append(asked, r.From)
	}
	for _, name := range asked {
		if source.IndexOfName(names, name) < 0 {
			return nil, fault.New(fault.Wrong, fmt.Sprintf("there is no column %q to write", name),
				fault.DidYouMean(name, names))
		}
	}
	return made, nil
}
