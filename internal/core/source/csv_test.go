package source

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/fault"
)

// open writes content to a file and opens it.
func open(t testing.TB, content string, header int) (*CSV, error) {
	path := filepath.Join(t.TempDir(), "in.csv")
	require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
	c, err := OpenCSV(path, header)
	if err == nil {
		t.Cleanup(func() { c.Close() })
	}
	return c, err
}

// records reads everything, each record as line: fields or problem.
func records(c *CSV) (all []string, err error) {
	for {
		chunk, err := c.Next()
		if err == io.EOF {
			return all, nil
		}
		if err != nil {
			return all, err
		}
		var r Record
		for chunk.Next(&r) {
			words := fmt.Sprintf("%d: %q", r.Line, r.Fields)
			if r.Problem != "" {
				words = fmt.Sprintf("%d: %s", r.Line, r.Problem)
			}
			all = append(all, words)
		}
	}
}

func TestCSV(t *testing.T) {
	cases := []struct {
		name, content string
		want          []string
		err           string
	}{
		{"plain", "a,b\n1,2\n3,4\n", []string{`2: ["1" "2"]`, `3: ["3" "4"]`}, ""},
		{"no line end at the end", "a,b\n1,2", []string{`2: ["1" "2"]`}, ""},
		{"CRLF and LF mixed", "a,b\r\n1,2\n3,4\r\n", []string{`2: ["1" "2"]`, `3: ["3" "4"]`}, ""},
		{"a byte-order mark", "\xef\xbb\xbfa,b\n1,2\n", []string{`2: ["1" "2"]`}, ""},
		{"empty fields", "a,b\n,\n\"\",\n", []string{`2: ["" ""]`, `3: ["" ""]`}, ""},
		{"empty lines are passed over", "a,b\n\n1,2\r\n\r\n", []string{`3: ["1" "2"]`}, ""},
		{"but not in a file of one column", "a\n\nx\n", []string{`2: [""]`, `3: ["x"]`}, ""},
		{"commas and quotes in quotes", "a,b\n\"1,\"\"x\"\"\",\"\"\"\"\n", []string{`2: ["1,\"x\"" "\""]`}, ""},
		{"line ends in quotes", "a,b\n\"1\n2\",\"\r\n\"\n3,4\n", []string{`2: ["1\n2" "\r\n"]`, `5: ["3" "4"]`}, ""},
		{"blanks are kept", "a,b\n 1 , \"2\n", []string{`2: a quote stands inside a field that doesn't start with one`}, ""},
		{"a carriage return inside of a field", "a,b\n1\r2,3\n", []string{`2: ["1\r2" "3"]`}, ""},
		{"a quote inside of a field harms only its line", "a,b\n5\",2\n3,4\n",
			[]string{`2: a quote stands inside a field that doesn't start with one`, `3: ["3" "4"]`}, ""},
		{"text behind a quote harms only its line", "a,b\n\"5\"x,2\n3,4\n",
			[]string{`2: text follows the closing quote of a field`, `3: ["3" "4"]`}, ""},
		{"a quote never closed", "a,b\n1,2\n3,\"4\n5,6\n", nil, "in.csv:3:3: the quote that opens here is never closed"},
		{"a quote never closed behind another line end", "a,b\n\"1\n2\",\"4\n5,6\n", nil, "in.csv:3:4: the quote that opens here is never closed"},
		{"only a header", "a,b\n", nil, ""},
		{"nothing", "", nil, "the file is empty"},
		{"only a byte-order mark", "\xef\xbb\xbf", nil, "there is no header here"},
		{"doubled names", "a,A \n", nil, `columns 1 and 2 are both named "A"`},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			f, err := open(t, c.content, 1)
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

func TestHeaderBelowATitle(t *testing.T) {
	f, err := open(t, "Register,,\n\nReg. No., Name ,GT\n1,2,3\n", 3)
	require.NoError(t, err)
	assert.Equal(t, []string{"Reg. No.", "Name", "GT"}, f.Header().Names)
	got, err := records(f)
	require.NoError(t, err)
	assert.Equal(t, []string{`4: ["1" "2" "3"]`}, got)
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
			fmt.Fprintf(&b, "%d,\"two\nlines\"\n", i)
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
	f, err := open(t, content, 1)
	require.NoError(t, err)
	n := 1
	for {
		chunk, err := f.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		again, err := f.Again(chunk.Origin)
		require.NoError(t, err)
		var r, s Record
		for chunk.Next(&r) {
			require.True(t, again.Next(&s))
			require.Equal(t, want[n][0], string(r.Fields[0]))
			require.Equal(t, want[n][1], string(r.Fields[1]))
			require.Equal(t, r.Line, s.Line)
			require.Equal(t, r.Raw, s.Raw)
			n++
		}
	}
	assert.Equal(t, len(want), n)
	assert.Len(t, f.Sum(), 64)
}

func TestAFileThatChangesIsNoticed(t *testing.T) {
	f, err := open(t, "a,b\n1,2\n", 1)
	require.NoError(t, err)
	chunk, err := f.Next()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(f.Path(), []byte("a,b\n1,3\n"), 0o600))
	_, err = f.Again(chunk.Origin)
	assert.ErrorContains(t, err, "changed while it was being loaded")
}

func TestARecordWithoutEndIsGivenUp(t *testing.T) {
	f, err := open(t, "a,b\n1,\""+strings.Repeat("x", 2*maxRecord)+"\n1,2\n", 1)
	require.NoError(t, err)
	_, err = records(f)
	assert.ErrorContains(t, err, "in.csv:2: the record that starts here is longer than 16 MB")
}

// FuzzCSV: the records of any content cover it without a gap, and where the content keeps the rules the fields are
// those that encoding/csv finds.
func FuzzCSV(f *testing.F) {
	for _, seed := range []string{"1,2\n", "\"a\"\"b\",c\r\n", "\"open", "x\"y,z\n", "\"a\"b,c\n\n", "\r\n,\r", "\"\n\"\n"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, content []byte) {
		var ours [][]string
		broken := false
		chunk := Chunk{Raw: content, Line: 1}
		var r Record
		end := 0
		for chunk.Next(&r) {
			start := cap(content) - cap(r.Raw) // it stands in the memory of content
			require.Empty(t, bytes.Trim(content[end:start], "\r\n"), "only line ends may stand between records")
			end = start + len(r.Raw)
			require.Equal(t, int64(1+bytes.Count(content[:start], []byte{'\n'})), r.Line)
			broken = broken || r.Problem != "" || r.open
			fields := make([]string, len(r.Fields))
			for i, field := range r.Fields {
				fields[i] = string(field)
			}
			ours = append(ours, fields)
		}
		require.Empty(t, bytes.Trim(content[end:], "\r\n"))
		reader := csv.NewReader(bytes.NewReader(content))
		reader.FieldsPerRecord = -1
		theirs, err := reader.ReadAll()
		if err == nil && !broken && !bytes.Contains(content, []byte("\r")) { // encoding/csv changes CRs inside of fields
			assert.Equal(t, theirs, ours)
		}
	})
}
