package source

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/iotest"

	"ladle/internal/seeded"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

// someBytes returns n bytes of which many mean something to a reader of lines, and many differ from such by one bit.
func someBytes(r *rand.Rand, n int) []byte {
	const near = ",;\t\"'\r\n-+\x0b\x0c\x8d\xac\x00 ax"
	b := make([]byte, n)
	for i := range b {
		if b[i] = near[r.IntN(len(near))]; r.IntN(8) == 0 {
			b[i] = byte(r.IntN(256))
		}
	}
	return b
}

// TestPlacesAgainstLooking holds the places of what means something against looking at each byte, from any place on.
func TestPlacesAgainstLooking(t *testing.T) {
	r := seeded.Rand(t)
	for range 300 {
		b := someBytes(r, 1+r.IntN(3*piece))
		l := newLines(b, Dialect{",;\t|"[r.IntN(4)], "\"'\x00"[r.IntN(3)]}, 1, 0)
		l.returns = r.IntN(2) == 0
		from := r.IntN(len(b))
		l.skip(from)
		var want, got []int
		for i, c := range b[from:] {
			if c == l.Delimiter || c == '\n' || l.quotes && c == l.Quote || l.returns && c == '\r' {
				want = append(want, from+i)
			}
		}
		for l.passed < len(l.all) || l.more() {
			got = append(got, int(l.all[l.passed]))
			l.passed++
		}
		require.Equal(t, want, got, "from %d", from)
	}
}

// TestEndsAgainstLooking holds the count of line ends against going through the bytes.
func TestEndsAgainstLooking(t *testing.T) {
	r := seeded.Rand(t)
	for range 2000 {
		b := someBytes(r, r.IntN(120))
		var want lineEndings
		for i, c := range b {
			follows := i > 0 && b[i-1] == '\r'
			switch {
			case c == '\n' && follows:
				want.crlf++
				want.cr--
			case c == '\n':
				want.lf++
			case c == '\r':
				want.cr++
			}
		}
		var got lineEndings
		n := got.count(b)
		require.Equal(t, want, got, "%q", b)
		require.Equal(t, int64(want.lf+want.crlf+want.cr), n)

		last := 0 // behind the last end of a line that can't go on
		for i, c := range b {
			if c == '\n' || c == '\r' && i+1 < len(b) {
				last = i + 1
			}
		}
		require.Equal(t, last, lastEnd(b), "%q", b)
		ascii := bytes.IndexFunc(b, func(c rune) bool { return c >= 0x80 || c == 0xfffd })
		if ascii < 0 {
			ascii = len(b)
		}
		require.Equal(t, ascii, asciiPrefix(b), "%q", b)
	}
	assert.Equal(t, "CRLF and LF and CR", lineEndings{1, 2, 3}.String())
	assert.Empty(t, lineEndings{}.String())
}

// TestRecordsOfChunksAreThoseOfTheWhole cuts random text where chunks end, at every place that the reader could have
// read up to, and reads the parts: their records are those of the text in one piece.
func TestRecordsOfChunksAreThoseOfTheWhole(t *testing.T) {
	r := seeded.Rand(t)
	read := func(raw []byte, d Dialect, line int64) (all []string, next int64) {
		l := newLines(raw, d, line, 0)
		for l.at < len(raw) {
			var rec Record
			line := l.line
			if _, open := l.read(&rec); open >= 0 {
				return append(all, "open"), l.line
			}
			all = append(all, fmt.Sprintf("%d %q %s", line, rec.Fields, rec.Problem))
		}
		return all, l.line
	}
	for range 6000 {
		d := Dialect{',', '"'}
		b := someBytes(r, 1+r.IntN(150))
		if r.IntN(2) == 0 {
			b = nil
			for range 1 + r.IntN(12) {
				b = append(b, someLine(r)...)
			}
		}
		want, _ := read(b, d, 1)
		part := b[:r.IntN(len(b)+1)]
		cut, _ := wholeRecords(part, d, nil, d.firstQuote(part), false)
		got, line := read(b[:cut], d, 1)
		rest, _ := read(b[cut:], d, line)
		if all := append(got, rest...); want != nil && want[len(want)-1] != "open" {
			require.Equal(t, want, all, "%q cut at %d", b, cut)
		}
	}
}

// TestDecodingInPieces: what is decoded doesn't depend on how much is read at a time, nor on when an error comes.
func TestDecodingInPieces(t *testing.T) {
	long := strings.Repeat("Otter;Merrow\n", 9000)
	latin := long + "Méduse;Göteborg\nÆgir;Åbo\n" + long
	western, err := charmap.Windows1252.NewEncoder().String(latin)
	require.NoError(t, err)
	utf16, err := unicode.UTF16(unicode.BigEndian, unicode.UseBOM).NewEncoder().String(latin)
	require.NoError(t, err)
	for name, content := range map[string]string{"ASCII": long, "UTF-8": latin,
		"UTF-8 with a mark": "\xef\xbb\xbf" + latin, "windows-1252": western, "UTF-16": utf16} {
		want := latin
		if name == "ASCII" {
			want = long
		}
		for how, reader := range map[string]func(io.Reader) io.Reader{"at " +
			"once": func(r io.Reader) io.Reader { return r }, "by halves": iotest.HalfReader,
			"byte by byte":             iotest.OneByteReader,
			"with the end at the last": iotest.DataErrReader} {
			d, err := decode(reader(strings.NewReader(content)), "")
			require.NoError(t, err)
			got, err := io.ReadAll(d)
			require.NoError(t, err, name+" "+how)
			require.True(t, want == string(got), name+" "+how)
		}
		broken := io.MultiReader(strings.NewReader(content), iotest.ErrReader(io.ErrUnexpectedEOF))
		d, err := decode(broken, "")
		require.NoError(t, err)
		got, err := io.ReadAll(d)
		assert.ErrorIs(t, err, io.ErrUnexpectedEOF, name)
		assert.True(t, strings.HasPrefix(want, string(got)) || name != "UTF-16", name)
	}
}
