package plan

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/clean"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// harbour is a database of three tables that need each other.
func harbour() *schema.Schema {
	whole, text := value.Type{Kind: value.Int}, value.Type{Kind: value.Text}
	berth := &schema.Table{Name: "berth", Columns: []schema.Column{{Name: "id", Type: whole, Required: true,
		Identity: true}, {Name: "code", Type: text, Required: true},
		{Name: "quay", Type: text, Required: true}}, Keys: []schema.Key{{Columns: []string{"id"}, Primary: true},
		{Columns: []string{"code"}}}}
	fixed := func(scale int) value.Type { return value.Type{Kind: value.Fixed, Precision: 6, Scale: scale} }
	tariff := &schema.Table{Name: "tariff", Columns: []schema.Column{{Name: "no", Declared: "NUMERIC(6,1)", Type: fixed(1)}, {Name: "code",
		Type: text}}, Keys: []schema.Key{{Columns: []string{"no"}, Primary: true}, {Columns: []string{"code"}}}}
	fee := &schema.Table{Name: "fee", Columns: []schema.Column{{Name: "finer", Declared: "NUMERIC(6,3)", Type: fixed(3)},
		{Name: "wide", Declared: "NUMERIC", Type: value.Type{Kind: value.Decimal}}, {Name: "alike", Type: fixed(1)}}}
	vessel := &schema.Table{Name: "vessel", Columns: []schema.Column{{Name: "id", Type: whole, Identity: true},
		{Name: "reg_no", Type: text, Required: true},
		{Name: "imo", Type: text}, {Name: "home_id", Type: whole}, {Name: "twin_id", Type: whole},
		{Name: "label", Type: text, Generated: true}},
		Keys: []schema.Key{{Columns: []string{"id"}, Primary: true}, {Columns: []string{"reg_no"}},
			{Columns: []string{"imo"}}}}
	vessel.Relations = []schema.Relation{{Columns: []string{"home_id"}, Parent: "berth", ParentColumns: []string{"id"},
		ParentTable: berth},
		{Columns: []string{"twin_id"}, Parent: "vessel", ParentColumns: []string{"id"}, ParentTable: vessel}}
	call := &schema.Table{Name: "call", Columns: []schema.Column{{Name: "vessel_id", Type: whole, Required: true},
		{Name: "day", Type: value.Type{Kind: value.Date}, Required: true},
		{Name: "berth_id", Type: whole}}, Keys: []schema.Key{{Columns: []string{"vessel_id", "day"}, Primary: true}}}
	call.Relations = []schema.Relation{{Columns: []string{"vessel_id"}, Parent: "vessel", ParentColumns: []string{"id"},
		ParentTable: vessel}}
	stay := &schema.Table{Name: "stay", Columns: call.Columns, Keys: []schema.Key{{Columns: []string{"day"}}},
		Relations: []schema.Relation{{Columns: []string{"vessel_id", "day"}, Parent: "call",
			ParentColumns: []string{"vessel_id", "day"}, ParentTable: call}}}
	pair := &schema.Table{Name: "pair", Locator: "id", Columns: []schema.Column{{Name: "id", Type: whole,
		Identity: true}, {Name: "code", Type: text}, {Name: "other_id", Type: whole, Required: true},
		{Name: "vessel_id", Type: whole, Defaulted: true}}, Keys: []schema.Key{{Columns: []string{"id"}, Primary: true},
		{Columns: []string{"code"}}}}
	pair.Relations = []schema.Relation{{Columns: []string{"other_id"}, Parent: "pair", ParentColumns: []string{"id"},
		ParentTable: pair}}
	vessel.Locator, berth.Locator = "id", "id"
	odd := &schema.Table{Name: "old", Odd: "it is of another age"}
	entry := &schema.Table{Name: "entry", Columns: []schema.Column{{Name: "text", Type: text}, {Name: "mark", Type: text}}}
	list := &schema.Table{Name: "list", Columns: entry.Columns, Keys: []schema.Key{{Columns: []string{"text"}}}}
	remark := &schema.Table{Name: "remark", Columns: entry.Columns, Relations: []schema.Relation{{Columns: []string{"mark"},
		Parent: "list", ParentColumns: []string{"text"}, ParentTable: list}}}
	return &schema.Schema{Database: "db", Tables: []*schema.Table{berth, vessel, call, stay, pair, odd, entry, list, remark,
		tariff, fee}}
}

func resolve(t *testing.T, tables string) (*Plan, error) {
	f, err := ladlefile.Decode("f", []byte("ladle: 1\ninputs: {in: {file: in.csv}}\ntables:\n"+tables))
	require.NoError(t, err)
	return Resolve(f, map[string]source.Header{"in": {Names: []string{"Reg. No.", "IMO", "Day", "Berth"}}}, harbour())
}

func TestStepsStandBehindWhatTheyNeed(t *testing.T) {
	plan, err := resolve(t, `
  stay: {from: in, columns: {vessel_id: {constant: 7}, day: Day}}
  call: {from: in, columns: {vessel_id: {from: reg.  no., lookup: vessel.reg_no}, day: Day, berth_id: {from: Berth, lookup: berth.code}}}
  vessel: {from: in, key: reg_no, columns: {reg_no: Reg. No., home_id: {from: Berth, lookup: berth.code}}}
  berth: {from: in, columns: {code: Berth, quay: {constant: North}}}
`)
	require.NoError(t, err)
	var order, why []string
	for _, s := range plan.Steps {
		order = append(order, s.Name+" by "+strings.Join(s.KeyNames(), ", "))
		for _, a := range s.After {
			why = append(why, fmt.Sprintf("after %s (%s)", a.Step, a.Why))
		}
	}
	assert.Equal(t, []string{"berth by code", "vessel by reg_no", "call by vessel_id, day", "stay by day"}, order)
	assert.Equal(t, []string{"after berth (vessel.home_id looks up berth.code)",
		"after vessel (call.vessel_id looks up vessel.reg_no)",
		"after berth (call.berth_id looks up berth.code)", "after call (stay.vessel_id, day refers to it)"}, why)
	assert.Equal(t, []clean.Column{{Of: 2, Type: value.Type{Kind: value.Date}},
		{Of: 0, Type: value.Type{Kind: value.Text}},
		{Of: 3, Type: value.Type{Kind: value.Text}}}, plan.Feeds[0].Columns,
		"a column is cleaned once for each type that it is used as")
}

func TestResolveTellsWhatDoesNotFit(t *testing.T) {
	cases := []struct{ name, tables, want string }{
		{"a table that can't be used", "  old: {from: in, columns: {a: Day}}\n",
			"table old can't be used: it is of another age"},
		{"an unknown input", "  call: {from: inn, columns: {day: Day}}\n",
			`there is no input "inn"; did you mean "in"?`},
		{"a computed column", "  vessel: {from: in, columns: {reg_no: IMO, label: Day}}\n",
			"vessel.label is computed by the database; delete it here"},
		{"several keys to choose from", "  vessel: {from: in, columns: {reg_no: Reg. No., imo: IMO}}\n",
			"block vessel needs a key: vessel has several unique keys, [reg_no] and [imo]"},
		{"a key that isn't fed", "  vessel: {from: in, key: [reg_no, imo], columns: {reg_no: Reg. No.}}\n",
			`key: names "imo", which this block doesn't fill`},
		{"already_there without a key", "  vessel: {from: in, key: none, already_there: set_aside, columns: {reg_no: " +
			"Reg. No.}}\n", "without a key, no row is recognised"},
		{"a table that needs itself first", "  pair: {from: in, key: code, columns: {code: IMO, other_id: {from: " +
			"Reg. No., lookup: pair.code}}}\n",
			"circular reference: pair -> pair\n    pair -> pair: pair.other_id looks up pair.code, and other_id is " +
				"NOT NULL"},
		{"nothing to update", "  vessel: {from: in, already_there: update, columns: {reg_no: IMO}}\n",
			"block vessel has nothing to update"},
		{"an update that can't find its row", "  call: {from: in, key: day, already_there: update, columns: " +
			"{vessel_id: {constant: 7}, day: Day}}\n",
			"rows of call can't be updated by this key"},
		{"clearing without an update", "  vessel: {from: in, key: reg_no, blank: clear, columns: {reg_no: IMO, imo: " +
			"IMO}}\n", "blank: clear has no effect without updates"},
		{"removing without a scope", "  a: {into: vessel, from: in, key: reg_no, gone_from_file: {remove: yes, " +
			"at_most: 5}, columns: {reg_no: IMO}}\n  b: {into: vessel, from: in, key: reg_no, columns: {reg_no: " +
			"Day}}\n",
			"gone_from_file: in block a would also remove rows of block b; add where_sql:"},
		{"marking what is fed and updated", "  vessel: {from: in, key: reg_no, already_there: update, " +
			"gone_from_file: {mark: " +
			"{imo: x}, mark_back: {imo: y}, at_most: 5}, columns: {reg_no: Reg. No., imo: IMO}}\n",
			"mark_back: and the file both say what imo becomes"},
		{"marking what is fed and filled where it is blank", "  vessel: {from: in, key: reg_no, gone_from_file: " +
			"{mark: {imo: " +
			"x}, mark_back: {imo: y}, at_most: 5}, columns: {reg_no: Reg. No., imo: {from: IMO, on_update: " +
			"fill_blanks}}}\n",
			"mark: and fill_blanks both change imo"},
		{"marking back what is not marked", "  vessel: {from: in, key: reg_no, gone_from_file: {mark: {imo: x}, " +
			"mark_back: " +
			"{imo: y, home_id: 1}, at_most: 5}, columns: {reg_no: Reg. No.}}\n",
			`mark_back: names "home_id", which mark: doesn't`},
		{"marking an unknown column", "  vessel: {from: in, key: reg_no, gone_from_file: {mark: {imi: x}, at_most: " +
			"5}, " +
			"columns: {reg_no: Reg. No.}}\n", `table vessel has no column "imi"`},
		{"marking a computed column", "  vessel: {from: in, key: reg_no, gone_from_file: {mark: {label: x}, " +
			"mark_back: {label: " +
			"y}, at_most: 5}, columns: {reg_no: Reg. No.}}\n", "vessel.label is computed by the database"},
		{"marking by a formula on a line", "  vessel: {from: in, key: reg_no, gone_from_file: {mark: {imo: {formula: " +
			"line_number()}}, mark_back: {imo: null}, at_most: 5}, columns: {reg_no: Reg. No.}}\n",
			`"line_number()" asks for the place of a line, and a row that is gone has none`},
		{"marking by a column of the file", "  vessel: {from: in, key: reg_no, gone_from_file: {mark: {imo: " +
			"{formula: berth_no}}, " +
			"mark_back: {imo: null}, at_most: 5}, columns: {reg_no: Reg. No.}}\n", `there is no column "berth_no"`},
		{"a mark that is no value of its column", "  vessel: {from: in, key: reg_no, gone_from_file: {mark: " +
			"{home_id: north}, " +
			"mark_back: {home_id: null}, at_most: 5}, columns: {reg_no: Reg. No.}}\n", `the constant "north" is not a number`},
		{"a mark that another block changes", "  a: {into: vessel, from: in, key: reg_no, gone_from_file: {mark: " +
			"{imo: x}, " +
			"mark_back: {imo: y}, at_most: 5, where_sql: 1 = 1}, columns: {reg_no: IMO}}\n  b: {into: vessel, from: " +
			"in, key: " +
			"reg_no, already_there: update, columns: {reg_no: Day, imo: IMO}}\n", "mark: and block b both change " +
			"vessel.imo"},
		{"all columns as the key, and an update", "  vessel: {from: in, key: all_columns, columns: {reg_no: {from: " +
			"IMO, " +
			"on_update: update}}}\n", "on_update: has no effect on reg_no: all columns are the key"},
		{"all columns as the key, and all of them changed", "  vessel: {from: in, key: all_columns, " +
			"changed_by_database: " +
			"reg_no, columns: {reg_no: IMO}}\n", "the database may change all columns that this block fills"},
		{"marking what nothing tells apart", "  entry: {from: in, key: all_columns, gone_from_file: {mark: {mark: gone}, " +
			"mark_back: {mark: back}, at_most: 5}, columns: {text: Day}}\n", "a row that is gone can't be marked without " +
			"marking its equals: entry has neither an auto-numbered id nor a unique key that is NOT NULL"},
		{"removing what nothing tells apart, and others refer to", "  list: {from: in, key: all_columns, gone_from_file: " +
			"{remove: yes, at_most: 5}, columns: {text: IMO}}\n", "rows of remark refer to some of these rows"},
		{"an order by what isn't filled", "  vessel: {from: in, key: reg_no, in_order_of: imo, columns: {reg_no: " +
			"IMO}}\n",
			`in_order_of: names "imo", which this block doesn't fill`},
		{"an order of rows that aren't added", "  vessel: {from: in, key: reg_no, not_there: leave_out, " +
			"already_there: update, " +
			"in_order_of: imo, columns: {reg_no: Reg. No., imo: IMO}}\n", "in_order_of: has no effect here"},
		{"removing without a key", "  vessel: {from: in, key: none, gone_from_file: {remove: yes, at_most: 5}, " +
			"columns: {reg_no: Reg. No.}}\n", "without a key, no row is recognised"},
		{"an old id of no block", "  call: {from: in, columns: {day: Day, vessel_id: {lookup: {table: vessel, " +
			"by_old_id: {there: IMO, here: IMO}}}}}\n", "no block fills vessel, so no row of it has an old id"},
		{"an old id of an unknown block", "  call: {from: in, columns: {day: Day, vessel_id: {lookup: {block: vesel, " +
			"by_old_id: {there: IMO, here: IMO}}}}}\n", `there is no block "vesel"`},
		{"an old id of an unknown column", "  vessel: {from: in, key: reg_no, columns: {reg_no: IMO}}\n  call: " +
			"{from: in, columns: {day: Day, vessel_id: {lookup: {table: vessel, by_old_id: {there: Old, here: " +
			"IMO}}}}}\n",
			`vessel (input in) has no single column "Old"`},
		{"add where a lookup stands inside", "  call: {from: in, columns: {day: Day, vessel_id: {lookup: {table: " +
			"vessel, by: {home_id: {from: Berth, lookup: berth.code}}}, not_found: add}}}\n",
			"not_found: add is not possible: it contains another lookup"},
		{"add where more is needed", "  vessel: {from: in, key: reg_no, columns: {reg_no: Reg. No., home_id: {from: " +
			"Berth, lookup: berth.code, not_found: add}}}\n",
			"a new row of berth also needs quay"},
		{"add where the database doesn't count", "  vessel: {from: in, key: reg_no, columns: {reg_no: Reg. No., imo: " +
			"{from: Day, lookup: call.day, not_found: add}}}\n",
			"vessel.imo has no declared relation, and call has no primary key of one column"},
		{"kinds that can't be the same", "  vessel: {from: in, key: reg_no, columns: {reg_no: Reg. No., imo: {from: " +
			"Day, lookup: berth.code}}}\n",
			"vessel.imo is a text, but berth.id, which it refers to, is a whole number"},
		{"numbers of other digits", "  fee: {from: in, columns: {alike: {from: Day, lookup: tariff.code}, finer: {from: Day, lookup: " +
			"tariff.code}}}\n", "fee.finer is declared NUMERIC(6,3), but tariff.no, which it refers to, is declared NUMERIC(6,1)"},
		{"numbers of any digits", "  fee: {from: in, columns: {wide: {from: Day, lookup: tariff.code}}}\n",
			"fee.wide is declared NUMERIC, but tariff.no, which it refers to, is declared NUMERIC(6,1)"},
		{"a constant that doesn't fit", "  call: {from: in, columns: {vessel_id: {from: IMO, lookup: vessel.imo}, " +
			"day: {constant: soon}}}\n", `the constant "soon" is not a date`},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			_, err := resolve(t, c.tables)
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.want)
			assert.Regexp(t, `(?m)^f:\d+:\d+: `, err.Error(), "every problem has its place")
		})
	}
}

// TestCirclesAreBrokenWhereAColumnMayBeBlank: what points in the circle is filled by a step of its own.
func TestCirclesAreBrokenWhereAColumnMayBeBlank(t *testing.T) {
	cases := []struct {
		name, tables string
		order        []string
	}{
		{"two tables", "  vessel: {from: in, key: reg_no, columns: {home_id: {from: Berth, lookup: berth.code}, " +
			"reg_no: Reg. No.}}\n  berth: {from: in, key: code, columns: {code: Berth, quay: {from: IMO}, id: {from: " +
			"Reg. No., lookup: vessel.reg_no}}}\n",
			[]string{"vessel(reg_no)", "berth(code, quay, id)", "vessel.home_id(home_id)"}},
		{"a table that refers to itself", "  vessel: {from: in, key: reg_no, columns: {twin_id: {from: IMO, lookup: " +
			"vessel.imo}, reg_no: Reg. No., imo: IMO}}\n",
			[]string{"vessel(reg_no, imo)", "vessel.twin_id(twin_id)"}},
		{"ids that the file has itself", "  vessel: {from: in, key: id, columns: {id: IMO, reg_no: Reg. No., " +
			"twin_id: Berth}}\n",
			[]string{"vessel(id, reg_no)", "vessel.twin_id(twin_id)"}},
		{"by an old id", "  vessel: {from: in, key: reg_no, columns: {reg_no: Reg. No., twin_id: {lookup: {table: " +
			"vessel, by_old_id: {there: IMO, here: Berth}}}}}\n",
			[]string{"vessel(reg_no)", "vessel.twin_id(twin_id)"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			plan, err := resolve(t, c.tables)
			require.NoError(t, err)
			var order []string
			for _, s := range plan.Steps {
				order = append(order, s.Name+"("+strings.Join(s.Names(), ", ")+")")
			}
			assert.Equal(t, c.order, order)
			last := plan.Steps[len(plan.Steps)-1]
			assert.Same(t, plan.Steps[0], last.First)
			assert.Equal(t, last.Columns, last.First.Later)
			assert.Equal(t, After{plan.Steps[0].Name, "it completes its rows"}, last.After[0])
		})
	}
}

// TestStepsHaveTheirConditions: the condition of the input comes before that of the block, and each is cleaned once.
func TestStepsHaveTheirConditions(t *testing.T) {
	decode := func(only string) (*Plan, error) {
		f, err := ladlefile.Decode("f", []byte(`ladle: 1
inputs: {in: {file: in.csv, columns: {Day: {date: dd/MM/yyyy}}, only: "berth != 'X'"}}
tables:
  berth: {from: in, only: `+only+`, columns: {code: Berth, quay: {constant: North}}}
  vessel: {from: in, key: reg_no, columns: {reg_no: Reg. No.}}
`))
		require.NoError(t, err)
		return Resolve(f, map[string]source.Header{"in": {Names: []string{"Reg. No.", "IMO", "Day", "Berth"}}},
			harbour())
	}
	plan, err := decode(`day > "2026-01-01"`)
	require.NoError(t, err)
	feed := plan.Feeds[0]
	counts := map[string]int{}
	for _, s := range plan.Steps {
		counts[s.Name] = len(s.Only)
		assert.Equal(t, feed.Recipe.Only(), feed.Columns[s.Only[0]].Of)
	}
	assert.Equal(t, map[string]int{"berth": 2, "vessel": 1}, counts)
	kinds := 0
	for _, c := range feed.Columns {
		if feed.Recipe.Name(c.Of) == "only:" {
			kinds++
		}
	}
	assert.Equal(t, 2, kinds)
	for only, why := range map[string]string{"dya > " +
		"1": `there is no column "dya" (at character 1 of dya > 1); did you mean "day"?`,
		"berth": "needs a condition, but this is a text", "imo > berth": "has a text on both sides"} {
		_, err := decode(only)
		require.ErrorContains(t, err, why)
		assert.True(t, strings.HasPrefix(err.Error(), "f:4:27: "), err.Error())
	}
}
