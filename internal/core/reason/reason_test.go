package reason

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// full is a cause of a kind that has every argument and every detail.
func full(k Kind) Cause {
	c := Because(Why{Kind: k, Limit: 3, OldIDs: false})
	for i, t := range c.texts() {
		*t = fmt.Sprint("text", i)
	}
	c.List = List("ja", "yes", "nein", "no")
	c.Limit, c.Length, c.IsNew = 2, 2000, true
	c.Other, c.Third = Place{File: "a.csv", Line: 7}, Place{File: "b.xlsx[Calls]", Line: 9, Sheet: true}
	return c
}

func TestEveryKindHasANameAndWordsThatGoWithAnyArguments(t *testing.T) {
	seen := map[string]bool{}
	for k := Other; k < kinds; k++ {
		require.NotEmpty(t, k.String())
		require.False(t, seen[k.String()], "two kinds are called %s", k)
		seen[k.String()] = true
		for _, c := range []Cause{full(k), New(k)} {
			words := c.Words()
			assert.NotContains(t, words, "%!", k.String())
			assert.NotContains(t, words, between, k.String())
			if k != Other && k != Unreadable {
				assert.NotEmpty(t, words, k.String())
			}
		}
	}
	assert.Equal(t, "kind 250", Kind(250).String())
}

func TestACauseIsReadBackAsItWasWritten(t *testing.T) {
	for k := Other; k < kinds; k++ {
		for _, c := range []Cause{full(k), New(k), {Why: Why{Kind: k, OldIDs: true, Limit: -5}}} {
			back, rest, err := Read(append(c.Append(nil), "next"...))
			require.NoError(t, err)
			assert.Equal(t, c, back)
			assert.Equal(t, "next", string(rest))
		}
	}
	whole := full(NotFound).Append(nil)
	for n := range whole {
		_, _, err := Read(whole[:n])
		assert.ErrorIs(t, err, ErrDamaged, "the first %d bytes", n)
	}
}

// A field that is added to Why or Detail must be written too.
func TestNoArgumentIsForgotten(t *testing.T) {
	c := full(NotFound)
	c.OldIDs = true
	for _, part := range []reflect.Value{reflect.ValueOf(c.Why), reflect.ValueOf(c.Detail)} {
		for i := range part.NumField() {
			assert.False(t, part.Field(i).IsZero(), "%s is neither a text, a number, a place nor a flag of the codec",
				part.Type().Field(i).Name)
		}
	}
}

func TestReasonsAreSaidInFull(t *testing.T) {
	for want, r := range map[string]Reason{
		`Due "12;5" is not a number`: {Column: "Due", Content: "12;5",
			Cause: New(NotNumber)},
		`Due (C14) "x" is not a number`: {Column: "Due", Cell: "C14", Content: "x",
			Cause: New(NotNumber)},
		"No is blank, but is part of the key (no, name)": {Column: "No",
			Cause: Because(Why{Kind: BlankKey, Columns: List("no", "name")})},
		"the line has only 2 of 4 fields": {Cause: Cause{Why{Kind: TooFew, Limit: 4},
			Detail{Length: 2}}},
		`Flag "Pana" is not in flag.name; there is "Panama"`: {Column: "Flag", Content: "Pana",
			Cause: Cause{Why{Kind: NotFound, Table: "flag", Columns: List("name")}, Detail{Near: "Panama"}}},
		`No "7" is the id of no line that fills vessel`: {Column: "No", Content: "7",
			Cause: Because(Why{Kind: NotFound, Table: "vessel", Columns: List("id"), OldIDs: true})},
		"line 7 has the same key (no), but a different name": {Cause: Cause{Why{Kind: Contradiction,
			Columns: List("no"), List: List("name")}, Detail{Other: Place{File: "in.csv", Line: 7, Alone: true}}}},
		"a.csv:7 has the same key (no), but a different name, kind": {Cause: Cause{Why{Kind: Contradiction,
			Columns: List("no"), List: List("name", "kind")}, Detail{Other: Place{File: "x/a.csv", Line: 7}}}},
		`Remark "` + strings.Repeat("é", 80) + `…" is longer than the 1,000 characters that the column takes`: {
			Column:  "Remark",
			Content: strings.Repeat("é", 200), Cause: Because(Why{Kind: TooLong, Limit: 1000, Type: "characters"})},
	} {
		assert.Equal(t, want, r.Words())
	}
}

func TestCausesInJSON(t *testing.T) {
	c := Cause{Why{Kind: NotFound, Table: "flag", Columns: List("name")}, Detail{Near: "Panama"}}
	b, err := json.Marshal(c)
	require.NoError(t, err)
	assert.JSONEq(t,
		`{"says": "is not in flag.name; there is \"Panama\"", "kind": "not_found", "table": "flag", "columns": ["name"], "near": "Panama"}`,
		string(b))
}

func TestCountsAndPlurals(t *testing.T) {
	for want, got := range map[string]string{"0": Count(0), "999": Count(999), "1,000": Count(1000),
		"-12,345,678": Count(-12345678),
		"-100":        Count(-100), "1 line": Plural(1, "line"), "0 lines": Plural(0, "line"),
		"2,000 lines": Plural(2000, "line")} {
		assert.Equal(t, want, got)
	}
}
