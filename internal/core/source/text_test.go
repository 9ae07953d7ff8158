package source

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/csv"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/unicode"

	"ladle/internal/core/fault"
)

// open writes content to a file and opens it.
func open(t testing.TB, content string, asked ReadOptions) (Table, error) {
	path := filepath.Join(t.TempDir(), "in.csv")
	require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
	return opened(t, Open, asked, path)
}

func opened(t testing.TB, how func([]string, ReadOptions) (Table, error), asked ReadOptions, paths ...string) (Table,
	error) {
	table, err := how(paths, asked)
	if err == nil {
		t.Cleanup(func() { table.Close() })
	}
	return table, err
}

// records reads everything, each record as line: fields or problem, and the cells that can't be trusted.
func records(table Table) (all []string, err error) {
	for {
		chunk, err := table.Next()
		if err == io.EOF {
			return all, nil
		}
		if err != nil {
			return all, err
		}
		var r Record
		for chunk.Next(&r) {
			_, line := PositionIn(r.Position)
			words := fmt.Sprintf("%d: %s", line, strings.Join(texts(r.Fields), "|"))
			if r.Problem != nil {
				words = fmt.Sprintf("%d: %s", line, r.Problem.Words())
			}
			for _, f := range r.Faults {
				words += fmt.Sprintf(" (%d %s)", f.Field, f.Why)
			}
			all = append(all, words)
		}
	}
}

func texts(fields [][]byte) []string {
	all := make([]string, len(fields))
	for i, f := range fields {
		all[i] = string(f)
	}
	return all
}

// comma is what RFC 4180 says, with the header on the first line.
var comma = ReadOptions{Delimiter: ",", Quote: `"`, Header: HeaderLines{First: 1, Last: 1}}

func TestRecordsOfRFC4180(t *testing.T) {
	cases := []struct {
		name, content string
		want          []string
		err           string
	}{
		{"plain", "a,b\n1,2\n3,4\n", []string{`2: 1|2`, `3: 3|4`}, ""},
		{"no line end at the end", "a,b\n1,2", []string{`2: 1|2`}, ""},
		{"CRLF, LF and CR mixed", "a,b\r\n1,2\n3,4\r5,6\r\n7,8", []string{`2: 1|2`, `3: 3|4`, `4: 5|6`, `5: 7|8`}, ""},
		{"a byte-order mark", "\xef\xbb\xbfa,b\n1,2\n", []string{`2: 1|2`}, ""},
		{"empty fields", "a,b\n1,\n\"\",\n,2\n", []string{`2: 1|`, `3: |`, `4: |2`}, ""},
		{"lines that hold nothing are passed over", "a,b\n\n1,2\r\n\r\n,\n3,4\n", []string{`3: 1|2`, `6: 3|4`}, ""},
		{"but empty ones are blank cells of a single column", "a\n\nx\n", []string{`2: `, `3: x`}, ""},
		{"delimiters and quotes in quotes", "a,b\n\"1,\"\"x\"\"\",\"\"\"\"\n", []string{`2: 1,"x"|"`}, ""},
		{"line ends in quotes", "a,b\n\"1\n2\",\"\r\n\"\n3,4\n", []string{"2: 1\n2|\r\n", `5: 3|4`}, ""},
		{"blanks are kept", "a,b\n 1 ,\t2 \n", []string{"2:  1 |\t2 "}, ""},
		{"blank fields behind the last column are none", "a,b\n1,2,\n3,4,,,\n5,6,,7\n",
			[]string{`2: 1|2`, `3: 3|4`, `4: 5|6||7`}, ""},
		{"a quote inside of a field harms only its line", "a,b\n5\",2\n3,4\n",
			[]string{"2: " + strayQuote.Words(), `3: 3|4`}, ""},
		{"text behind a quote harms only its line", "a,b\n\"5\"x,2\n3,4\n",
			[]string{"2: " + textBehind.Words(), `3: 3|4`}, ""},
		{"text behind a quote at the end", "a,b\n1,\"5\"x", []string{"2: " + textBehind.Words()}, ""},
		{"bytes that are no UTF-8 harm only their line", "a,b\nété,Größe\n\xff,2\n3,4\n",
			[]string{`2: été|Größe`, "3: the line is not valid UTF-8", `4: 3|4`}, ""},
		{"a long line of fields", "a,b\n" + strings.Repeat("x", 200) + "," + strings.Repeat("y", 63) + "\n",
			[]string{"2: " + strings.Repeat("x", 200) + "|" + strings.Repeat("y", 63)}, ""},
		{"a quote never closed", "a,b\n1,2\n3,\"4\n5,6\n", nil,
			"in.csv:3:3: the quote that opens here is never closed"},
		{"a quote never closed behind another line end", "a,b\n\"1\n2\",\"4\n5,6\n", nil,
			"in.csv:3:4: the quote that opens here is never closed"},
		{"only a header", "a,b\n", nil, ""},
		{"nothing", "", nil, "the file is empty"},
		{"only a byte-order mark", "\xef\xbb\xbf", nil, "the file is empty"},
		{"only empty lines", "\n\n", nil, "there is no header on this line"},
		{"bytes of a program", "\x00\x01\x02" + strings.Repeat("\x00\x07\x00\x00", 99), nil, "full of NUL bytes"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			f, err := open(t, c.content, comma)
			var got []string
			if err == nil {
				got, err = records(f)
			}
			if c.err != "" {
				require.ErrorContains(t, err, c.err)
				assert.Equal(t, fault.Refused, fault.ClassOf(err))
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
}

const arrivals = "Reg. No.;Vessel;Arrived;Dues\n" +
	"PM-1;Aurelia;2026-03-01;1.240,50\nPM-2;\"Grey; Heron\";2026-03-02;80,00\nPM-3;Otter, Sea;;12,5\n"

func TestHowAFileIsReadIsFound(t *testing.T) {
	many := strings.Repeat("PM-1\t5\" pipe\t12\n", 40)
	cases := []struct {
		name, content    string
		asked            ReadOptions
		delimiter, quote string
		header           string
		names, first     string
	}{
		{"semicolons beside decimal commas", arrivals, ReadOptions{}, ";", `"`, "1", "Reg. No.|Vessel|Arrived|Dues",
			"2: PM-1|Aurelia|2026-03-01|1.240,50"},
		{"commas", "Berth,Depth\nN1,7.5\nN2,8\n", ReadOptions{}, ",", `"`, "1", "Berth|Depth", "2: N1|7.5"},
		{"tabs, with quotes that are part of the data", "Vessel\tCargo\tTons\n" + many, ReadOptions{}, "\t", "none",
			"1", "Vessel|Cargo|Tons", "2: PM-1|5\" pipe|12"},
		{"bars", "a|b|c\n1|2|3\n4|5|6\n", ReadOptions{}, "|", `"`, "1", "a|b|c", "2: 1|2|3"},
		{"apostrophes as quotes", "a,b\n'1,5','x'\n'2,5','y'\n'2,5','it''s'\n", ReadOptions{}, ",", "'", "1", "a|b",
			"2: 1,5|x"},
		{"one column", "Berth\nN1\nN2\nS1\n", ReadOptions{}, "none", `"`, "1", "Berth", "2: N1"},
		{"a delimiter that the file names", "sep=;\na;b\n1;2\n", ReadOptions{}, ";", `"`, "2", "a|b", "3: 1|2"},
		{"another delimiter", "a:b\n12:30\n", ReadOptions{Delimiter: ":"}, ":", `"`, "1", "a|b", "2: 12|30"},
		{"titles above the header", "Arrivals at \"Port Merrow,,\n# as of March\n\nReg. No.,Dues,Paid\n" +
			"PM-1,12.50,yes\nPM-2,8,no\n", ReadOptions{}, ",", `"`, "4", "Reg. No.|Dues|Paid", "5: PM-1|12.50|yes"},
		{"no header", "PM-1,12.50,2026-03-01\nPM-2,8.00,2026-03-02\n", ReadOptions{}, ",", `"`, "none",
			"column 1|column 2|column 3", "1: PM-1|12.50|2026-03-01"},
		{"no header, as is said", "a,b\n1,2\n", ReadOptions{Header: HeaderLines{None: true}}, ",", `"`, "none",
			"column 1|column 2", "1: a|b"},
		{"text without a header", "N1,timber\nN2,grain\nN1,coal\nS1,timber\n", ReadOptions{}, ",", `"`, "none",
			"column 1|column 2", "1: N1|timber"},
		{"years as names of columns", "Berth,2024,2025\nN1,120,130\nN2,80,85\n", ReadOptions{}, ",", `"`, "none",
			"column 1|column 2|column 3", "1: Berth|2024|2025"},
		{"the header's line is said", "Berth,2024,2025\nN1,120,130\nN2,80,85\n",
			ReadOptions{Header: HeaderLines{First: 1, Last: 1}}, ",", `"`, "1", "Berth|2024|2025", "2: N1|120|130"},
		{"a header of two lines, as is said", "Vessel,,Stay,\nReg. No.,Name,Arrived,Departed\nPM-1,Aurelia,1,2\n",
			ReadOptions{Header: HeaderLines{First: 1, Last: 2}}, ",", `"`, "1-2",
			"Vessel Reg. No.|Vessel Name|Stay Arrived|Stay Departed", "3: PM-1|Aurelia|1|2"},
		{"a header of two lines", "Reg. No.,Size,,Stay,\n,Length,Beam,Arrived,Departed\nPM-1,80,12,1,2\n" +
			"PM-2,75,11,3,4\n", ReadOptions{}, ",", `"`, "1-2",
			"Reg. No.|Size Length|Size Beam|Stay Arrived|Stay Departed", "3: PM-1|80|12|1|2"},
		{"columns without a name go by their position", "a,,c,d,\n1,2,3,4,5\n", ReadOptions{}, ",", `"`, "1",
			"a|column 2|c|d|column 5", "2: 1|2|3|4|5"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			f, err := open(t, c.content, c.asked)
			require.NoError(t, err)
			got, err := records(f)
			require.NoError(t, err)
			m := f.Formats()[0]
			assert.Equal(t, []string{c.delimiter, c.quote, c.header},
				[]string{m.Delimiter.Value, m.Quote, m.Header.Value})
			assert.Equal(t, c.names, strings.Join(f.Header().Names, "|"))
			require.NotEmpty(t, got)
			assert.Equal(t, c.first, got[0])
		})
	}
}

func TestFooter(t *testing.T) {
	content := "a,b\n" + strings.Repeat("1,2\n", 60_000) + "Total,60000\n\n-- end of report --\n"
	f, err := open(t, content, ReadOptions{Footer: 2})
	require.NoError(t, err)
	got, err := records(f)
	require.NoError(t, err)
	assert.Len(t, got, 60_000)
	assert.Equal(t, "60001: 1|2", got[59_999])
}

func TestEncodings(t *testing.T) {
	latin := "Vessel;Port\nMéduse;Göteborg\nÆgir;Åbo – “new”\nÑandú;Cádiz\n"
	central := "Statek;Port\nŻółw;Gdańsk\nŁabędź;Świnoujście\nJaskółka;Kołobrzeg\nKaša;Břeclav\n"
	russian := "Судно;Порт\nВосход;Мурманск\nЗаря;Находка\n"
	greek := "Πλοίο;Λιμάνι\nΑφροδίτη;Πειραιάς\nΘάλασσα;Χανιά\n"
	japan := "船名;港\nさくら丸;横浜\nはやぶさ;神戸港\nカモメ;長崎\n"
	utf16 := func(e unicode.Endianness, b unicode.BOMPolicy) func(string) (string, error) {
		return unicode.UTF16(e, b).NewEncoder().String
	}
	cases := []struct {
		name, text string
		encode     func(string) (string, error)
		want       string
	}{
		{"UTF-8", latin, func(s string) (string, error) { return s, nil }, "UTF-8"},
		{"ASCII", "Vessel;Port\nOtter;Merrow\n", func(s string) (string, error) { return s, nil }, "ASCII"},
		{"UTF-16 with a mark", latin, utf16(unicode.LittleEndian, unicode.UseBOM), "UTF-16LE"},
		{"UTF-16 without one", latin, utf16(unicode.BigEndian, unicode.IgnoreBOM), "UTF-16BE"},
		{"western", latin, charmap.Windows1252.NewEncoder().String, "windows-1252"},
		{"central European", central, charmap.Windows1250.NewEncoder().String, "windows-1250"},
		{"central European of ISO", central, charmap.ISO8859_2.NewEncoder().String, "ISO-8859-2"},
		{"Cyrillic", russian, charmap.Windows1251.NewEncoder().String, "windows-1251"},
		{"Cyrillic of ISO", russian, charmap.ISO8859_5.NewEncoder().String, "ISO-8859-5"},
		{"Greek", greek, charmap.Windows1253.NewEncoder().String, "windows-1253"},
		{"Japanese", japan, japanese.ShiftJIS.NewEncoder().String, "Shift_JIS"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			for _, filler := range []int{0, 70_000} { // found at once, or behind a megabyte of ASCII
				text := c.text
				if header, rest, _ := strings.Cut(text, "\n"); filler > 0 && c.want != "UTF-16LE" &&
					c.want != "UTF-16BE" {
					text = header + "\n" + strings.Repeat("Otter;Merrow\n", filler) + rest
				}
				encoded, err := c.encode(text)
				require.NoError(t, err)
				f, err := open(t, encoded, ReadOptions{Guess: true})
				require.NoError(t, err)
				got, err := records(f)
				require.NoError(t, err)
				assert.Equal(t, c.want, f.Formats()[0].Encoding.Value)
				lines := strings.Split(strings.TrimSpace(text), "\n")
				assert.Equal(t, lines[0], strings.Join(f.Header().Names, ";"))
				last := got[len(got)-1]
				assert.Equal(t, strings.ReplaceAll(lines[len(lines)-1], ";", "|"), last[strings.Index(last, " ")+1:])
			}
		})
	}
	t.Run("what is said is taken", func(t *testing.T) {
		f, err := open(t, "a,b\n\xe9,2\n\x81,3\n", ReadOptions{Encoding: "windows-1252"})
		require.NoError(t, err)
		got, err := records(f)
		require.NoError(t, err)
		assert.Equal(t, []string{"2: é|2", "3: the line has bytes that mean nothing in windows-1252"}, got)
	})
}

// large is a file of several chunks in which records of all kinds meet the borders of chunks.
func large() string {
	var b strings.Builder
	b.WriteString("a,b\n")
	for i := range 40_000 {
		switch i % 4 {
		case 0:
			fmt.Fprintf(&b, "%d,plain\n", i)
		case 1:
			fmt.Fprintf(&b, "%d,\"two\nlinés\"\n", i)
		case 2:
			fmt.Fprintf(&b, "%d,\"a \"\"quote\"\"\"\r\n", i)
		case 3:
			fmt.Fprintf(&b, "%d,%s\n", i, strings.Repeat("x", i%97))
		}
	}
	return b.String()
}

func TestChunksHoldWholeRecordsAndCanBeReadAgain(t *testing.T) {
	content := large()
	want, err := csv.NewReader(strings.NewReader(content)).ReadAll()
	require.NoError(t, err)
	dir := t.TempDir()
	for name, write := range map[string]func(io.Writer) error{
		"plain.csv": func(w io.Writer) error { _, err := io.WriteString(w, content); return err },
		"packed.csv.gz": func(w io.Writer) error {
			z := gzip.NewWriter(w)
			io.WriteString(z, content)
			return z.Close()
		},
		"packed.zip": func(w io.Writer) error {
			z := zip.NewWriter(w)
			f, err := z.Create("post/large.csv")
			io.WriteString(f, content)
			return cmpErr(err, z.Close())
		},
		"utf16.csv": func(w io.Writer) error {
			s, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(content)
			io.WriteString(w, s)
			return err
		},
		"western.csv": func(w io.Writer) error {
			s, err := charmap.Windows1252.NewEncoder().String(content)
			io.WriteString(w, s)
			return err
		},
	} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(dir, name)
			var b bytes.Buffer
			require.NoError(t, write(&b))
			require.NoError(t, os.WriteFile(path, b.Bytes(), 0o600))
			f, err := opened(t, Open, ReadOptions{Guess: true}, path)
			require.NoError(t, err)
			var origins []Origin
			n, first := 1, []string{}
			for {
				chunk, err := f.Next()
				if err == io.EOF {
					break
				}
				require.NoError(t, err)
				origins = append(origins, chunk.Seal())
				var r Record
				for k := 0; chunk.Next(&r); k++ {
					require.Equal(t, want[n], texts(r.Fields))
					if k == 0 {
						first = append(first, fmt.Sprint(r.Position, string(r.Raw)))
					}
					n++
				}
			}
			require.Equal(t, len(want), n)
			require.Greater(t, len(origins), 2)
			for _, i := range []int{1, 2, 0} {
				again, err := f.Again(origins[i])
				require.NoError(t, err)
				var r Record
				require.True(t, again.Next(&r))
				assert.Equal(t, first[i], fmt.Sprint(r.Position, string(r.Raw)))
			}
			sum, err := f.Sum()
			require.NoError(t, err)
			assert.Len(t, sum, 64)
			assert.Equal(t, f.Size(), origins[len(origins)-1].Done)
		})
	}
}

func cmpErr(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

func TestAFileThatChangesIsNoticed(t *testing.T) {
	f, err := open(t, "a,b\n1,2\n", comma)
	require.NoError(t, err)
	chunk, err := f.Next()
	require.NoError(t, err)
	origin := chunk.Seal()
	require.NoError(t, os.WriteFile(f.Formats()[0].Path, []byte("a,b\n1,30\n"), 0o600))
	_, err = f.Again(origin)
	assert.ErrorContains(t, err, "changed while it was being read")
	_, err = f.Sum()
	assert.ErrorContains(t, err, "changed while it was being read")
}

func TestSeveralFilesAreOneTable(t *testing.T) {
	dir := t.TempDir()
	for name, content := range map[string]string{
		"calls-1.csv": "Vessel,Arrived\nAurelia,1\n", "calls-2.csv": "arrived;VESSEL\n2;Heron\n3;\"a;b\"\n",
		"other-1.csv": "Vessel,Departed\nOtter,9\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600))
	}
	f, err := opened(t, Open, ReadOptions{}, filepath.Join(dir, "calls-*.csv"))
	require.NoError(t, err)
	var spots []string
	for {
		chunk, err := f.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		again, err := f.Again(chunk.Seal())
		require.NoError(t, err)
		var r, s Record
		for chunk.Next(&r) && again.Next(&s) {
			assert.Equal(t, texts(r.Fields), texts(s.Fields))
			spots = append(spots, PlaceOf(f, r.Position).Short()+" "+DialectOf(f).Record(f, &r))
		}
	}
	assert.Equal(t, []string{"calls-1.csv:2 Aurelia,1", "calls-2.csv:2 Heron,2", "calls-2.csv:3 a;b,3"}, spots)

	_, err = Open([]string{filepath.Join(dir, "calls-1.csv"), filepath.Join(dir, "other-*.csv")}, ReadOptions{})
	assert.ErrorContains(t, err, "other-1.csv:1: this file has other columns than")
	assert.ErrorContains(t, err, "it lacks Arrived; it has Departed besides")
	_, err = Open([]string{filepath.Join(dir, "none-*.csv")}, ReadOptions{})
	assert.ErrorContains(t, err, "no file matches this name")
}

func TestForeignAndDamagedFiles(t *testing.T) {
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	io.WriteString(z, large())
	require.NoError(t, z.Close())
	cases := map[string][2]string{
		"an old workbook":    {"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1...", "old binary format"},
		"a web page":         {" <html><table>", "this is a web page"},
		"a document":         {"%PDF-1.7", "this is a PDF document"},
		"half a zip archive": {"PK\x03\x04half", "its directory at the end is missing"},
		"half a packed file": {packed.String()[:packed.Len()/2], "its compressed data ends too early"},
		"a record without end": {"a,b\n1,\"" + strings.Repeat("x", 2*maxRecord) + "\n1,2\n",
			"in.csv:2: the record that starts here is longer than 16 MB"},
		"a line without an end":   {"a,b\n1," + strings.Repeat("x", 2*maxRecord), "longer than 16 MB"},
		"a header without an end": {strings.Repeat("x", 2*maxRecord), "longer than 16 MB"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			f, err := open(t, c[0], ReadOptions{})
			if err == nil {
				_, err = records(f)
			}
			assert.ErrorContains(t, err, c[1])
		})
	}
}

// FuzzText: however a text is said to be read, its records cover it without a gap, and a file of RFC 4180 has the
// fields that encoding/csv finds.
func FuzzText(f *testing.F) {
	for _, seed := range []string{"1,2\n", "\"a\"\"b\",c\r\n", "\"open", "x\"y,z\n", "\"a\"b,c\n\n", "\r\n,\r",
		"\"\n\"\n", "a;b\r1;2\r", "sep=;\na;b\n",
		arrivals, "\xff\xfea\x00,\x00b\x00\n\x001\x00,\x002\x00", "M\xe9duse;G\xf6teborg\n",
		strings.Repeat("abcdefgh,\"x\"\n", 9)} {
		f.Add([]byte(seed), byte(','), byte('"'))
	}
	f.Fuzz(func(t *testing.T, content []byte, delimiter, quote byte) {
		d := Dialect{delimiter, quote}
		if delimiter == quote || strings.ContainsRune("\r\n", rune(delimiter)) ||
			strings.ContainsRune("\r\n", rune(quote)) {
			return
		}
		l := newLines(content, d, 1, 0)
		var ours [][]string
		broken := false
		for end := 0; l.at < len(content); {
			var r Record
			start, line := l.at, l.line
			require.Equal(t, 1+countLines(content[:start]), line)
			stop, open := l.read(&r)
			require.GreaterOrEqual(t, start, end)
			require.Less(t, start, l.at)
			end = stop
			broken = broken || open >= 0 || r.Problem != nil
			if stop > start {
				ours = append(ours, texts(r.Fields))
			}
		}
		cut, _ := wholeRecords(content, d, nil, d.firstQuote(content), false)
		whole := newLines(content[:cut], d, 1, 0)
		for n := 0; whole.at < cut; n++ { // what is cut off for a chunk reads as it does in the whole
			var r Record
			if start := whole.at; func() int { end, _ := whole.read(&r); return end }() > start && !broken {
				require.Equal(t, ours[n], texts(r.Fields))
			} else {
				n--
			}
		}
		if reader := csv.NewReader(bytes.NewReader(content)); d == (Dialect{',', '"'}) && !broken &&
			!bytes.Contains(content, []byte("\r")) {
			reader.FieldsPerRecord = -1
			if theirs, err := reader.ReadAll(); err == nil {
				require.Equal(t, theirs, ours)
			}
		}
		if table, err := open(t, string(content), ReadOptions{}); err == nil {
			records(table)
		}
	})
}
