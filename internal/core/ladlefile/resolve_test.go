package ladlefile

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/clean"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// harbour is a database of three tables that need each other.
func harbour() *schema.Schema {
	whole, text := value.Type{Kind: value.Int}, value.Type{Kind: value.Text}
	berth := &schema.Table{Name: "berth", Columns: []schema.Column{{Name: "id", Type: whole, Required: true, Identity: true}, {Name: "code", Type: text, Required: true},
		{Name: "quay", Type: text, Required: true}}, Keys: []schema.Key{{Columns: []string{"id"}, Primary: true}, {Columns: []string{"code"}}}}
	vessel := &schema.Table{Name: "vessel", Columns: []schema.Column{{Name: "id", Type: whole, Identity: true}, {Name: "reg_no", Type: text, Required: true},
		{Name: "imo", Type: text}, {Name: "home_id", Type: whole}, {Name: "twin_id", Type: whole}, {Name: "label", Type: text, Generated: true}},
		Keys: []schema.Key{{Columns: []string{"id"}, Primary: true}, {Columns: []string{"reg_no"}}, {Columns: []string{"imo"}}}}
	vessel.Relations = []schema.Relation{{Columns: []string{"home_id"}, Parent: "berth", ParentColumns: []string{"id"}, ParentTable: berth},
		{Columns: []string{"twin_id"}, Parent: "vessel", ParentColumns: []string{"id"}, ParentTable: vessel}}
	call := &schema.Table{Name: "call", Columns: []schema.Column{{Name: "vessel_id", Type: whole, Required: true}, {Name: "day", Type: value.Type{Kind: value.Date}, Required: true},
		{Name: "berth_id", Type: whole}}, Keys: []schema.Key{{Columns: []string{"vessel_id", "day"}, Primary: true}}}
	call.Relations = []schema.Relation{{Columns: []string{"vessel_id"}, Parent: "vessel", ParentColumns: []string{"id"}, ParentTable: vessel}}
	stay := &schema.Table{Name: "stay", Columns: call.Columns, Keys: []schema.Key{{Columns: []string{"day"}}},
		Relations: []schema.Relation{{Columns: []string{"vessel_id", "day"}, Parent: "call", ParentColumns: []string{"vessel_id", "day"}, ParentTable: call}}}
	pair := &schema.Table{Name: "pair", Locator: "id", Columns: []schema.Column{{Name: "id", Type: whole, Identity: true}, {Name: "code", Type: text}, {Name: "other_id", Type: whole, Required: true},
		{Name: "vessel_id", Type: whole, Defaulted: true}}, Keys: []schema.Key{{Columns: []string{"id"}, Primary: true}, {Columns: []string{"code"}}}}
	pair.Relations = []schema.Relation{{Columns: []string{"other_id"}, Parent: "pair", ParentColumns: []string{"id"}, ParentTable: pair}}
	vessel.Locator, berth.Locator = "id", "id"
	odd := &schema.Table{Name: "old", Odd: "it is of another age"}
	return &schema.Schema{Database: "db", Tables: []*schema.Table{berth, vessel, call, stay, pair, odd}}
}

func resolve(t *testing.T, tables string) (*Plan, error) {
	f, err := Decode("f", []byte("ladle: 1\ninputs: {in: {file: in.csv}}\ntables:\n"+tables))
	require.NoError(t, err)
	return Resolve(f, map[string]source.Header{"in": {Names: []string{"Reg. No.", "IMO", "Day", "Berth"}}}, harbour())
}

func TestStepsStandBehindWhatTheyNeed(t *testing.T) {
	plan, err := resolve(t, `
  stay: {from: in, columns: {vessel_id: {constant: 7}, day: Day}}
  call: {from: in, columns: {vessel_id: {from: reg.  no., find: vessel.reg_no}, day: Day, berth_id: {from: Berth, find: berth.code}}}
  vessel: {from: in, key: reg_no, columns: {reg_no: Reg. No., home_id: {from: Berth, find: berth.code}}}
  berth: {from: in, columns: {code: Berth, quay: {constant: North}}}
`)
	require.NoError(t, err)
	var order, why []string
	for _, s := range plan.Steps {
		order = append(order, s.Name+" by "+strings.Join(s.KeyNames(), ", "))
		why = append(why, s.After...)
	}
	assert.Equal(t, []string{"berth by code", "vessel by reg_no", "call by vessel_id, day", "stay by day"}, order)
	assert.Equal(t, []string{"after berth (vessel.home_id finds berth.code)", "after vessel (call.vessel_id finds vessel.reg_no)",
		"after berth (call.berth_id finds berth.code)", "after call (stay.vessel_id, day point at it)"}, why)
	assert.Equal(t, []clean.Column{{Of: 2, Type: value.Type{Kind: value.Date}}, {Of: 0, Type: value.Type{Kind: value.Text}},
		{Of: 3, Type: value.Type{Kind: value.Text}}}, plan.Feeds[0].Columns, "a column is cleaned once for each type that it is used as")
}

func TestResolveTellsWhatDoesNotFit(t *testing.T) {
	cases := []struct{ name, tables, want string }{
		{"a table that can't be used", "  old: {from: in, columns: {a: Day}}\n", "table old can't be used: it is of another age"},
		{"an unknown input", "  call: {from: inn, columns: {day: Day}}\n", `there is no input "inn"; did you mean "in"?`},
		{"a computed column", "  vessel: {from: in, columns: {reg_no: IMO, label: Day}}\n", "vessel.label is computed by the database; take it out"},
		{"several keys to choose from", "  vessel: {from: in, columns: {reg_no: Reg. No., imo: IMO}}\n",
			"block vessel needs a key: vessel has several unique constraints, [reg_no] and [imo]"},
		{"a key that isn't fed", "  vessel: {from: in, key: [reg_no, imo], columns: {reg_no: Reg. No.}}\n", `key: names "imo", which this block doesn't feed`},
		{"already_there without a key", "  vessel: {from: in, key: none, already_there: refuse, columns: {reg_no: Reg. No.}}\n", "without a key no row is recognised"},
		{"a table that needs itself first", "  pair: {from: in, key: code, columns: {code: IMO, other_id: {from: Reg. No., find: pair.code}}}\n",
			"these need each other first: pair -> pair\n    pair -> pair: pair.other_id finds pair.code, and other_id must have a value"},
		{"nothing to update", "  vessel: {from: in, already_there: update, columns: {reg_no: IMO}}\n", "block vessel has nothing to update"},
		{"an update that can't find its row", "  call: {from: in, key: day, already_there: update, columns: {vessel_id: {constant: 7}, day: Day}}\n",
			"rows of call can't be updated by this key"},
		{"clearing without an update", "  vessel: {from: in, key: reg_no, blank: clears, columns: {reg_no: IMO, imo: IMO}}\n", "blank: clears changes nothing where rows are not updated"},
		{"removing without a scope", "  a: {into: vessel, from: in, key: reg_no, gone_from_file: {remove: 5}, columns: {reg_no: IMO}}\n  b: {into: vessel, from: in, key: reg_no, columns: {reg_no: Day}}\n",
			"gone_from_file: in block a would also remove rows of block b; add among:"},
		{"removing without a key", "  vessel: {from: in, key: none, gone_from_file: {remove: 5}, columns: {reg_no: Reg. No.}}\n", "without a key no row is recognised"},
		{"an old id of no block", "  call: {from: in, columns: {day: Day, vessel_id: {find: {table: vessel, by_old_id: {IMO: IMO}}}}}\n", "no block fills vessel, so no row of it has an old id"},
		{"an old id of an unknown block", "  call: {from: in, columns: {day: Day, vessel_id: {find: {block: vesel, by_old_id: {IMO: IMO}}}}}\n", `there is no block "vesel"`},
		{"an old id of an unknown column", "  vessel: {from: in, key: reg_no, columns: {reg_no: IMO}}\n  call: {from: in, columns: {day: Day, vessel_id: {find: {table: vessel, by_old_id: {Old: IMO}}}}}\n",
			`vessel (input in) has no single column "Old"`},
		{"add inside of a find", "  call: {from: in, columns: {day: Day, vessel_id: {find: {table: vessel, by: {home_id: {from: Berth, find: berth.code}}}, not_found: add}}}\n",
			"not_found: add can't be where a find stands inside another"},
		{"add where more is needed", "  vessel: {from: in, key: reg_no, columns: {reg_no: Reg. No., home_id: {from: Berth, find: berth.code, not_found: add}}}\n",
			"a new row of berth also needs quay"},
		{"add where the database doesn't count", "  vessel: {from: in, key: reg_no, columns: {reg_no: Reg. No., imo: {from: Day, find: call.day, not_found: add}}}\n",
			"vessel.imo has no declared relation, and call has no primary key of one column"},
		{"kinds that can't be the same", "  vessel: {from: in, key: reg_no, columns: {reg_no: Reg. No., imo: {from: Day, find: berth.code}}}\n",
			"vessel.imo is a text, but berth.id that it should point at is a whole number"},
		{"a constant that doesn't fit", "  call: {from: in, columns: {vessel_id: {from: IMO, find: vessel.imo}, day: {constant: soon}}}\n", `the constant "soon" is not a date`},
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
		{"two tables", "  vessel: {from: in, key: reg_no, columns: {home_id: {from: Berth, find: berth.code}, reg_no: Reg. No.}}\n" +
			"  berth: {from: in, key: code, columns: {code: Berth, quay: {from: IMO}, id: {from: Reg. No., find: vessel.reg_no}}}\n",
			[]string{"vessel(reg_no)", "berth(code, quay, id)", "vessel.home_id(home_id)"}},
		{"a table that points at itself", "  vessel: {from: in, key: reg_no, columns: {twin_id: {from: IMO, find: vessel.imo}, reg_no: Reg. No., imo: IMO}}\n",
			[]string{"vessel(reg_no, imo)", "vessel.twin_id(twin_id)"}},
		{"ids that the file has itself", "  vessel: {from: in, key: id, columns: {id: IMO, reg_no: Reg. No., twin_id: Berth}}\n",
			[]string{"vessel(id, reg_no)", "vessel.twin_id(twin_id)"}},
		{"by an old id", "  vessel: {from: in, key: reg_no, columns: {reg_no: Reg. No., twin_id: {find: {table: vessel, by_old_id: {IMO: Berth}}}}}\n",
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
			assert.Contains(t, strings.Join(last.After, "; "), "it completes its rows")
		})
	}
}
