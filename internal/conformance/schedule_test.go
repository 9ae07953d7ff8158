package conformance

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// recipe returns the blocks of a language in the recipes.
func recipe(t *testing.T, language string) (blocks []string) {
	t.Helper()
	text, err := os.ReadFile("../../docs/recipes.md")
	require.NoError(t, err)
	for _, m := range regexp.MustCompile("(?s)```"+language+"\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		blocks = append(blocks, m[1])
	}
	return blocks
}

// TestRecipesForCron runs the lines of the crontabs with a program that ends with each exit status: who gets which mail.
func TestRecipesForCron(t *testing.T) {
	lines := recipe(t, "cron")
	require.Len(t, lines, 2)
	expected := map[string]map[int]string{
		"ladle load": {0: "", 1: "harbour load: exit status 1 admin", 2: "harbour load: exit status 2 admin",
			3: "harbour load: exit status 3 admin", 4: "harbour load: exit status 4 admin",
			5: "harbour load: exit status 5 admin", 130: "harbour load: exit status 130 admin"},
		"ladle inbox": {0: "", 1: "harbour: files refused office", 2: "harbour: files refused office",
			3: "harbour: not loaded admin", 4: "harbour: lines set aside office", 5: "harbour: not loaded admin",
			130: "harbour: not loaded admin"},
	}
	for _, line := range lines {
		command := regexp.MustCompile(`ladle [a-z]+`).FindString(line)
		require.Contains(t, expected, command)
		schedule := regexp.MustCompile(`^(\S+ ){5} *`).FindString(line)
		require.NotEmpty(t, schedule, "five fields say when")
		assert.NotContains(t, line, "%", "which cron takes for the end of a line")
		for status, mail := range expected[command] {
			dir := t.TempDir()
			for name, does := range map[string]string{"ladle": "echo said; exit " + strconv.Itoa(status),
				"mail": `echo "$2 $3" > "$OLDPWD/sent"; cat > "$OLDPWD/body"`} {
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\n"+does+"\n"), 0o755))
			}
			require.NoError(t, os.Mkdir(filepath.Join(dir, "harbour"), 0o755))
			c := exec.Command("sh", "-c", strings.Replace(strings.TrimPrefix(line, schedule), "/srv/harbour", "harbour", 1))
			c.Dir = dir
			c.Env = append(os.Environ(), "PATH="+dir+":"+os.Getenv("PATH"), "OLDPWD="+dir)
			out, err := c.CombinedOutput()
			require.NoError(t, err, string(out))
			assert.Empty(t, string(out), "cron would send a mail of its own")
			sent, _ := os.ReadFile(filepath.Join(dir, "sent")) // none where none was sent
			assert.Equal(t, mail, strings.TrimSpace(string(sent)), "%s, status %d", command, status)
			if mail != "" {
				body, err := os.ReadFile(filepath.Join(dir, "body"))
				require.NoError(t, err)
				assert.Equal(t, "said\n", string(body))
			}
		}
	}
}

// TestRecipeForSystemd: the unit is one that systemd reads, where that is here, and what it starts goes on until it is
// told to end, which is no failure after which it would be started again.
func TestRecipeForSystemd(t *testing.T) {
	units := recipe(t, "ini")
	require.Len(t, units, 1)
	unit := units[0]
	start := regexp.MustCompile(`(?m)^ExecStart=/usr/local/bin/ladle (.*)$`).FindStringSubmatch(unit)
	require.NotNil(t, start)
	assert.Contains(t, unit, "Restart=on-failure")
	if _, err := exec.LookPath("systemd-analyze"); err == nil {
		dir := t.TempDir()
		path := filepath.Join(dir, "harbour.service")
		require.NoError(t, os.WriteFile(path, []byte(strings.Replace(unit, "/usr/local/bin/ladle", program, 1)), 0o644))
		out, err := exec.Command("systemd-analyze", "verify", path).CombinedOutput()
		for line := range strings.Lines(string(out)) {
			assert.NotContains(t, line, "harbour.service", "systemd reads each line")
		}
		if err != nil {
			t.Logf("systemd-analyze: %s: %s", err, out) // a container lacks what units of the system name
		}
	} else {
		t.Log("no systemd-analyze here: the unit was not held against systemd")
	}

	w := newWorld(t, sqliteFile{}, entries)
	require.NoError(t, os.Mkdir(w.path("arriving"), 0o755))
	w.write("harbour.ladle.yaml", entryInbox)
	w.write("arriving/entries-1.csv", "No,Text\n1,Tern\n")
	c := exec.Command(program, append(strings.Fields(start[1]), "--rest", "0")...)
	c.Dir, c.Env = w.dir, append(os.Environ(), "LADLE_DB="+w.db)
	require.NoError(t, c.Start())
	loaded := func() bool {
		_, err := os.Stat(w.path("arriving/loaded/run-1/entries-1.csv"))
		return err == nil
	}
	require.Eventually(t, loaded, 20*time.Second, 20*time.Millisecond)
	require.NoError(t, c.Process.Signal(syscall.SIGTERM))
	assert.NoError(t, c.Wait(), "an inbox that is told to end has not failed")
	assert.Contains(t, w.read("inbox.jsonl"), `"msg":"stopped"`)
}
