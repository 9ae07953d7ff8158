package conformance

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/seeded"
)

const (
	entries     = "CREATE TABLE entry (id ID, no INTEGER NOT NULL, text VARCHAR(20));"
	entryInbox  = "ladle: 1\ninputs: {in: {file: \"entries-*.csv\"}}\nset_aside_limit: 50%\ntables: {entry: {from: in, key: none, columns: {no: No, text: Text}}}\n"
	secondInbox = "ladle: 1\ninputs: {a: {file: \"left-*.csv\"}, b: {file: \"right-*.csv\"}}\ntables:\n  l: {into: entry, from: a, key: no, columns: {no: No}}\n  r: {into: entry, from: b, key: no, columns: {no: No}}\n"
)

// files lists what is in a folder of the world, beside the lock.
func (w *world) files(folder string) (all []string) {
	w.Helper()
	require.NoError(w, filepath.WalkDir(w.path(folder), func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() && d.Name() != ".ladle-lock" {
			all = append(all, strings.TrimPrefix(path, w.path(folder)+"/"))
		}
		return err
	}))
	return all
}

// inboxed is the document of an inbox.
type inboxed struct {
	Status int
	Loads  []struct {
		Outcome string
		Run     int64
		Status  int
		Says    string
	}
	Waiting []struct{ File, Why string }
}

func (w *world) inbox(more ...string) (d inboxed, r result) {
	w.Helper()
	r = w.run(append([]string{"inbox", "box", "--with", "f.ladle.yaml", "--db", w.db, "--rest", "0", "--json"}, more...)...)
	_ = json.Unmarshal([]byte(r.stdout), &d)
	return d, r
}

func TestInbox(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, entries)
		require.NoError(t, os.Mkdir(w.path("box"), 0o755))
		w.write("f.ladle.yaml", entryInbox)
		w.write("two.ladle.yaml", secondInbox)
		w.write("box/entries-1.csv", "No,Text\n1,a\nx,b\n")
		w.write("box/entries-2.csv", "No\n1\n")
		w.write("box/left-1.csv", "No\n7\n")
		w.write("box/right-1.csv", "No\n8\n")
		w.write("box/right-2.csv", "No\n9\n")
		w.write("end.sh", "#!/bin/sh\necho \"$LADLE_OUTCOME $LADLE_RUN $(basename \"$LADLE_REPORT\")\" >> ended\n")
		require.NoError(t, os.Chmod(w.path("end.sh"), 0o755))
		d, r := w.inbox("--with", "two.ladle.yaml", "--log", "log", "--on-end", "./end.sh")
		require.Equal(t, 2, r.status, r.stdout+r.stderr)
		require.Len(t, d.Loads, 3)
		assert.Equal(t, "1 row added, 1 line set aside", d.Loads[0].Says)
		assert.Contains(t, d.Loads[1].Says, `has no column "Text"`)
		assert.Equal(t, "it waits for left-*.csv", d.Waiting[0].Why)
		assert.Equal(t, "loaded 1 report.html\nrefused 0 error.txt\nloaded 2 report.html\n", w.read("ended"))
		files := strings.Join(w.files("box"), "\n")
		for _, is := range []string{"loaded/run-1/entries-1.csv\nloaded/run-1/in.set-aside.csv\nloaded/run-1/report.html",
			"loaded/run-2/left-1.csv\nloaded/run-2/report.html\nloaded/run-2/right-1.csv", "/entries-2.csv", "\nright-2.csv"} {
			assert.Contains(t, files, is)
		}
		assert.Contains(t, w.read("box/loaded/run-1/report.html"), "in.set-aside.csv")
		assert.NotContains(t, w.read("box/loaded/run-1/report.html"), "ladle-working")
		for _, line := range strings.Split(strings.TrimSpace(w.read("log")), "\n") {
			assert.True(t, json.Valid([]byte(line)), line)
		}

		w.write("box/entries-9.csv", "No,Text\n1,a\nx,b\n")
		d, r = w.inbox()
		require.Equal(t, 2, r.status, "right-2.csv is for no ladle file now")
		assert.Equal(t, "was loaded before, as run 1", d.Loads[0].Says)
		assert.FileExists(t, w.path("box/loaded/run-1/entries-9.csv"))
		require.NoError(t, os.Remove(w.path("box/right-2.csv")))
		assert.Equal(t, []string{"1", "7", "8"}, w.query("SELECT no FROM entry ORDER BY no"))
		_, r = w.inbox("--with", "nowhere.ladle.yaml")
		assert.Equal(t, 3, r.status)
		w.write("box/entries-3.csv", "No,Text\n3,a\n")
		r = w.run("inbox", "box", "--with", "f.ladle.yaml", "--db", "postgres://nobody@127.0.0.1:1/nowhere", "--rest", "0")
		assert.Equal(t, 3, r.status, r.stderr)
		assert.FileExists(t, w.path("box/entries-3.csv"), "it stays for the next time")
		d, r = w.inbox()
		require.Equal(t, 0, r.status, r.stderr)
		assert.Len(t, d.Loads, 1)
	})
}

// TestAnInboxThatStays: files are loaded as they come, others are kept out, and a signal ends it.
func TestAnInboxThatStays(t *testing.T) {
	w := newWorld(t, sqliteFile{}, entries)
	require.NoError(t, os.Mkdir(w.path("box"), 0o755))
	w.write("f.ladle.yaml", entryInbox)
	c := exec.Command(program, "inbox", "box", "--with", "f.ladle.yaml", "--db", w.db, "--marker", ".done", "--stay")
	c.Dir = w.dir
	require.NoError(t, c.Start())
	require.Eventually(t, func() bool { _, err := os.Stat(w.path("box/.ladle-lock")); return err == nil }, 10*time.Second, 10*time.Millisecond)
	_, r := w.inbox()
	assert.Equal(t, 3, r.status)
	assert.Contains(t, r.stderr, "another ladle works in this folder")
	for n := range 2 {
		w.write(fmt.Sprintf("box/entries-%d.csv", n), fmt.Sprintf("No,Text\n%d,a\n", n))
		w.write(fmt.Sprintf("box/entries-%d.csv.done", n), "")
		require.Eventually(t, func() bool {
			_, err := os.Stat(w.path(fmt.Sprintf("box/loaded/run-%d/entries-%d.csv", n+1, n)))
			return err == nil
		}, 20*time.Second, 50*time.Millisecond)
	}
	require.NoError(t, c.Process.Signal(syscall.SIGTERM))
	assert.NoError(t, c.Wait(), "it ends as it was meant to")
	assert.Equal(t, []string{"2"}, w.query("SELECT count(*) FROM entry"))
	assert.NotContains(t, strings.Join(w.files("box"), " "), ".done")
}

// TestAKilledInbox: whenever it is killed, no file is lost and none is loaded twice.
func TestAKilledInbox(t *testing.T) {
	everyServer(t, func(t *testing.T, name string, on server) {
		random := seeded.Rand(t)
		w := newWorld(t, on, entries)
		require.NoError(t, os.Mkdir(w.path("box"), 0o755))
		w.write("f.ladle.yaml", entryInbox)
		const files = 12
		for n := range files {
			rows := "No,Text\n"
			for i := range 40 {
				rows += fmt.Sprintf("%d,a\n", n*100+i)
			}
			w.write(fmt.Sprintf("box/entries-%02d.csv", n), rows+"x,set aside\n")
		}
		for range 60 {
			c := exec.Command(program, "inbox", "box", "--with", "f.ladle.yaml", "--db", w.db, "--rest", "0")
			c.Dir = w.dir
			require.NoError(t, c.Start())
			time.Sleep(time.Duration(20+random.IntN(130)) * time.Millisecond)
			_ = c.Process.Kill()
			_ = c.Wait()
		}
		d, r := w.inbox()
		require.Contains(t, []int{0, 4}, r.status, r.stdout+r.stderr)
		assert.Empty(t, d.Waiting)
		assert.Equal(t, []string{fmt.Sprint(files * 40), fmt.Sprint(files * 40)}, w.query("SELECT count(*) FROM entry UNION ALL "+
			"SELECT count(DISTINCT no) FROM entry"), name)
		found := map[string]int{}
		for _, path := range w.files("box") {
			require.True(t, strings.HasPrefix(path, "loaded/run-"), path)
			found[filepath.Base(path)]++
		}
		assert.Equal(t, files, found["in.set-aside.csv"], "the lines that were set aside are kept too")
		for n := range files {
			assert.Equal(t, 1, found[fmt.Sprintf("entries-%02d.csv", n)])
		}
	})
}
