package source

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOddTexts: what RFC 4180 doesn't have, once it is said.
func TestOddTexts(t *testing.T) {
	head := HeaderLines{First: 1, Last: 1}
	cases := []struct {
		name, content string
		asked         ReadOptions
		want          []string
	}{
		{"blanks beside quotes are forgiven", "a,b,c\n1,\"Smith 1\" ,x\n2, \"a,b\"\t, y\n\"3\" ,\"q\" \n",
			ReadOptions{Header: head},
			[]string{"2: 1|Smith 1|x", "3: 2|a,b| y", "4: 3|q"}},
		{"short lines", "a,b,c\n1\n2,x\n3,x,y\n4,x,y,z\n", ReadOptions{Header: head, ShortLines: true},
			[]string{"2: 1||", "3: 2|x|", "4: 3|x|y", "5: 4|x|y|z"}},
		{"comments", "# made by the gate\na,b\n1,2\n# it's \"odd\n\n3,#4\n#", ReadOptions{Header: HeaderLines{First: 2,
			Last: 2},
			Comment: "#"}, []string{"3: 1|2", "6: 3|#4"}},
		{"escapes", "a,b\n\"say \\\"so\\\"\",x\\,y\n\\N,\"C:\\\\tmp\"\nl\\nm,\"p\\\nq\"\n", ReadOptions{Header: head,
			Escape: `\`},
			[]string{`2: say "so"|x,y`, `3: \N|C:\tmp`, "4: l\nm|p\nq"}},
		{"a delimiter of two characters", "a||b\n1|2||\"x||y\"\n3||4\n", ReadOptions{Header: head, Delimiter: "||"},
			[]string{"2: 1|2|x||y", "3: 3|4"}},
		{"fixed widths", "no  name  t\nå1  Tern  7\n\nB22 Otter 12\nC3\nD4  x     1 y\n", ReadOptions{Header: head,
			Widths: "4, 6, 2"}, []string{"2: å1|Tern|7", "4: B22|Otter|12", "5: C3||", "6: D4|x|1|y"}},
		{"a delimiter too many in the header", "a,b,\n1,2\n3,4\n", ReadOptions{Header: head}, []string{"2: 1|2",
			"3: 3|4"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			table, err := open(t, c.content, c.asked)
			require.NoError(t, err)
			got, err := records(table)
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
}

// TestOddTextsInChunks: records are whole at the borders of chunks, and can be read again.
func TestOddTextsInChunks(t *testing.T) {
	for name, c := range map[string]struct {
		asked ReadOptions
		line  string
		want  string
	}{
		"escapes":      {ReadOptions{Escape: `\`}, "\"x\\\"\\\n\",y\\,z\n", "x\"\n|y,z"},
		"delimiters":   {ReadOptions{Delimiter: "::"}, "\"p::q\"::r:s\n", "p::q|r:s"},
		"fixed widths": {ReadOptions{Widths: "3 5"}, "ab cdefg\n", "ab|cdefg"},
		"comments":     {ReadOptions{Comment: "--"}, "-- \"\n\"1\n2\",3\n", "1\n2|3"},
	} {
		t.Run(name, func(t *testing.T) {
			const n = 60_000
			header := map[bool]string{true: "a::b\n", false: "a,b\n"}[name == "delimiters"]
			if name == "fixed widths" {
				header = "a  b\n"
			}
			c.asked.Header = HeaderLines{First: 1, Last: 1}
			table, err := open(t, header+strings.Repeat(c.line, n), c.asked)
			require.NoError(t, err)
			got, err := records(table)
			require.NoError(t, err)
			require.Len(t, got, n)
			for i, r := range got {
				require.Equal(t, c.want, r[strings.Index(r, " ")+1:], i)
			}
			want := got[n-1]
			assert.Contains(t, want, map[string]string{"escapes": "120000: ", "delimiters": "60001: ",
				"fixed widths": "60001: ",
				"comments":     "180000: "}[name])
		})
	}
}

func TestWhatTextsSeemToBe(t *testing.T) {
	table, err := open(t, "no   vessel  gt\nA1   Tern     7\nA22  Otter   12\nA3   Heron    3\n", ReadOptions{})
	require.NoError(t, err)
	assert.Equal(t, []int{5, 8, 2}, table.Formats()[0].Fixed)
	table, err = open(t, "no vessel\nA1 Tern\nA22 Grey Otter\nA3 Heron is here\n", ReadOptions{})
	require.NoError(t, err)
	assert.Nil(t, table.Formats()[0].Fixed)
	table, err = open(t, "a,b\n1,\"say \\\"so\\\", he said\"\n2,\"it \\\"is\\\"\"\n",
		ReadOptions{Header: HeaderLines{First: 1, Last: 1}})
	require.NoError(t, err)
	assert.True(t, table.Formats()[0].Escaped)
}

func FuzzOdd(f *testing.F) {
	f.Add("a||b\\,\"c\n", "||", "\\", "#", "")
	f.Add("# x\nab cd\n", "", "", "#", "2,3")
	f.Fuzz(func(t *testing.T, content, delimiter, escape, comment, widths string) {
		var asked ReadOptions
		asked.SetDelimiter(delimiter)
		asked.SetEscape(escape)
		asked.SetComment(comment)
		asked.SetWidths(widths)
		asked.Encoding = "UTF-8"
		table, err := open(t, content, asked)
		if err == nil {
			records(table)
		}
	})
}
