package conformance

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"ladle/demo"
)

// answer is what a person types when a terminal shows a text.
type answer struct{ shown, typed string }

// onTerminal runs the program on a terminal of its own, with a person who waits for each text before the answer is
// typed, and returns all that was shown, and the exit status.
func (w *world) onTerminal(answers []answer, arguments ...string) (shown string, status int) {
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR, 0)
	require.NoError(w, err)
	defer master.Close()
	require.NoError(w, unix.IoctlSetPointerInt(int(master.Fd()), unix.TIOCSPTLCK, 0))
	number, err := unix.IoctlGetInt(int(master.Fd()), unix.TIOCGPTN)
	require.NoError(w, err)
	slave, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", number), os.O_RDWR|unix.O_NOCTTY, 0)
	require.NoError(w, err)
	require.NoError(w, unix.IoctlSetWinsize(int(slave.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 40, Col: 120}))
	c := exec.Command(program, arguments...)
	c.Dir, c.Stdin, c.Stdout, c.Stderr = w.dir, slave, slave, slave
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	require.NoError(w, c.Start())
	slave.Close()
	read := make(chan string)
	go func() {
		defer close(read)
		buf := make([]byte, 4096)
		for {
			n, err := master.Read(buf)
			if n > 0 {
				read <- string(buf[:n])
			}
			if err != nil { // EIO, when the program has ended
				return
			}
		}
	}()
	seen := 0 // how much of shown was answered
	limit := time.After(time.Minute)
	for open := true; open; {
		select {
		case more, ok := <-read:
			shown, open = shown+more, ok
		case <-limit:
			c.Process.Kill()
			require.FailNow(w, "the program waits for something else", "%s", shown)
		}
		for len(answers) > 0 {
			at := strings.Index(shown[seen:], answers[0].shown)
			if at < 0 {
				break
			}
			seen += at + len(answers[0].shown)
			_, err := io.WriteString(master, answers[0].typed)
			require.NoError(w, err)
			answers = answers[1:]
		}
	}
	err = c.Wait()
	require.Empty(w, answers, "not all was asked: %s", shown)
	if err != nil {
		require.ErrorAs(w, err, new(*exec.ExitError))
	}
	return strings.ReplaceAll(shown, "\r\n", "\n"), c.ProcessState.ExitCode()
}

// TestAPersonSaysTheEncoding: at a terminal the encoding that isn't certain is asked, and what is then loaded is read
// so.
func TestAPersonSaysTheEncoding(t *testing.T) {
	start := func(t *testing.T) *world {
		w := newWorld(t, sqliteFile{}, "CREATE TABLE agent (id ID, name WORD NOT NULL UNIQUE);")
		w.write("in.csv", "Name\nAnna\nH\xe4fler\nGda\xf1sk\n")
		w.write("f.ladle.yaml",
			"ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {agent: {from: in, columns: {name: Name}}}\n")
		return w
	}
	const question = "In which one does this read right?\n"
	t.Run("by a number", func(t *testing.T) {
		w := start(t)
		shown, status := w.onTerminal([]answer{{"q stops [q] ", "9\n"}, {"[q] ", "1\n"}, {"Load this", "y\n"}}, "load",
			"f.ladle.yaml", "--db", w.db)
		assert.Equal(t, 0, status, shown)
		assert.Contains(t, shown, "in.csv isn't UTF-8, and its encoding isn't certain. "+question)
		assert.Contains(t, shown, "  1  windows-1250  line 4: Gdańsk\n  2  windows-1252  line 4: Gdañsk\n")
		assert.Contains(t, shown, `"9" is neither a number from 1 to 3 nor the name of an encoding`)
		assert.Contains(t, shown,
			"in.csv is read as windows-1250. To be asked no more, write in the input in: encoding: windows-1250")
		assert.Equal(t, []string{"Anna", "Gdańsk", "Häfler"}, w.query("SELECT name FROM agent ORDER BY name"))
	})
	t.Run("by a name", func(t *testing.T) {
		w := start(t)
		shown, status := w.onTerminal([]answer{{"q stops [q] ", "ISO-8859-1\n"}, {"Load this", "y\n"}}, "load",
			"f.ladle.yaml", "--db", w.db)
		assert.Equal(t, 0, status, shown)
		assert.Equal(t, []string{"Anna", "Gdañsk", "Häfler"}, w.query("SELECT name FROM agent ORDER BY name"))
	})
	t.Run("or stops", func(t *testing.T) {
		w := start(t)
		shown, status := w.onTerminal([]answer{{"q stops [q] ", "q\n"}}, "try", "f.ladle.yaml", "--db", w.db)
		assert.Equal(t, 1, status, shown)
		assert.Contains(t, shown, "set encoding: to the right one")
		assert.Empty(t, w.query("SELECT name FROM agent"))
	})
	t.Run("nobody is asked with --yes", func(t *testing.T) {
		w := start(t)
		shown, status := w.onTerminal(nil, "load", "f.ladle.yaml", "--db", w.db, "--yes")
		assert.Equal(t, 1, status, shown)
		assert.NotContains(t, shown, question)
	})
	t.Run("prepare asks too", func(t *testing.T) {
		w := start(t)
		shown, status := w.onTerminal([]answer{{"q stops [q] ", "2\n"}}, "prepare", "f.ladle.yaml", "-o", "out")
		assert.Equal(t, 0, status, shown)
		assert.Contains(t, w.read("out/in.csv"), "Gdañsk")
	})
}

// TestAMessyFileIsLoadedByKeystrokes: from a first look at a file to its rows in related tables, a newcomer types
// numbers and Enter, and three commands. The file has two date styles, a unit, a currency, a misspelt flag, an unknown
// berth, lines that are doubled and that contradict each other, and a total.
func TestAMessyFileIsLoadedByKeystrokes(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, harbourWords.Replace(demo.Script()))
		w.harbourFiles("april.csv")
		w.write("editor", "#!/bin/sh\nsed -i 's/;Q7;/;N3;/' \"$2\"\n")
		require.NoError(t, os.Chmod(w.path("editor"), 0o755))
		t.Setenv("EDITOR", w.path("editor"))
		const enter = "to stop: "
		drafted, status := w.onTerminal([]answer{{`"Total", seems to sum up the others`, ""}, {enter, "\n"},
			{`"t" around the numbers is left out`, ""}, {enter, "2\n"}, {"dates are written in 2 ways", ""}, {enter,
				"b\n"},
			{`"t" around the numbers is left out`, ""}, {enter, "\n"}, {"Arrived (2 of 8)", ""}, {enter, "\n"},
			{"Departed (3 of 8)", ""}, {enter, "\n"}, {"not in agent", ""}, {enter, "\n"}, {"entered_by is required",
				""}, {enter, "2\n"},
			{"The value (Enter for another answer): ", "night watch\n"}, {"not in vessel_type", ""}, {enter, "\n"},
			{`"Norwey"`, ""}, {enter, "\n"},
			{"which column of the file feeds it?", ""}, {enter, "\n"}},
			"draft", "april.csv", "--db", w.db, "-o", "f.ladle.yaml")
		require.Equal(t, 0, status, drafted)
		text := w.read("f.ladle.yaml")
		assert.Equal(t, 1, strings.Count(text, "  # ? "), "all but the unknown berth is settled: %s", text)
		assert.Contains(t, text, "    footer_lines: 1\n")
		assert.Contains(t, text, "      Arrived: {date: ['yyyy-MM-dd HH:mm', 'dd/MM/yyyy HH:mm']}  # dates")
		assert.Contains(t, text, "      entered_by: {constant: night watch}  # chosen by hand\n")

		fixed, status := w.onTerminal([]answer{{"a different Berth", ""}, {enter, "\n"},
			{`"Norwey"`, ""}, {`  1  read "Norwey" as "Norway" (Flag: {recode: {Norwey: Norway}})`, ""}, {enter, "\n"},
			{`"Q7" is not in berth.code`, ""}, {"by hand, in editor", ""}, {enter, "2\n"}}, "try", "f.ladle.yaml",
			"--db", w.db, "--fix")
		require.Equal(t, 0, status, fixed)
		assert.Contains(t, fixed, "  +    contradictions: most\n")
		assert.Contains(t, fixed, "  +      Flag: {recode: {Norwey: Norway}}\n")
		assert.Equal(t, []string{"0"}, w.query("SELECT count(*) FROM port_call WHERE entered_by = 'night watch'"),
			"nothing is written to the database")

		loaded, status := w.onTerminal([]answer{{"Load this", "y\n"}}, "load", "f.ladle.yaml", "--db", w.db)
		require.Equal(t, 0, status, loaded)
		assert.Equal(t, []string{"PM-0101|NO|N1|912.4", "PM-0102|GB|N2|4060", "PM-0105|DK|N1|1151.1",
			"PM-0106|GB|N3|780",
			"PM-0117|DK|N1|710", "PM-0118|NO|N3|94.25"},
			w.query(`SELECT v.reg_no, f.iso_code, b.code, p.dues FROM port_call p JOIN vessel v ON v.id = vessel_id
				JOIN flag_state f ON f.id = flag_id JOIN berth b ON b.id = berth_id WHERE entered_by = 'night watch' ORDER BY v.reg_no`))
	})
}

// TestFixing: cures are taken back, lines are left, names that look alike are answered, and what stays set aside can be
// allowed.
func TestFixing(t *testing.T) {
	w := newWorld(t, sqliteFile{}, quaysAndCranes)
	w.write("in.csv", "No,Quay,Lift\n2,Nort,5\n3,Noth,6\n4,South,x\n5,North,7\n")
	const before = "# cranes\nladle: 1\ninputs:\n  in: {file: in.csv, header: 1}\ntables:\n  crane:\n    from: in\n " +
		"   columns:\n      crane_no: No\n      quay_id: {from: Quay, lookup: quay.name, not_found: add}  # by " +
		"name\n      lift_t: Lift\n"
	w.write("f.ladle.yaml", before)
	const enter = "to stop: "
	shown, status := w.onTerminal([]answer{{"it looks like an existing name, or another new one", ""}, {enter, "1\n"}, {"Lift", ""}, {enter,
		"b\n"}, {"it looks like an existing name, or another new one", ""},
		{"recode: {", ""}, {enter, "\n"}, {"Lift", ""}, {enter, "9\n"}, {`no answer "9"`, ""}, {enter, "2\n"},
		{"1 line would be set aside, and the load refused", ""}, {enter, "2\n"}}, "try", "f.ladle.yaml", "--db", w.db,
		"--fix")
	assert.Equal(t, 4, status, shown)
	assert.Equal(t, strings.Replace(before, "header: 1}", "header: 1, columns: {Quay: {recode: {Nort: North, Noth: "+
		"North}}}}", 1)+"set_aside_limit: 1\n", w.read("f.ladle.yaml"))
	assert.Contains(t, shown, "Next: ladle load f.ladle.yaml")
	again, status := w.onTerminal([]answer{{enter, "q\n"}}, "try", "f.ladle.yaml", "--db", w.db, "--fix")
	assert.Equal(t, 4, status, again)
}

// TestQuestionsAreOnlyAskedWherePeopleAre: without a terminal nothing waits for an answer, and q keeps what is settled.
func TestQuestionsAreOnlyAskedWherePeopleAre(t *testing.T) {
	w := newWorld(t, sqliteFile{}, harbourWords.Replace(demo.Script()))
	w.harbourFiles("april.csv")
	piped := w.run("draft", "april.csv", "--db", w.db, "-o", "piped.ladle.yaml")
	require.Equal(t, 0, piped.status, piped.stderr)
	assert.NotContains(t, piped.stdout+piped.stderr, "to stop")
	silent, status := w.onTerminal(nil, "draft", "april.csv", "--db", w.db, "-o", "silent.ladle.yaml", "--no-questions")
	require.Equal(t, 0, status, silent)
	assert.Equal(t, w.read("piped.ladle.yaml"), w.read("silent.ladle.yaml"))
	stopped, status := w.onTerminal([]answer{{"to stop: ", "\n"}, {"to stop: ", "x\n"}, {`There is no answer "x".`, ""},
		{"to stop: ", "q\n"}}, "draft", "april.csv", "--db", w.db, "-o", "stopped.ladle.yaml")
	require.Equal(t, 0, status, stopped)
	assert.Contains(t, w.read("stopped.ladle.yaml"), "    footer_lines: 1\n", "what is settled isn't marked")
	assert.Contains(t, w.read("stopped.ladle.yaml"), "# ? dates are written in 2 ways", "what isn't stays marked")
	ended, status := w.onTerminal([]answer{{"to stop: ", "\x04"}}, "draft", "april.csv", "--db", w.db, "-o",
		"ended.ladle.yaml")
	require.Equal(t, 0, status, ended)
	assert.Equal(t, w.read("piped.ladle.yaml"), w.read("ended.ladle.yaml"), "the end of input takes no guess")
	fix := w.run("try", "piped.ladle.yaml", "--db", w.db, "--fix")
	assert.Equal(t, 2, fix.status)
	assert.Contains(t, fix.stderr, "--fix asks, but there is no terminal to ask on")
}

// TestWhatIsUncertainOfAProposalIsAsked: each answer leads to other tables, also one that was given after going back.
func TestWhatIsUncertainOfAProposalIsAsked(t *testing.T) {
	w := newWorld(t, sqliteFile{}, "")
	csv := "No,Depth,Spare,Berth\n"
	for i := range 60 {
		csv += fmt.Sprintf("%d,%d,,B%d\n", i, i+3, i%12)
	}
	w.write("soundings.csv", strings.Replace(csv, "7,10,", "7,deep,", 1))
	w.write("berths.csv", "Berth\nB0\nB1\nB2\nB3\nB4\nB5\nB6\nB7\nB8\nB9\nB10\n")
	keys := "Enter for 1"
	shown, status := w.onTerminal([]answer{{keys, "2\n"}, {"b to go back", "b\n"}, {keys, "1\n"}, {"b to go back", "2\n"},
		{"b to go back", "2\n"}}, "propose", "soundings.csv", "berths.csv", "--for", "postgres", "-o", "new.sql")
	assert.Equal(t, 0, status, shown)
	assert.Contains(t, shown, "soundings.depth")
	assert.NotContains(t, shown, "Uncertain, marked", "all is settled")
	made := w.read("new.sql")
	for _, says := range []string{"depth INTEGER NOT NULL", "REFERENCES berths (id)", "as was said"} {
		assert.Contains(t, made, says)
	}
	assert.NotContains(t, made, "spare")
	assert.NotContains(t, made, "-- ? ")
}
