package page

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"ladle/internal/core/changes"
	"ladle/internal/core/check"
	"ladle/internal/core/judge"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/reason"
	"ladle/internal/core/report"
	"ladle/internal/core/schema"
	"ladle/internal/core/setaside"
)

const hostile = "<script>alert('x')</script>\"><img src=x onerror=y>\u202e\x1b[31m{{.}}"

// elements parses a page, and returns its elements with their attributes.
func elements(t *testing.T, text string) (names map[string]int, ids map[string]bool, links []string) {
	names, ids = map[string]int{}, map[string]bool{}
	root, err := html.Parse(strings.NewReader(text))
	require.NoError(t, err)
	for n := range root.Descendants() {
		if n.Type != html.ElementNode {
			continue
		}
		names[n.Data]++
		for _, a := range n.Attr {
			assert.NotContains(t, strings.ToLower(a.Key), "onerror")
			switch a.Key {
			case "id":
				assert.False(t, ids[a.Val], "the id %q occurs twice", a.Val)
				ids[a.Val] = true
			case "href", "src":
				links = append(links, a.Val)
			}
		}
	}
	return names, ids, links
}

func TestPagesTakeHostileNamesAsText(t *testing.T) {
	null := hostile
	r := &report.Report{Outcome: report.Refused, Why: reason.Fault(reason.Other, hostile), LadleFile: hostile,
		Database: hostile, Notes: []string{hostile},
		Inputs: []report.Input{{Input: hostile, File: hostile, Lines: 1234567}},
		Steps: []report.Step{{Step: hostile, Table: hostile, Key: []string{hostile},
			Tally: judge.Tally{Read: 8, Added: 4, Same: 2, SetAside: 2}}},
		Lookups: []report.Lookup{{Table: hostile, Names: []string{hostile}}},
		Groups: []setaside.Group{{Input: hostile, Column: hostile, Says: hostile, Count: 1,
			First: []setaside.Example{{Place: hostile, Cell: hostile}},
			Advice: &setaside.Advice{Says: hostile, Settings: []ladlefile.Setting{{At: []string{hostile}, Key: hostile,
				Value: hostile}}}}},
		Checks: []check.Result{{Check: "cells", Table: hostile, Says: hostile, Problems: []string{hostile},
			Warnings: []string{hostile}}},
		Newest: []report.Rows{{Table: hostile, Columns: []string{hostile, "b"}, Rows: [][]*string{{&null, nil}}}}}
	outline := &schema.Outline{Database: hostile, Later: []string{hostile}, Views: []string{hostile},
		Levels: [][]schema.TableOutline{
			{{Name: hostile, Comment: hostile, Columns: []schema.ColumnOutline{{Name: hostile, Declared: hostile,
				Default: hostile}}, Triggers: []string{hostile}}},
			{{Name: "b", PointsAt: []schema.Reference{{Table: hostile, Columns: []string{hostile}},
				{Table: "b", Columns: []string{"c"}}}}}}}
	for name, write := range map[string]func(*strings.Builder) error{
		"load":   func(to *strings.Builder) error { return Load(to, r, "1") },
		"tables": func(to *strings.Builder) error { return Tables(to, outline, "1") },
		"changes": func(to *strings.Builder) error {
			p, err := Changes(to, "1")
			require.NoError(t, err)
			require.NoError(t, p.Add(changes.Record{Table: hostile, Key: hostile, Column: hostile, After: &null,
				File: hostile, Line: 1}))
			return p.Finish()
		},
	} {
		t.Run(name, func(t *testing.T) {
			var page strings.Builder
			require.NoError(t, write(&page))
			names, ids, links := elements(t, page.String())
			assert.Zero(t, names["script"]+names["img"]+names["link"]+names["iframe"],
				"nothing runs, nothing is fetched")
			assert.False(t, strings.ContainsAny(page.String(), "\u202e\x1b"),
				"nothing turns the text, or commands a terminal")
			assert.Equal(t, name == "changes", links == nil)
			for _, l := range links {
				assert.True(t, strings.HasPrefix(l, "#"), "%s leads out of the page", l)
			}
			if name == "tables" {
				assert.Equal(t, 1+2+2, names["a"], "each table is in the picture, and each relation leads to its table")
				assert.True(t, ids["t-b"])
			}
		})
	}
}

// TestTheBarOfAStepIsItsTally: in a picture and in words.
func TestTheBarOfAStepIsItsTally(t *testing.T) {
	v := newLoadView(&report.Report{Outcome: report.Loaded, Run: 3,
		Steps: []report.Step{{Tally: judge.Tally{Read: 8, Added: 4, Same: 2, SetAside: 2}}}}, "1")
	assert.Equal(t, "Loaded as run 3", v.Title)
	assert.Equal(t, "4 added, 2 same, 2 set aside", v.Steps[0].Says)
	share := 0.0
	for _, p := range v.Steps[0].Parts {
		share += p.Share
	}
	assert.InDelta(t, 100, share, 1e-9)
	assert.Len(t, v.Legend, 3)
}

// TestTablesAreLaidOutInLevels: a column each, no two boxes on one place, parents to the left.
func TestTablesAreLaidOutInLevels(t *testing.T) {
	var levels [][]schema.TableOutline
	for level := range 5 {
		var briefs []schema.TableOutline
		for i := range 6 {
			b := schema.TableOutline{Name: strings.Repeat("x", level*9) + string(rune('a'+i)), Rows: 1000}
			if level > 0 {
				b.PointsAt = []schema.Reference{{Table: levels[level-1][(i*5)%6].Name}}
			}
			briefs = append(briefs, b)
		}
		levels = append(levels, briefs)
	}
	v := newTablesView(&schema.Outline{Levels: levels}, "1")
	taken := map[[2]int]bool{}
	for _, b := range v.Boxes {
		assert.False(t, taken[[2]int{b.X, b.Y}])
		taken[[2]int{b.X, b.Y}] = true
		assert.LessOrEqual(t, b.X+b.W, v.Width)
		assert.LessOrEqual(t, b.Y+boxHeight, v.Height)
	}
	assert.Len(t, v.Edges, 24)
	for _, e := range v.Edges {
		child, parent := v.Boxes[e.From-1], v.Boxes[e.To-1]
		assert.Less(t, parent.X+parent.W, child.X)
		assert.False(t, e.Later)
	}
}
