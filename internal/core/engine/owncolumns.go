package engine

import "ladle/internal/core/schema"

// OwnColumns remembers which columns tables of Ladle's own have, which only gain columns. An engine has it forget them where
// they may be others: when the catalogue is read, and when a transaction begins or is rolled back, which may make tables.
type OwnColumns struct{ of map[string][]string }

// Of returns the columns of t, which ask is asked for as long as there is no such table.
func (o *OwnColumns) Of(t *schema.Table, ask func() ([]string, error)) ([]string, error) {
	if names, known := o.of[t.Name]; known {
		return names, nil
	}
	names, err := ask()
	if err == nil && names != nil {
		if o.of == nil {
			o.of = map[string][]string{}
		}
		o.of[t.Name] = names
	}
	return names, err
}

// Forget has all asked for again.
func (o *OwnColumns) Forget() { o.of = nil }
