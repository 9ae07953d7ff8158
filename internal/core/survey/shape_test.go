package survey

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestShapesAreSeen(t *testing.T) {
	for _, c := range []struct {
		name, content string
		want          []Shape
	}{
		{"months", "Berth,Jan,Feb,March,Note\nN1,1,2,3,x\nN2,4,5,6,y\n", []Shape{{Key: ColumnsToRows, Columns: []string{"Jan",
			"Feb", "March"}}}},
		{"years in words", "Berth,tons 2023,tons 2024,tons 2025\nN1,1,2,3\n",
			[]Shape{{Key: ColumnsToRows, Columns: []string{"tons 2023", "tons 2024", "tons 2025"}}}},
		{"months with numbers", "Berth,2026-01,2026-02,2026-03\nN1,1,2,3\n",
			[]Shape{{Key: ColumnsToRows, Columns: []string{"2026-01", "2026-02", "2026-03"}}}},
		{"two are too few", "Berth,2023,2024\nN1,1,2\n", nil},
		{"others than each other", "Berth,tons 2023,dues 2024,days 2025\nN1,1,2,3\n", nil},
		{"lists", "Vessel,Cargo\nTern,Wheat; Salt\nHeron,Coal; Timber; Fish\nOtter,Salt;Coal\nWren,Wheat\n",
			[]Shape{{Key: PartsToRows, Columns: []string{"Cargo"}, Between: ";", Cells: 3, Of: 4}}},
		{"notes are no lists",
			"Vessel,Note\nTern,The pilot came late; the tide had turned by then and we waited for it\nHeron,none\n", nil},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, of(t, c.content).Inputs[0].Shapes) })
	}
}
