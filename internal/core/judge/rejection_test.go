package judge

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"ladle/internal/core/engine"
	"ladle/internal/core/plan"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// TestReasonsOfTheDatabaseNameTheValues: of the columns that it speaks of, by themselves or by the name of a
// constraint.
func TestReasonsOfTheDatabaseNameTheValues(t *testing.T) {
	whole, words := value.Type{Kind: value.Int}, value.Type{Kind: value.Text}
	table := &schema.Table{Name: "berth", Columns: []schema.Column{{Name: "code", Type: words},
		{Name: "depth_m", Type: whole}, {Name: "quay_id", Type: whole}, {Name: "note", Type: words}},
		Checks:    []schema.Check{{Name: "deep_enough", Says: "CHECK (depth_m > 0)"}, {Says: "CHECK (note <> '')", Condition: "(note <> '')"}},
		Keys:      []schema.Key{{Name: "berth_code_key", Columns: []string{"code", "quay_id"}}},
		Relations: []schema.Relation{{Name: "at_quay", Columns: []string{"quay_id"}, Parent: "quay"}}}
	s := &Step{Step: &plan.Step{Table: table}}
	columns := make([]*value.Column, len(table.Columns))
	for i := range table.Columns {
		s.Columns = append(s.Columns, plan.Assignment{Column: &table.Columns[i]})
		c := value.NewColumn(table.Columns[i].Type)
		columns[i] = &c
	}
	columns[0].AppendBytes([]byte("N1"))
	columns[1].AppendNum(-3)
	columns[2].AppendNew(0)
	columns[3].AppendState(value.Null)
	for why, want := range map[string]string{
		engine.CheckFails("deep_enough"):                                  "depth_m is -3",
		`duplicate key value violates unique constraint "berth_code_key"`: "code is N1, quay_id is new",
		"UNIQUE constraint failed: berth.code":                            "code is N1",
		engine.CheckFails("(note <> '')"):                                 "note is NULL",
		`violates foreign key constraint "at_quay"`:                       "quay_id is new",
		"the tide is wrong (encoded in notes)":                            "",
		"Duplicate entry 'N1' for key 'berth_code_key', depth_m too small or so": "code is N1, depth_m is -3, " +
			"quay_id is new",
	} {
		assert.Equal(t, want, s.mentioned(why, columns, 0).String(), why)
	}
	for why, want := range map[string]string{
		engine.CheckFails("deep_enough"):  "CHECK deep_enough (depth_m > 0) does not hold: depth_m is -3",
		engine.CheckFails("(note <> '')"): "CHECK (note <> '') does not hold: note is NULL",
		engine.CheckFails("tidal"):        "the database rejects the row: CHECK tidal does not hold",
		"the tide is wrong":               "the database rejects the row: the tide is wrong",
	} {
		assert.Equal(t, want, s.rejected(why, columns, 0).Words(), why)
	}
}
