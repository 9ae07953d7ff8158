package mysql

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

func scripted(compound bool) (*script, *schema.Table) {
	t := &schema.Table{Name: "vessel", Locator: "id", Columns: []schema.Column{
		{Name: "id", Declared: "int(11)", Identity: true, Type: value.Type{Kind: value.Int}},
		{Name: "name", Declared: "varchar(20)", Collation: "utf8mb4_general_ci", Type: value.Type{Kind: value.Text}},
		{Name: "gt", Declared: "decimal(8,1)", Type: value.Type{Kind: value.Fixed, Scale: 1}},
		{Name: "seal", Declared: "varbinary(4)", Type: value.Type{Kind: value.Bytes}},
		{Name: "active", Declared: "tinyint(1)", Type: value.Type{Kind: value.Bool}},
		{Name: "built", Declared: "date", Type: value.Type{Kind: value.Date}},
	}}
	return &script{&Database{name: "mysql://port@db.example:3307/merrow", schema: "merrow", compound: compound,
		numbers: map[*schema.Table]int{t: 3}}}, t
}

func TestLiterals(t *testing.T) {
	s, table := scripted(true)
	for _, c := range []struct{ column, cell, literal string }{
		{"name", "it's", "'it''s'"}, {"name", `a\b`, `'a\\b'`}, {"name", "a\nb\r\x00\x1a", `'a\nb\r\0\Z'`},
		{"name", "Smörgås 🚢", "'Smörgås 🚢'"}, {"gt", "12.5", "12.5"}, {"gt", "-3", "-3.0"}, {"id", "7", "7"},
		{"active", "true", "1"}, {"built", "2026-02-28", "'2026-02-28'"},
	} {
		kind := table.Column(c.column).Type
		column := value.NewColumn(kind)
		if kind.Kind == value.Text {
			column.AppendBytes([]byte(c.cell))
		} else {
			assert.NoError(t, value.Parse(&column, kind, []byte(c.cell)))
		}
		assert.Equal(t, c.literal, string(s.Literal(table, c.column)(nil, &column, 0)))
	}
	seal := value.NewColumn(value.Type{Kind: value.Bytes})
	seal.AppendBytes([]byte{0, 255})
	seal.AppendState(value.Null)
	assert.Equal(t, "X'00ff'", string(s.Literal(table, "seal")(nil, &seal, 0)))
	assert.Equal(t, "NULL", string(s.Literal(table, "seal")(nil, &seal, 1)))
}

func TestStatements(t *testing.T) {
	s, table := scripted(true)
	joined := engine.Joined{From: "ladle_rows_1 s", On: "`vessel`.`id` = s.`by_1`"}
	assert.Equal(t, "mariadb -h db.example -P 3307 -u port -p merrow < 'my load.sql'", s.Run("my load.sql"))
	assert.Equal(t, "CREATE TEMPORARY TABLE room (`n` BIGINT, `name` varchar(20) COLLATE utf8mb4_general_ci NULL)",
		s.Room("room", table, []engine.RoomField{{Name: "n"}, {Name: "name", Of: "name"}}))
	assert.Equal(t, "UPDATE ladle_rows_1 s STRAIGHT_JOIN `vessel` ON `vessel`.`id` = s.`by_1` SET `vessel`.`name` = s.`new_1`",
		s.Update(table, []string{"name"}, []string{"s.`new_1`"}, joined))
	assert.Equal(t, "DELETE `vessel` FROM ladle_rows_1 s STRAIGHT_JOIN `vessel` ON `vessel`.`id` = s.`by_1`", s.Delete(table,
		joined))
	assert.Equal(t, "`vessel`.`name` <=> s.`k`", s.Matches(table, "name", "s.`k`", true))
	assert.Equal(t, "`vessel`.`name` = s.`k`", s.Matches(table, "name", "s.`k`", false))
	assert.Contains(t, s.Open([]*schema.Table{table})[4], "`vessel` WRITE, `vessel` AS ladle_3_0 WRITE")
	assert.Equal(t, "ladle_3_0", s.Other(table))
	assert.True(t, s.Enforces())

	guards := []engine.Guard{{Unless: "1 = 2", Says: "it's not so"}}
	assert.Equal(t, []string{"DELIMITER //", "IF 1 = 2 THEN\n  SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'it''s not so';\nEND IF//",
		"DELIMITER ;"}, s.Stop(guards))
	without, _ := scripted(false)
	assert.Equal(t, "mysql -h db.example -P 3307 -u port -p merrow < load.sql", without.Run("load.sql"))
	assert.Nil(t, without.DeleteEqual(table, "room", []string{"name"}), "nor has it a loop")
	assert.Contains(t, s.DeleteEqual(table, "room", []string{"name"})[1], "FOR r IN (SELECT `name` FROM room) DO")
	stops := without.Stop(guards)
	assert.Equal(t, "INSERT INTO ladle_stop SELECT says FROM (SELECT 'it''s not so' AS says UNION ALL SELECT 'it''s not so') s "+
		"WHERE 1 = 2;", stops[1], "MySQL has no compound statements outside of routines: a duplicate key stops it")
}
