package draft

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	sqlitelib "zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ladle/internal/core/engine"
	"ladle/internal/core/engine/sqlite"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
)

// bench is files and a database to draft from.
type bench struct {
	*testing.T
	dir    string
	db     *sqlite.Database
	schema *schema.Schema
}

func newBench(t *testing.T, script string) *bench {
	b := &bench{T: t, dir: t.TempDir()}
	path := filepath.Join(b.dir, "db")
	conn, err := sqlitelib.OpenConn(path)
	require.NoError(t, err)
	require.NoError(t, sqlitex.ExecuteScript(conn, script, nil))
	require.NoError(t, conn.Close())
	b.db, err = sqlite.Open(path, engine.UsualWaits)
	require.NoError(t, err)
	t.Cleanup(func() { b.db.Close() })
	b.schema, err = b.db.Schema(context.Background())
	require.NoError(t, err)
	return b
}

// file surveys a file as it is asked to be read.
func (b *bench) file(name, content string, asked source.ReadOptions) File {
	b.Helper()
	path := filepath.Join(b.dir, name)
	require.NoError(b, os.WriteFile(path, []byte(content), 0o600))
	tables, err := survey.Open([]string{path}, asked)
	require.NoError(b, err)
	b.Cleanup(func() { survey.Close(tables) })
	seen, err := survey.Run(context.Background(), tables, nil)
	require.NoError(b, err)
	return File{Path: name, Survey: seen.Inputs[0], Asked: asked}
}

func (b *bench) draft(files ...File) *Draft {
	b.Helper()
	d, err := Make(context.Background(), files, b.schema, b.db)
	require.NoError(b, err)
	return d
}

const quays = "CREATE TABLE quay (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);" +
	"CREATE TABLE crane (id INTEGER PRIMARY KEY, crane_no TEXT NOT NULL UNIQUE, built INT, quay_id INT REFERENCES " +
	"quay(id), lift_t DECIMAL(6,2), checked DATE, maker TEXT, owner TEXT NOT NULL);" +
	"INSERT INTO quay (name) VALUES ('North'), ('South'), ('East');"

const cranes = "Crane no;Quay;Lift;Checked;Maker;Marks\nC1;North;40 t;05/01/2026;Unknown;a\nC2;Nort;16,5 " +
	"t;06/02/2026;Moleworks;b\nC3;South;12 t;07/03/2026; Quill;\nC4;West;7 t;08/03/2026;Quill;a\nC5;North;8 " +
	"t;08/03/2026;A;a\nC6;North;9 t;08/03/2026;B;a\n" +
	"C7;South;8 t;08/03/2026;C;b\nC8;North;9 t;09/03/2026;D;a\nC9;East;8 t;08/03/2026;E;b\nC10;North;9 " +
	"t;08/03/2026;F;a\nC11;South;8 t;08/03/2026;G;b\nC12;North;9 t;08/04/2026;H;a\nC13;East;8 " +
	"t;08/03/2026;I;b\nC13;North;9 t;08/03/2026;J;a\n"

// TestEachAnswerIsWritten: an answer changes its lines and nothing else, and what is settled is no longer marked.
func TestEachAnswerIsWritten(t *testing.T) {
	d := newBench(t, quays).draft(newBench(t, quays).file("cranes.csv", cranes, source.ReadOptions{}))
	for _, c := range []struct{ where, why, choice, typed, gone, written string }{
		{"cranes: Checked", "day and month could be", "date: 'MM/dd/yyyy'", "", "'dd/MM/yyyy'}  # ?",
			"      Checked: {date: 'MM/dd/yyyy'}  # chosen by hand\n"},
		{"cranes: Lift", `"t" around the numbers`, "leave the cells as they are", "", "Lift: {", ""},
		{"crane", "duplicate keys", "keep the last", "", "# ? duplicate", "    contradictions: last\n"},
		{"cranes: Maker", "blanks at the ends", "take the blanks off", "", "# ? Maker: 1 cell",
			"      Maker: {clean: [trim]}\n"},
		{"cranes: Maker", "is kept as it is", "make it blank", "", `# ? Maker: "Unknown"`,
			"      Maker: {blank_is: [Unknown]}\n"},
		{"crane.quay_id", "values of Quay are not in quay", "they are slips", "", "  # ? named",
			"      Quay: {recode: {Nort: North}}\n"},
		{"crane.quay_id", "values of Quay are not in quay", "quay_id stays blank", "", "  # ? named",
			"not_found: leave_blank}"},
		{"crane.owner", "owner is required", "the same value", "Port: Merrow", "# owner: {constant: ...}",
			"      owner: {constant: 'Port: Merrow'}  # chosen by hand\n"},
		{"crane.owner", "owner is required", "Marks", "", "# owner: {constant: ...}",
			"      owner: Marks  # chosen by hand\n"},
	} {
		t.Run(c.where+" "+c.choice, func(t *testing.T) {
			for _, q := range d.Questions {
				q.Answer, q.Typed = -1, ""
			}
			before, err := d.Compose()
			require.NoError(t, err)
			require.Equal(t, d.Text, before.Text, "without answers nothing changes")
			require.Contains(t, before.Text, c.gone)
			q, n := find(d, c.where, c.why, c.choice)
			require.NotNil(t, q, "%s", d.Text)
			q.Answer, q.Typed = n, c.typed
			made, err := d.Compose()
			require.NoError(t, err)
			assert.NotContains(t, made.Text, c.gone)
			assert.Contains(t, made.Text, c.written)
			assert.Less(t, len(made.Doubts)+len(made.Errors), len(d.Doubts)+len(d.Errors))
			_, err = ladlefile.Decode("f.ladle.yaml", []byte(made.Text))
			assert.NoError(t, err, made.Text)
		})
	}
}

// find is the question about something, and the number of a choice.
func find(d *Draft, where, why, choice string) (*Question, int) {
	for _, q := range d.Questions {
		for i, c := range q.Choices {
			if q.Where == where && strings.Contains(q.Why, why) && strings.Contains(c.Says, choice) {
				return q, i
			}
		}
	}
	return nil, 0
}

// TestAnyAnswersMakeALadleFile: whatever is answered, in whatever number, the ladle file can be decoded, and its lines
// are those of before or of the answers.
func TestAnyAnswersMakeALadleFile(t *testing.T) {
	b := newBench(t, quays)
	d := b.draft(b.file("cranes.csv", cranes, source.ReadOptions{}))
	require.Greater(t, len(d.Questions), 5)
	random := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		answered := ""
		for _, q := range d.Questions {
			if q.Answer = random.IntN(len(q.Choices)+1) - 1; q.Answer >= 0 {
				q.Typed = "crane_no"
			}
			answered += fmt.Sprintf("%s %d; ", q.Where, q.Answer)
		}
		made, err := d.Compose()
		require.NoError(t, err, answered)
		_, err = ladlefile.Decode("f.ladle.yaml", []byte(made.Text))
		require.NoError(t, err, "%s\n%s", answered, made.Text)
		require.NotContains(t, made.Text, "\x00")
	}
}

// TestQuestionsAreAskedInOrder: once each, and none about lines that an answer has replaced.
func TestQuestionsAreAskedInOrder(t *testing.T) {
	b := newBench(t, quays)
	d := b.draft(b.file("cranes.csv", cranes, source.ReadOptions{}))
	var asked []string
	for q := d.Next(); q != nil; q = d.Next() {
		n, of := d.Number(q)
		assert.LessOrEqual(t, n, of)
		asked = append(asked, q.Where)
		q.Answer = 0
	}
	made, err := d.Compose()
	require.NoError(t, err)
	assert.Empty(t, made.Doubts)
	assert.NotContains(t, strings.SplitN(made.Text, "\n", 2)[1], "# ? ")
	assert.True(t, strings.HasPrefix(made.Text, settledTitle), "the title says so")
	assert.Equal(t, []string{"owner is required, and no column of the file matches it"},
		[]string{strings.TrimPrefix(made.Errors[0], "crane: ")})
	assert.Contains(t, asked, "crane.quay_id")
	for _, q := range d.Questions {
		q.Answer = -1
	}
	replaced := &Question{Where: "x", Choices: []Choice{{}, {lines: leave}}, Answer: 1, first: 3, end: 5}
	d.Questions = []*Question{replaced, {Where: "y", Choices: make([]Choice, 2), Answer: -1, first: 4, end: 5}}
	assert.Nil(t, d.Next(), "its line is gone")
}

// TestWhatIsTypedIsChecked: what can't be a column, a value, a table or a line is refused before it is written.
func TestWhatIsTypedIsChecked(t *testing.T) {
	b := newBench(t, quays)
	key := &block{table: b.schema.Table("crane"), fed: []assignment{{of: b.schema.Table("crane").Column("crane_no")}}}
	assert.NoError(t, key.mayBeKey("crane_no"))
	assert.EqualError(t, key.mayBeKey("crane_no, maker"), `nothing feeds a column "maker" of crane`)
	number := sameValue(b.schema.Table("crane").Column("built"))
	q := &Question{}
	assert.NoError(t, q.Accepts(number, "7"))
	assert.EqualError(t, q.Accepts(number, "seven"), `"seven" is no value of a column INT`)
	assert.EqualError(t, q.Accepts(Choice{}, "a\nb"), "it has more than one line")
	f := b.file("names.csv", "Name\nNorth\nSouth\n", source.ReadOptions{})
	header := f.headerQuestion()
	require.NotNil(t, header)
	assert.NoError(t, header.Accepts(header.Choices[2], "3-4"))
	assert.Error(t, header.Accepts(header.Choices[2], "x"))
}

// TestQuestionsOfReading: each is asked once, in the order in which answers depend on each other, and an answer changes
// how the file is read.
func TestQuestionsOfReading(t *testing.T) {
	for _, c := range []struct {
		name, content, why string
		choice             int
		typed              string
		again              bool
		asked              source.ReadOptions
	}{
		{"a header", "Name\nNorth\nSouth\n", "which line has the names", 1, "", true,
			source.ReadOptions{Header: source.HeaderLines{None: true}}},
		{"the header that was guessed", "Name\nNorth\nSouth\n", "which line has the names", 0, "", false,
			source.ReadOptions{Header: source.HeaderLines{First: 1, Last: 1}}},
		{"another line", "Name\nNorth\nSouth\n", "which line has the names", 2, "2", true,
			source.ReadOptions{Header: source.HeaderLines{First: 2, Last: 2}}},
		{"a total", "Code,Depth\nN1,5\nN2,6\nTotal,11\n", "seems to sum up the others", 0, "", true,
			source.ReadOptions{Footer: 1}},
		{"no total", "Code,Depth\nN1,5\nN2,6\nTotal,11\n", "seems to sum up the others", 1, "", false,
			source.ReadOptions{}},
		{"another table", "Code,Depth\nN1,5\nN2,6\nN3,7\n\nAgent,Phone\nMole House,555\n", "header of another table", 0,
			"", true,
			source.ReadOptions{Footer: 2}},
		{"an encoding", "Code,Name\nN1,H\xe4fler\n", "in which one does this read right?", 1, "", true,
			source.ReadOptions{Encoding: "the choice"}},
		{"an encoding by name", "Code,Name\nN1,H\xe4fler\n", "in which one does this read right?", 3, "ISO-8859-1",
			true,
			source.ReadOptions{Encoding: "iso-8859-1"}},
		{"widths", "no   vessel  gt\nA1   Tern     7\nA22  Otter   12\nA3   Skua    99\n", "fixed widths", 0, "", true,
			source.ReadOptions{Widths: "5, 8, 2"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := newBench(t, quays).file("in.csv", c.content, source.ReadOptions{Guess: true})
			f.Asked = source.ReadOptions{}
			q := f.Question()
			for ; q != nil && !strings.Contains(q.Why, c.why); q = f.Question() {
				q.Answer = 0
				made, _, err := f.Read(q)
				require.NoError(t, err)
				made.Asked, f = f.Asked, made
			}
			require.NotNil(t, q, "it is asked")
			q.Answer, q.Typed = c.choice, c.typed
			made, again, err := f.Read(q)
			require.NoError(t, err)
			assert.Equal(t, c.again, again)
			if c.asked.Encoding == "the choice" {
				c.asked.Encoding = q.Choices[c.choice].Says
			}
			made.Asked.Encoding, c.asked.Encoding = strings.ToLower(made.Asked.Encoding),
				strings.ToLower(c.asked.Encoding)
			assert.Equal(t, c.asked, made.Asked)
			if next := made.Question(); next != nil {
				assert.NotEqual(t, q.kind, next.kind, "it is not asked again")
			}
			assert.Empty(t, f.settled[q.kind], "the file before the answer stays as it was")
		})
	}
}

// TestAFileIsForTheTableThatAPersonSays: also where another one fits better, and with the key that is said.
func TestAFileIsForTheTableThatAPersonSays(t *testing.T) {
	b := newBench(t, "CREATE TABLE agent (id INTEGER PRIMARY KEY, name TEXT NOT NULL, phone TEXT);"+
		"CREATE TABLE pilot (id INTEGER PRIMARY KEY, name TEXT NOT NULL, phone TEXT);")
	f := b.file("contacts.csv", "Name,Phone\nTove Aldgate,555-0101\nIvo Brand,555-0102\n", source.ReadOptions{})
	doubt := b.draft(f)
	require.True(t, doubt.Questions[0].Reading(), doubt.Text)
	assert.Equal(t, "contacts fits pilot about as well", doubt.Questions[0].Why)
	doubt.Questions[0].Answer = 1
	made, again, err := f.Read(doubt.Questions[0])
	require.NoError(t, err)
	assert.False(t, again)
	made.Key = []string{"name", "phone"}
	d := b.draft(made)
	assert.Contains(t, d.Text, "  pilot:\n    from: contacts\n    key: [name, phone]  # as you said\n")
	assert.Empty(t, d.Doubtful())
	made.Key = []string{"nme"}
	_, err = Make(context.Background(), []File{made}, b.schema, b.db)
	assert.ErrorContains(t, err, `pilot has no column "nme" for its key`)
	made.Into = "pilto"
	_, err = Make(context.Background(), []File{made}, b.schema, b.db)
	assert.ErrorContains(t, err, `the database has no table "pilto"`)
}
