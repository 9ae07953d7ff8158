package draft

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/source"
)

// update holds a ladle file against files.
func (b *bench) update(text string, files ...File) *Revision {
	b.Helper()
	f, err := ladlefile.Decode("f.ladle.yaml", []byte(text))
	require.NoError(b, err)
	r, err := Update(context.Background(), f, []byte(text), files, b.schema, b.db)
	require.NoError(b, err)
	return r
}

const craneFile = `ladle: 1
inputs:
  cranes:
    file: cranes.csv
    columns:
      Lift: {number: '1234,50'}  # by hand
tables:
  crane:
    from: cranes
    key: crane_no
    columns:
      crane_no: No
      quay_id: {from: Quay, lookup: quay.name}
      lift_t: Lift
      owner: {constant: Port}  # always
`

// TestUpdatesOfLadleFiles: what a file or a table asks for is changed, all else stays, and what has no answer is told.
func TestUpdatesOfLadleFiles(t *testing.T) {
	for _, c := range []struct {
		name, csv string
		was, now  []string // texts of the ladle file, in pairs
		errors    []string
		unused    []string
	}{
		{"nothing changed", "No;Quay;Lift\n1;North;4,5\n2;South;5\n", nil, nil, nil, nil},
		{"upper and lower case", "NO;quay;LIFT\n1;North;4,5\n2;South;5\n", nil, nil, nil, nil},
		{"a column with another name, and its rule", "No;Quay;Lift (t)\n1;North;4,5\n2;South;5\n",
			[]string{"      Lift: {", "lift_t: Lift\n"}, []string{"      Lift (t): {", "lift_t: Lift (t)\n"}, nil, nil},
		{"a lookup by another name", "No;Where;Lift\n1;North;4,5\n2;South;5\n", []string{"{from: Quay,"},
			[]string{"{from: Where,"}, nil, nil},
		{"a new column", "No;Quay;Lift;Maker\n1;North;4,5;Moleworks\n2;South;5;Quill\n", []string{"  # always\n"},
			[]string{"  # always\n      maker: Maker  # the same name\n"}, nil, nil},
		{"a new column with a rule", "No;Quay;Lift;Checked\n1;North;4,5;14.02.2026\n2;South;5;15.02.2026\n",
			[]string{"  # by hand\n", "  # always\n"}, []string{"  # by hand\n      Checked: {date: 'dd.MM.yyyy'}\n",
				"  # always\n      checked: Checked  # the same name\n"}, nil, nil},
		{"a new column that fits nothing", "No;Quay;Lift;Fog\n1;North;4,5;yes\n2;South;5;no\n", nil, nil, nil,
			[]string{"Fog"}},
		{"a column that is gone", "No;Quay\n1;North\n2;South\n", nil, nil,
			[]string{`crane.lift_t: cranes has no column "Lift"`,
				`cranes: there is a rule for "Lift", and no such column`}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := newBench(t, quays)
			r := b.update(craneFile, b.file("cranes.csv", c.csv, source.ReadOptions{}))
			want := craneFile
			for i := range c.was {
				require.Contains(t, want, c.was[i])
				want = strings.Replace(want, c.was[i], c.now[i], 1)
			}
			assert.Equal(t, want, r.Text)
			require.Len(t, r.Errors, len(c.errors), "%q", r.Errors)
			for i, e := range c.errors {
				assert.Contains(t, r.Errors[i], e)
			}
			var unused []string
			for _, u := range r.LeftOut {
				unused = append(unused, u.Column)
			}
			assert.Equal(t, c.unused, unused)
			if r.Text != craneFile {
				again := b.update(r.Text, b.file("cranes.csv", c.csv, source.ReadOptions{}))
				assert.Equal(t, r.Text, again.Text, "a second time nothing changes")
			}
		})
	}
}

// TestUpdatesForAnotherDatabase: columns of tables that have other names, required ones without a source, tables that
// aren't there.
func TestUpdatesForAnotherDatabase(t *testing.T) {
	const csv = "No;Quay;Lift\n1;North;4,5\n2;South;5\n"
	for _, c := range []struct{ name, was, now, errors string }{
		{"a column with another name", "lift_t DECIMAL", "lift DECIMAL", ""},
		{"a column that is required now", "maker TEXT", "maker TEXT NOT NULL",
			"crane: maker is required, and has no source"},
		{"a table with another name", "CREATE TABLE crane", "CREATE TABLE cranes",
			`the database has no table "crane" to fill; did you mean "cranes"?`},
		{"a column that is gone", "owner TEXT NOT NULL", "possessor TEXT", "crane.owner: crane has no such column"},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.Contains(t, quays, c.was)
			b := newBench(t, strings.Replace(quays, c.was, c.now, 1))
			r := b.update(craneFile, b.file("cranes.csv", csv, source.ReadOptions{}))
			if c.errors == "" {
				assert.Equal(t, strings.Replace(craneFile, "lift_t: Lift", "lift: Lift", 1), r.Text)
				assert.Empty(t, r.Errors)
				return
			}
			assert.Contains(t, strings.Join(r.Errors, "\n"), c.errors)
			assert.Equal(t, craneFile, r.Text)
		})
	}
}

// TestWhatALadleFileMentionsIsKnown: a column in a comment, or in the part of the input itself, isn't brought up again;
// its name inside of a word, or in the part of another input, is not it.
func TestWhatALadleFileMentionsIsKnown(t *testing.T) {
	for text, has := range map[string]bool{"# not used of x: A, Fog": true, "fog": true, "foggy": false, "befog": false,
		"fog1 fog": true,
		"nebel":    false, "a (fog)": true} {
		assert.Equal(t, has, hasWords(source.FoldName(text), "fog"), text)
	}
	b := newBench(t, quays)
	const csv = "No;Quay;Lift;Maker\n1;North;4,5;Moleworks\n2;South;5;Quill\n"
	noted := strings.Replace(craneFile, "  crane:\n", "  # not used of cranes: Maker\n  crane:\n", 1)
	assert.Equal(t, noted, b.update(noted, b.file("cranes.csv", csv, source.ReadOptions{})).Text)
	other := strings.Replace(craneFile, "inputs:\n", "inputs:\n  quays: {file: quays.csv, columns: {Maker: {clean: "+
		"trim}}}\n", 1)
	r := b.update(other, b.file("quays.csv", "Name;Maker\nNorth;x\n", source.ReadOptions{}), b.file("cranes.csv", csv,
		source.ReadOptions{}))
	assert.Contains(t, r.Text, "      maker: Maker  # the same name\n")
}
