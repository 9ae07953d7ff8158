package postgres

import (
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"

	"ladle/internal/core/value"
)

func TestNumericModifiers(t *testing.T) {
	modifier := func(precision, scale int) int { return precision<<16 | scale&0x7ff + 4 }
	cases := []struct {
		modifier int
		want     value.Type
		odd      bool
	}{
		{-1, value.Type{Kind: value.Decimal}, false},
		{modifier(10, 2), value.Type{Kind: value.Fixed, Precision: 10, Scale: 2}, false},
		{modifier(18, 18), value.Type{Kind: value.Fixed, Precision: 18, Scale: 18}, false},
		{modifier(19, 0), value.Type{Kind: value.Decimal, Precision: 19}, false},
		{modifier(3, -2), value.Type{}, true},
		{modifier(2, 4), value.Type{}, true},
	}
	for _, c := range cases {
		got, odd := numeric(c.modifier)
		assert.Equal(t, c.want, got)
		assert.Equal(t, c.odd, odd != "")
	}
}

func TestReadValues(t *testing.T) {
	text := func(s string) []byte { return []byte(s) }
	cases := []struct {
		t     value.Type
		in    []byte
		want  string
		state value.State
	}{
		{value.Type{Kind: value.Text}, nil, "", value.Null},
		{value.Type{Kind: value.Text}, text(""), "", value.Given},
		{value.Type{Kind: value.Text, Length: 5, Storage: value.AsPadded}, text("N1   "), "N1", value.Given},
		{value.Type{Kind: value.Bytes}, text(`\x00ff`), "00ff", value.Given},
		{value.Type{Kind: value.Bool}, text("f"), "false", value.Given},
		{value.Type{Kind: value.Float}, text("1e+20"), "100000000000000000000", value.Given},
		{value.Type{Kind: value.Float}, text("Infinity"), "", value.Bad},
		{value.Type{Kind: value.Decimal}, text("NaN"), "", value.Bad},
		{value.Type{Kind: value.Decimal}, text("1.500"), "1.5", value.Given},
		{value.Type{Kind: value.Date}, text("infinity"), "", value.Bad},
		{value.Type{Kind: value.Date}, text("0044-03-15 BC"), "", value.Bad},
		{value.Type{Kind: value.DateTime, Zoned: true}, text("2026-03-31 08:00:00.5+00"), "2026-03-31 08:00:00.5",
			value.Given},
		{value.Type{Kind: value.Text, Storage: value.AsJSON}, text(`{"b": 1, "a": []}`), `{"a":[],"b":1}`, value.Given},
	}
	for _, c := range cases {
		column := value.NewColumn(c.t)
		read(&column, c.t, c.in)
		assert.Equal(t, c.state, column.States[0], "%s", c.in)
		assert.Equal(t, c.want, column.Text(0), "%s", c.in)
	}
}

func TestArraysAndCopyLinesEscapeWhatTheyMust(t *testing.T) {
	c := value.Column{Kind: value.Text}
	for _, s := range []string{`a"b\c`, "tab\tand\nline", "{,}"} {
		c.AppendBytes([]byte(s))
	}
	c.AppendState(value.Null)
	kind := value.Type{Kind: value.Text}
	assert.Equal(t, "{\"a\\\"b\\\\c\",\"tab\tand\nline\",\"{,}\",NULL}", string(array(&c, kind, 0, 4)))
	batch := &value.Batch{Columns: []value.Column{c, c}}
	assert.Equal(t, "a\"b\\\\c\ta\"b\\\\c\ntab\\tand\\nline\ttab\\tand\\nline\n{,}\t{,}\n\\N\t\\N\n",
		string(lines(batch, []value.Type{kind, kind}, 0, 4)))
}

func TestTheLineOfAnErrorIsFound(t *testing.T) {
	cases := []struct {
		code, where string
		line        int
		named       bool
	}{
		{"22P02", `COPY x, line 7, column v: "a"`, 6, true},
		{"23514", `COPY port_call, line 1: "..."`, 0, true},
		{"23503", `COPY x, line 7`, 0, false},
		{"P0001", "PL/pgSQL function f() line 3 at RAISE", 0, false},
	}
	for _, c := range cases {
		line, named := lineOf(&pgconn.PgError{Code: c.code, Where: c.where})
		assert.Equal(t, c.named, named, c.where)
		assert.Equal(t, c.line, line, c.where)
	}
}
