package source

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/seeded"
)

func TestJSON(t *testing.T) {
	cases := []struct {
		name, content, member string
		way                   string
		header                string
		want                  []string
	}{
		{"lines", `{"reg":"A1","gt":12.50}` + "\n\n" + `{"gt":1e3,"reg":"A\"2\u00e9\ud83d\ude00"}` + "\n", "",
			jsonLines, "reg gt",
			[]string{"1: A1|12.50", "3: A\"2é😀|1000"}},
		{"an array, over several lines", "[\n {\"a\": 1,\n  \"b\": null},\n {\"a\": true, \"c\": -0.0}\n]\n", "",
			jsonArray,
			"a b c",
			[]string{"2: 1||", "4: true||-0.0"}},
		{"members of members, and lists",
			`[{"agent":{"name":"Merrow","at":{"quay":"N1"}},"cargo":["Wheat", "Salt"]},{"agent":null,"cargo":[]}]`,
			"", jsonArray, "agent.name agent.at.quay cargo agent", []string{`1: Merrow|N1|["Wheat", "Salt"]|`,
				"1: ||[]|"}},
		{"the only array in an object", `{"made":"2026-03-31","answer":{"calls":[{"a":1},{"a":2}],"n":2}}`, "",
			jsonMember, "a",
			[]string{"1: 1", "1: 2"}},
		{"a member that is named", `{"x":[{"a":1}],"y":[{"b":2}]}`, "y", jsonMember, "b", []string{"1: 2"}},
		{"one object", `{"a":1,"b":"x"}`, "", jsonLines, "a b", []string{"1: 1|x"}},
		{"objects one behind the other", "{\"a\":\n1}\n{\"a\":\n2}\n", "", jsonArray, "a", []string{"1: 1", "3: 2"}},
		{"a line that isn't JSON harms only itself",
			"{\"a\":1}\n{\"a\":2\n{\"a\":3} x\n{\"a\":4,\"a\":5}\nx\n{\"a\":6}\n",
			"", jsonLines, "a",
			[]string{"1: 1", "2: the line is not a JSON object: a comma or } is expected",
				"3: the line is not a JSON object: text follows the object",
				`4: the line is not a JSON object: the member "a" occurs twice in an object`,
				"5: the line is not a JSON object: an object is expected", "6: 6"}},
		{"a byte-order mark", "\xef\xbb\xbf[{\"a\":1}]", "", jsonArray, "a", []string{"1: 1"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			table, err := open(t, c.content, ReadOptions{Member: c.member})
			require.NoError(t, err)
			assert.Equal(t, c.header, strings.Join(table.Header().Names, " "))
			got, err := records(table)
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
			assert.Equal(t, []string{"json", c.way}, []string{table.Formats()[0].Format, table.Formats()[0].JSON})
		})
	}
}

func TestWrongJSON(t *testing.T) {
	for content, says := range map[string]string{
		"[\n{\"a\":1},\n{\"a\":x}]": "in.csv:3: this is not JSON: a value is expected",
		"[{\"a\":1}":                "in.csv:1: the JSON array is never closed",
		"[{\"a\":1},7]":             "in.csv:1: a JSON object is expected here",
		"[{\"a\":1}] [1]":           "in.csv:1: text follows the JSON array",
		"[{\"a\":\"x":               "in.csv:1: the JSON text ends in the middle of the object",
		"{\"x\":[{\"a\":1}],\"y\":[{\"b\":2}]}": "several members that hold arrays of objects: x, y; set member: to " +
			"the name of one",
		"{}\n{}\n":              "the JSON text holds no object with a member",
		"[{\"a\":01}]":          "a comma or } is expected",
		"[{\"a\":1e999999}]":    "the number 1e999999 is too large or too small",
		"[{\"a\":\"\\ud800\"}]": "an escape in a text means nothing",
		strings.Repeat(`{"a":`, 99) + "1" + strings.Repeat("}", 99): "it is nested too deeply",
	} {
		table, err := open(t, content, ReadOptions{})
		if err == nil {
			err = Each(context.Background(), table, func(c *Chunk) (first string) {
				for r := (Record{}); c.Next(&r); {
					if r.Problem != nil && first == "" {
						first = r.Problem.Words()
					}
				}
				return first
			}, func(_ *Chunk, first string) error {
				if first != "" {
					return errors.New(first)
				}
				return nil
			})
		}
		assert.ErrorContains(t, err, says, content)
	}
	_, err := open(t, "[{\"a\":1}]", ReadOptions{Delimiter: ";"})
	assert.ErrorContains(t, err, "this is JSON; header, footer, delimiter")
	_, err = open(t, "a,b\n1,2\n", ReadOptions{Member: "x"})
	assert.ErrorContains(t, err, "this is not JSON")
	_, err = open(t, "{\"x\":[{\"a\":1}]}", ReadOptions{Member: "y"})
	assert.ErrorContains(t, err, `no member "y" that holds an array of objects`)
}

// TestJSONInChunks writes random objects in all ways, and reads them back, twice, as a library reads them.
func TestJSONInChunks(t *testing.T) {
	rng := seeded.Rand(t)
	values := []string{"", "x", "é\n\"\\", "a,b{}[]", "\u2028😀", strings.Repeat("long ", 99)}
	var all []map[string]any
	var lines []string
	for i := range 8_000 {
		o := map[string]any{"no": i, "text": values[rng.IntN(len(values))], "is": rng.IntN(2) == 0}
		if rng.IntN(3) == 0 {
			o["in"] = map[string]any{"x": rng.IntN(99), "y": nil}
		}
		line, err := json.Marshal(o)
		require.NoError(t, err)
		all, lines = append(all, o), append(lines, string(line))
	}
	indented, err := json.MarshalIndent(all, "", "  ")
	require.NoError(t, err)
	for way, content := range map[string]string{jsonLines: strings.Join(lines, "\n"), jsonArray: string(indented),
		jsonMember: `{"made": {"by": "x"}, "calls": ` + string(indented) + `, "n": 1}`} {
		t.Run(way, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "in.json")
			require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
			table, err := opened(t, Open, ReadOptions{}, path)
			require.NoError(t, err)
			assert.Equal(t, way, table.Formats()[0].JSON)
			n := 0
			for chunk, err := table.Next(); err == nil; chunk, err = table.Next() {
				again, err := table.Again(chunk.Seal())
				require.NoError(t, err)
				for r, same := (Record{}), (Record{Keep: true}); chunk.Next(&r); n++ {
					require.True(t, again.Next(&same))
					require.Equal(t, texts(r.Fields), texts(same.Fields))
					require.Equal(t, fmt.Sprint(all[n]["no"]), string(r.Fields[table.Header().Find("no")[0]]))
					require.Equal(t, fmt.Sprint(all[n]["text"]), string(r.Fields[table.Header().Find("text")[0]]))
					x := ""
					if in, ok := all[n]["in"].(map[string]any); ok {
						x = fmt.Sprint(in["x"])
					}
					require.Equal(t, x, string(r.Fields[table.Header().Find("in.x")[0]]))
				}
			}
			assert.Equal(t, len(all), n)
		})
	}
}

func FuzzJSON(f *testing.F) {
	for _, seed := range []string{`[{"a":1}]`, "{\"a\":{\"b\":\"\\u00e9\"}}\n{}", `{"x":[{"a":[1,{}]}]}`,
		`[{"a":1e5,"b":"\`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, content string) {
		table, err := open(t, content, ReadOptions{Encoding: "UTF-8"})
		if err == nil {
			records(table)
		}
	})
}
