package clean

import "ladle/internal/core/source"

// Cells cleans single records by a recipe, without spooling them: for measuring.
type Cells struct{ cook *cook }

// NewCells makes Cells for all columns of a recipe.
func (r *Recipe) NewCells() *Cells {
	all := make([]int, len(r.columns))
	for i := range all {
		all[i] = i
	}
	return &Cells{r.newCook(r.closure(all), 0)}
}

// Clean cleans the cells of a record, and tells how many of them are bad.
func (c *Cells) Clean(r *source.Record) (bad int) {
	c.cook.row(r)
	for i := range c.cook.cells {
		if c.cook.cells[i].why != "" {
			bad++
		}
	}
	return bad
}
