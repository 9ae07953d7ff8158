package source

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ladle/internal/seeded"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestBlocksAreTheRecords reads texts with blocks and without: the records and what is counted are the same.
func TestBlocksAreTheRecords(t *testing.T) {
	r := seeded.Rand(t)
	plain := strings.Repeat("PM-000101,Grey Heron,N1\n", 600)
	quoted := strings.Repeat(`"PM-000101","Grey, Heron",N1`+"\n"+`PM-000102,"",""`+"\n", 300)
	texts := map[string]string{"plain": plain, "quoted": quoted, "quoted, CRLF": strings.ReplaceAll(quoted, "\n", "\r\n"),
		"odd quotes": quoted + `a,"b ""c"" d",e` + "\n" + quoted + `a,"b"x,c` + "\n" + quoted + `a, "b" ,c` + "\n" + quoted + "a,\"b\n,c\",d\n" +
			quoted + "\"a\",\"b\"\n" + quoted + "\"a\",\"b\",\"c\",\"d\"\n" + quoted + "\"a\",\"b\",\"c\"\r\r\n" + quoted + `"a","b","c"`, "CRLF": strings.ReplaceAll(plain, "\n", "\r\n"),
		"both ends of lines": plain + strings.ReplaceAll(plain, "\n", "\r\n") + plain, "no end of line at the end": plain + "a,b,c",
		"a quote": plain + "a,\"b\nb\",c\n" + plain, "a quote inside": plain + "a,b\"b,c\n" + plain, "blank lines": plain + "\n,,\n\r\n" + plain,
		"short and long lines": plain + "a,b\n" + plain + "a,b,c,d\n" + plain + "a,b,c,,\n", "a lone CR": plain + "a,b\rc,d,e\n" + plain, "a lone CR for a delimiter": plain + "a\rb,c\n" + plain, "delimiters alone": plain + ",,\n" + plain,
		"UTF-8": plain + "a,Méduse,N1\n" + plain, "no UTF-8": plain + "a,M\xe9duse,N1\n" + plain,
		"lines that make up for each other": strings.Repeat("a,b\nc,d,e,f\n", 100), "one column": strings.Repeat("a\n\n", 500)}
	for range 200 {
		var b strings.Builder
		for range 5 {
			b.WriteString(strings.Repeat("a,b,c\n", r.IntN(400)))
			for range r.IntN(60) {
				b.WriteString(someLine(r))
			}
			if len(texts)%3 == 0 { // most of these are no UTF-8, so not for blocks
				b.Write(someBytes(r, r.IntN(30)))
			}
		}
		texts[fmt.Sprint("random ", len(texts))] = b.String()
	}
	for name, text := range texts {
		path := filepath.Join(t.TempDir(), "in.csv")
		require.NoError(t, os.WriteFile(path, []byte("Reg. No.,Vessel,Berth\n"+text), 0o644))
		asked := ReadOptions{Delimiter: ",", Quote: `"`, Header: HeaderLines{First: 1, Last: 1}, Encoding: "utf-8"}
		want, _ := readInBlocks(t, path, asked, false)
		got, blocks := readInBlocks(t, path, asked, true)
		require.Equal(t, want, got, name)
		if name == "plain" || name == "CRLF" || name == "UTF-8" || strings.HasPrefix(name, "quoted") {
			assert.GreaterOrEqual(t, blocks, 600, "lines that came in blocks, of "+name)
		}
	}
}

// readInBlocks reads a file into a text for each record, and one for each chunk, and counts the rows of blocks.
func readInBlocks(t *testing.T, path string, asked ReadOptions, inBlocks bool) (all []string, rows int) {
	table, err := Open([]string{path}, asked)
	if err != nil {
		return []string{err.Error()}, 0
	}
	defer table.Close()
	for {
		c, err := table.Next()
		if err != nil {
			return append(all, err.Error()), rows
		}
		var record Record
		told := func(r *Record) {
			all = append(all, fmt.Sprintf("%d %q %q %v %v %v", r.Position, r.Raw, r.Fields, r.Problem, r.Gap, r.beyond))
		}
		if inBlocks {
			c.Walk(&Record{}, func(b *Block) {
				for row := range b.Rows {
					b.Record(row, &record)
					told(&record)
				}
				rows += b.Rows
			}, told)
		} else {
			for c.Next(&record) {
				told(&record)
			}
		}
		all = append(all, fmt.Sprintf("%+v", c.Counts))
		c.Release()
	}
}

// someLine is a line of three fields, mostly.
func someLine(r *rand.Rand) string {
	fields := []string{"a", "", "ab c", `"a"`, `""`, `"a,b"`, `"a""b"`, `"a` + "\n" + `b"`, `""""`, ` "a"`, `"a" `, `a"b`, `"a"b`}
	all := make([]string, 3+r.IntN(12)/11)
	for i := range all {
		all[i] = fields[r.IntN(6+r.IntN(len(fields)-5))]
	}
	return strings.Join(all, ",") + []string{"\n", "\n", "\n", "\r\n"}[r.IntN(4)]
}
