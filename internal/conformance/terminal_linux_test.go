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
			"f.ladle.yaml",
			"--db", w.db)
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
