package alter

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/dictionary"
	"ladle/internal/core/engine/sqlite"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// TestSketchesOfOtherDatabases: whatever a column of a server is, SQLite makes one of it that holds the same values.
func TestSketchesOfOtherDatabases(t *testing.T) {
	columns := []struct {
		declared, collation string
		kind                value.Kind
		compares            string
	}{
		{"timestamp(0) without time zone", "", value.DateTime, ""},
		{"timestamp with time zone", "", value.DateTime, ""},
		{"time without time zone", "", value.Time, ""},
		{"date", "", value.Date, ""},
		{"numeric(10,2)", "", value.Fixed, ""},
		{"decimal(10, 2) unsigned", "", value.Fixed, ""},
		{"int(11) unsigned", "", value.Int, ""},
		{"bigint", "", value.Int, ""},
		{"double precision", "", value.Float, ""},
		{"boolean", "", value.Bool, ""},
		{"character varying(20)", "", value.Text, ""},
		{"varchar(20)", "utf8mb4_general_ci", value.Text, "NOCASE"},
		{"varchar(20)", "utf8mb4_bin", value.Text, ""},
		{"citext", "", value.Text, "NOCASE"},
		{"enum('port','starboard')", "", value.Text, ""},
		{`"odd type"`, "", value.Text, ""},
	}
	table := dictionary.Table{}
	table.Name, table.Primary = "vessel", []string{"id"}
	table.Form, table.Checks = "partitioned", []schema.Check{{Name: "c", Says: "(x ~ 'y')"}}
	table.Columns = []schema.ColumnOutline{{Name: "id", Declared: "int(11)", Counted: true, Required: true}}
	for i, c := range columns {
		table.Columns = append(table.Columns, schema.ColumnOutline{Name: string(rune('a' + i)), Declared: c.declared,
			Collation: c.collation, Default: "nextval('other'::regclass)", Required: i%2 == 0})
	}
	table.Columns = append(table.Columns, schema.ColumnOutline{Name: "sum", Declared: "int", Computed: true,
		Default: "(a + b) STORED"})
	scratch, err := sqlite.NewScratch(Sketch([]dictionary.Table{table}))
	require.NoError(t, err, Sketch([]dictionary.Table{table}))
	defer scratch.Close()
	s, err := scratch.Schema(t.Context())
	require.NoError(t, err)
	made := s.Table("vessel")
	require.NotNil(t, made)
	assert.True(t, made.Column("id").Identity)
	assert.Nil(t, made.Column("sum"), "what the database computes is fed by nobody")
	for i, c := range columns {
		column := made.Column(string(rune('a' + i)))
		assert.Equal(t, c.kind, column.Type.Kind, c.declared)
		assert.Equal(t, i%2 == 0, column.Required, c.declared)
		assert.True(t, column.Defaulted, c.declared)
		if c.compares != "" {
			assert.Equal(t, c.compares, column.Collation, c.declared)
		}
	}
	assert.Equal(t, "int(11)", table.Columns[0].Declared, "the dictionary stays as it is")
}
