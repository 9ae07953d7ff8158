package source

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ladle/internal/seeded"
)

// TestOddTextsReadBack writes random cells in ways that aren't usual, and reads them back.
func TestOddTextsReadBack(t *testing.T) {
	rng := seeded.Rand(t)
	pieces := []string{"a", "é", " ", ",", ";", "::", ":", `"`, `\`, "\n", "\r\n", "'", "n", "#", "\t", "船"}
	cell := func(not string) string {
		var b strings.Builder
		b.WriteString("x") // neither a comment nor blank
		for range rng.IntN(6) {
			if p := pieces[rng.IntN(len(pieces))]; !strings.ContainsAny(p, not) {
				b.WriteString(p)
			}
		}
		return b.String() + "y"
	}
	for name, way := range map[string]struct {
		asked ReadOptions
		not   string // what can't stand in a cell
		write func(cell string) string
		join  string
	}{
		"escapes": {ReadOptions{Escape: `\`, Delimiter: ","}, "", func(c string) string {
			return strings.NewReplacer(`\`, `\\`, `"`, `\"`, ",", `\,`, "\r\n", `\r\n`, "\n", `\n`, "\t", `\t`).Replace(c)
		}, ","},
		"escapes in quotes": {ReadOptions{Escape: `\`, Delimiter: ","}, "", func(c string) string {
			return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(c) + `"`
		}, ","},
		"a long delimiter": {ReadOptions{Delimiter: "::"}, "", func(c string) string {
			if strings.ContainsAny(c, ":\"\r\n") {
				return `"` + strings.ReplaceAll(c, `"`, `""`) + `"`
			}
			return c
		}, "::"},
		"comments": {ReadOptions{Comment: "#", Delimiter: ";"}, "", func(c string) string {
			if strings.ContainsAny(c, ";\"\r\n") {
				return ` "` + strings.ReplaceAll(c, `"`, `""`) + `" `
			}
			return c
		}, ";"},
	} {
		t.Run(name, func(t *testing.T) {
			for range seeded.Rounds(60) {
				var b strings.Builder
				b.WriteString("p" + way.join + "q" + way.join + "r\n")
				var want [][]string
				for range 1 + rng.IntN(400) {
					row := []string{cell(way.not), cell(way.not), cell(way.not)}
					want = append(want, row)
					if way.asked.Comment != "" && rng.IntN(4) == 0 {
						b.WriteString(way.asked.Comment + " \"" + row[0][:1] + "\n")
					}
					b.WriteString(way.write(row[0]) + way.join + way.write(row[1]) + way.join + way.write(row[2]) + "\n")
				}
				asked := way.asked
				asked.Header, asked.Encoding = HeaderLines{First: 1, Last: 1}, "UTF-8"
				table, err := open(t, b.String(), asked)
				require.NoError(t, err)
				n := 0
				for chunk, err := table.Next(); err == nil; chunk, err = table.Next() {
					for r := (Record{}); chunk.Next(&r); n++ {
						require.Nil(t, Misshapen(&r, 3), "%q", want[n])
						require.Equal(t, want[n], texts(r.Fields))
					}
				}
				require.Equal(t, len(want), n)
			}
		})
	}
}

// TestFixedWidthsReadBack: cells of all lengths in columns of fixed widths, in characters.
func TestFixedWidthsReadBack(t *testing.T) {
	rng := seeded.Rand(t)
	for range seeded.Rounds(40) {
		widths := []int{1 + rng.IntN(9), 1 + rng.IntN(9), 1 + rng.IntN(9)}
		var b strings.Builder
		var want [][]string
		for line := range 1 + rng.IntN(100) {
			var row []string
			for _, w := range widths {
				c := strings.Repeat("é", rng.IntN(w+1))
				if line == 0 {
					c = strings.Repeat("h", w)
				}
				row = append(row, c)
				pad := strings.Repeat(" ", w-len([]rune(c)))
				if rng.IntN(2) == 0 {
					b.WriteString(pad + c)
				} else {
					b.WriteString(c + pad)
				}
			}
			b.WriteString("\r\n")
			if strings.Join(row, "") != "" && line > 0 {
				want = append(want, row)
			}
		}
		table, err := open(t, b.String(), ReadOptions{Widths: written(widths), Header: HeaderLines{First: 1, Last: 1},
			Encoding: "UTF-8"})
		require.NoError(t, err)
		var got [][]string
		for chunk, err := table.Next(); err == nil; chunk, err = table.Next() {
			for r := (Record{}); chunk.Next(&r); {
				got = append(got, append([]string{}, texts(r.Fields)...))
			}
		}
		require.Equal(t, want, got)
	}
}

func written(widths []int) string {
	words := make([]string, len(widths))
	for i, w := range widths {
		words[i] = string(rune('0' + w))
	}
	return strings.Join(words, ",")
}
