package postgres

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

func scripted() (*script, *schema.Table) {
	t := &schema.Table{Name: "vessel", Locator: "id", Columns: []schema.Column{
		{Name: "id", Declared: "integer", Identity: true, Type: value.Type{Kind: value.Int}},
		{Name: "name", Declared: "text", Collation: `"de-x-icu"`, Type: value.Type{Kind: value.Text}},
		{Name: "gt", Declared: "numeric(8,1)", Type: value.Type{Kind: value.Fixed, Scale: 1}},
		{Name: "seal", Declared: "bytea", Type: value.Type{Kind: value.Bytes}},
		{Name: "active", Declared: "boolean", Type: value.Type{Kind: value.Bool}},
		{Name: "seen", Declared: "timestamp with time zone", Type: value.Type{Kind: value.DateTime, Zoned: true}},
		{Name: "papers", Declared: "json", Type: value.Type{Kind: value.Text, Storage: value.AsJSON}},
	}}
	return &script{&Database{name: "postgres://port@db.example/merrow",
		names: map[*schema.Table]string{t: `public."vessel"`}, types: map[string]string{}}}, t
}

func TestLiterals(t *testing.T) {
	s, table := scripted()
	for _, c := range []struct{ column, cell, literal string }{
		{"name", "it's", "'it''s'"}, {"name", `a\b`, `E'a\\b'`}, {"name", "a'b\n\r\t\x01", `E'a''b\n\r\t\x01'`},
		{"name", ":x \u00e9", "':x \u00e9'"}, {"gt", "12.5", "'12.5'"}, {"id", "-7", "-7"}, {"active", "true", "'true'"},
		{"seen", "2026-02-28 10:00", "'2026-02-28 10:00:00Z'"},
	} {
		kind := table.Column(c.column).Type
		column := value.NewColumn(kind)
		if kind.Kind == value.Text {
			column.AppendBytes([]byte(c.cell))
		} else {
			cell := c.cell
			if kind.Zoned {
				cell += "Z"
			}
			assert.NoError(t, value.Parse(&column, kind, []byte(cell)))
		}
		assert.Equal(t, c.literal, string(s.Literal(table, c.column)(nil, &column, 0)))
	}
	seal := value.NewColumn(value.Type{Kind: value.Bytes})
	seal.AppendBytes([]byte{0, 255})
	seal.AppendState(value.Null)
	assert.Equal(t, `'\x00ff'`, string(s.Literal(table, "seal")(nil, &seal, 0)))
	assert.Equal(t, "NULL", string(s.Literal(table, "seal")(nil, &seal, 1)))
}

func TestStatements(t *testing.T) {
	s, table := scripted()
	joined := engine.Joined{From: "ladle_rows_1 s", On: `public."vessel"."id" = s."by_1"`}
	assert.Equal(t, "psql -X -f load.sql postgres://port@db.example/merrow", s.Run("load.sql"))
	for given, says := range map[string]string{
		"postgres://a/b?sslmode=disable":               "postgres://a/b?sslmode=disable",
		"postgres://a/b?search_path=x,public":          "postgres://a/b?options=-c%20search_path%3Dx%2Cpublic",
		"postgres://a/b?options=-cjit%3Doff&role=port": "postgres://a/b?options=-cjit%3Doff%20-c%20role%3Dport",
		"postgres://a/b?search_path=x%20y":             `postgres://a/b?options=-c%20search_path%3Dx%5C%20y`,
	} {
		assert.Equal(t, says, forClients(given), "psql takes no setting by its own name")
	}
	assert.Equal(t, `CREATE TEMPORARY TABLE room ("n" bigint, "name" text COLLATE "de-x-icu") ON COMMIT DROP`,
		s.Room("room", table, []engine.RoomField{{Name: "n"}, {Name: "name", Of: "name"}}))
	assert.Equal(t, `INSERT INTO public."vessel" ("id", "name") OVERRIDING SYSTEM VALUE`, s.Insert(table, []string{"id", "name"}))
	assert.Equal(t, `INSERT INTO public."vessel" ("name")`, s.Insert(table, []string{"name"}))
	assert.Equal(t, `UPDATE public."vessel" SET "name" = s."new_1" FROM ladle_rows_1 s WHERE public."vessel"."id" = s."by_1"`,
		s.Update(table, []string{"name"}, []string{`s."new_1"`}, joined))
	assert.Equal(t, `DELETE FROM public."vessel" USING ladle_rows_1 s WHERE public."vessel"."id" = s."by_1"`, s.Delete(table,
		joined))
	assert.Equal(t, `(public."vessel"."name" = s."k" OR public."vessel"."name" IS NULL AND s."k" IS NULL)`,
		s.Matches(table, "name", `s."k"`, true))
	assert.Contains(t, s.Same(table, "papers", `s."old_1"`), "jsonb", "blanks within JSON are not kept")
	assert.Contains(t, s.Open([]*schema.Table{table}), `LOCK TABLE public."vessel" IN SHARE ROW EXCLUSIVE MODE;`)

	stop := s.Stop([]engine.Guard{{Unless: "EXISTS (SELECT '$ladle$')", Says: "it's not so"}})
	assert.Equal(t, []string{"DO $ladle0$ BEGIN\n  IF (EXISTS (SELECT '$ladle$')) THEN\n    RAISE EXCEPTION USING MESSAGE = " +
		"'it''s not so';\n  END IF;\nEND $ladle0$;"}, stop, "a tag that stands in no condition")
}
