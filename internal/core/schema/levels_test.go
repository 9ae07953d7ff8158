package schema

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"ladle/internal/core/value"
)

// drawing makes a schema of tables with relations: "call -> vessel!, berth" has call refer to vessel with a column that
// is NOT NULL, and at berth.
func drawing(lines ...string) *Schema {
	s := &Schema{Database: "db"}
	for _, l := range lines {
		name, _, _ := strings.Cut(l, " -> ")
		s.Tables = append(s.Tables, &Table{Name: name, Columns: []Column{{Name: "id", Identity: true,
			Type: value.Type{Kind: value.Int}}},
			Keys: []Key{{Columns: []string{"id"}, Primary: true}}})
	}
	for i, l := range lines {
		_, parents, found := strings.Cut(l, " -> ")
		if !found {
			continue
		}
		t := s.Tables[i]
		for _, p := range strings.Split(parents, ", ") {
			parent, required := strings.CutSuffix(p, "!")
			t.Columns = append(t.Columns, Column{Name: parent + "_id", Required: required,
				Type: value.Type{Kind: value.Int}})
			t.Relations = append(t.Relations, Relation{Columns: []string{parent + "_id"}, Parent: parent,
				ParentColumns: []string{"id"}, ParentTable: s.Table(parent)})
		}
	}
	return s
}

func TestLevels(t *testing.T) {
	cases := []struct {
		name  string
		lines []string
		want  string // levels, what is filled later, what is stuck
	}{
		{"parents first, whatever they come in", []string{"cargo -> call!", "call -> vessel!, berth!", "vessel",
			"berth"}, "vessel berth | call | cargo"},
		{"a diamond", []string{"low -> l!, r!", "l -> top!", "r -> top!", "top"}, "top | l r | low"},
		{"a table that refers to itself", []string{"pilot -> pilot"}, "pilot; later pilot.pilot_id"},
		{"two tables, one of them may wait", []string{"vessel -> call", "call -> vessel!"},
			"vessel | call; later vessel.call_id"},
		{"a circle of three with a tail", []string{"a -> b!", "b -> c!", "c -> a", "d -> a!"},
			"c | b | a | d; later c.a_id"},
		{"a circle that can't be broken", []string{"a -> b!", "b -> a!, c!", "c"},
			"c | a b; stuck a.b_id -> b, b.a_id -> a"},
		{"a table that needs itself", []string{"a -> a!"}, "a; stuck a.a_id -> a"},
		{"a nullable relation outside of a circle still counts", []string{"call -> agent", "agent"}, "agent | call"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			s := drawing(c.lines...)
			var levels []string
			l := s.Levels()
			for _, level := range l.Tables {
				var names []string
				for _, table := range level {
					names = append(names, table.Name)
				}
				levels = append(levels, strings.Join(names, " "))
			}
			got := strings.Join(levels, " | ")
			for _, later := range l.Later {
				got += fmt.Sprintf("; later %s.%s", later.Child.Name, strings.Join(later.Columns, ", "))
			}
			o := s.Outline(nil)
			for _, stuck := range o.Stuck {
				got += "; stuck " + stuck
			}
			assert.Equal(t, c.want, got)
			assert.Len(t, o.Later, len(l.Later))
			for _, x := range s.Tables {
				assert.Contains(t, s.Diagram(), fmt.Sprintf("  %q [label=", x.Name))
			}
		})
	}
}

func TestRelationsAreGuessedFromNames(t *testing.T) {
	s := drawing("berth", "agents", "call", "quay")
	call := s.Table("call")
	for _, name := range []string{"berth_id", "agent_id", "pilot_id", "AgentID", "berth_name", "call_id", "quay_code"} {
		call.Columns = append(call.Columns, Column{Name: name, Type: value.Type{Kind: value.Int}})
	}
	s.Table("quay").Columns = append(s.Table("quay").Columns, Column{Name: "code", Type: value.Type{Kind: value.Int}})
	s.Table("quay").Keys = append(s.Table("quay").Keys, Key{Columns: []string{"code"}})
	assert.Equal(t, []string{"call.berth_id -> berth.id", "call.agent_id -> agents.id", "call.AgentID -> agents.id",
		"call.call_id -> call.id", "call.quay_code -> quay.code"},
		s.Outline(nil).Guessed)
	call.Relations = []Relation{{Columns: []string{"berth_id"}, Parent: "berth"}}
	assert.NotContains(t, s.Outline(nil).Guessed, "call.berth_id -> berth.id", "what is declared is not guessed")
}

func TestWords(t *testing.T) {
	for name, want := range map[string]string{"Reg. No.": "reg no", "gross_tonnage": "gross tonnage",
		"berthID": "berth id", "": "", "GT": "gt", "Größe2m": "größe2m"} {
		assert.Equal(t, want, strings.Join(Words(name), " "), name)
	}
	for plural, want := range map[string]string{"agencies": "agency", "boxes": "box", "calls": "call",
		"status": "status", "class": "class", "as": "as", "berths": "berth"} {
		assert.Equal(t, want, Singular(plural))
	}
}
