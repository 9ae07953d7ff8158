package engine

import "ladle/internal/core/value"

// equalRows is the number of whole rows that are removed at once: each time, the whole table is read.
const equalRows = 16 * BatchRows

// Gathered is each, which gives rows in batches, with fewer and larger ones.
func Gathered(each func(take func(*value.Batch) error) error) func(take func(*value.Batch) error) error {
	return func(take func(*value.Batch) error) error {
		all := &value.Batch{}
		err := each(func(b *value.Batch) error {
			if all.Columns == nil {
				for _, c := range b.Columns {
					all.Columns = append(all.Columns, value.Column{Kind: c.Kind, Scale: c.Scale})
				}
			}
			for c := range b.Columns {
				for row := range b.Len() {
					all.Columns[c].AppendFrom(&b.Columns[c], row)
				}
			}
			if all.Len() < equalRows {
				return nil
			}
			defer all.Reset()
			return take(all)
		})
		if err != nil || all.Len() == 0 {
			return err
		}
		return take(all)
	}
}
