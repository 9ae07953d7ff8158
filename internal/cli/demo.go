package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/demo"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/load"
	"ladle/internal/core/report"
	"ladle/internal/term"
)

const demoFolder = "port-merrow"

func demoCommand() *command {
	return &command{
		name: "demo", phase: aboutLadle,
		does:  "unpack the harbour of Port Merrow into a folder, and load its files into SQLite there",
		takes: operands{"[FOLDER]", "one folder", 0, 1},
		about: "Without FOLDER, it is port-merrow. What you changed there is not replaced without a question.",
		examples: []example{
			{"The harbour in the folder port-merrow", "ladle demo"},
			{"In a folder of your own", "ladle demo harbour"},
		},
		run: func(ctx context.Context, c *cli.Command) error {
			return runDemo(ctx, cmp.Or(c.Args().First(), demoFolder))
		},
	}
}

func runDemo(ctx context.Context, folder string) error {
	keep, err := whatToKeep(ctx, folder)
	if err != nil {
		return err
	}
	if err := demo.Unpack(folder, keep); err != nil {
		return fault.Because(fault.Failed, err, fault.Problem{File: folder,
			What: "the harbour can't be unpacked: " + err.Error()})
	}
	s := term.NewScreen(term.Stdout)
	s.Line("The harbour office of Port Merrow is in %s: a database that holds some rows already,", folder)
	s.Line("files that are as messy as real ones, and ladle files that say what goes where.")
	s.Line("")
	database := filepath.Join(folder, demo.Database)
	for _, name := range []string{demo.LadleFile, demo.LogFile} {
		s.Title("$ %s load %s --db %s --yes", typed(), filepath.Join(folder, name), database)
		file, err := ladlefile.Read(filepath.Join(folder, name))
		if err != nil {
			return err
		}
		r, err := loadFile(ctx, file, database, engine.UsualWaits, load.Options{})
		if err != nil {
			return err
		}
		showReport(s, r)
		if r.Outcome != report.Loaded {
			return exit(statusOf(r))
		}
	}
	if err := demo.Seal(folder); err != nil {
		return fault.Because(fault.Failed, err, fault.Problem{File: folder, What: err.Error()})
	}
	showNext(s, folder)
	return nil
}

// whatToKeep asks, for each file that was changed since the demo left it, whether to keep it. Without a terminal
// a changed database ends the demo, and other changed files are kept.
func whatToKeep(ctx context.Context, folder string) (map[string]bool, error) {
	changed, err := demo.Changed(folder)
	if err != nil {
		return nil, fault.Because(fault.Failed, err, fault.Problem{File: folder,
			What: "the folder can't be read: " + err.Error()})
	}
	keep := map[string]bool{}
	for _, name := range changed {
		path := filepath.Join(folder, name)
		if !term.Interactive() {
			if name == demo.Database {
				return nil, fault.At(fault.Wrong, fault.Problem{File: path,
					What: "this database was changed since the demo made it, and there is no terminal to ask whether " +
						"it may be replaced",
					Do: "move it away, or give another folder: ladle demo FOLDER"})
			}
			fmt.Fprintf(os.Stderr, "ladle: %s was changed, so it is kept as it is\n", path)
			keep[name] = true
			continue
		}
		replace, err := term.Ask(ctx, fmt.Sprintf("%s was changed. Replace it?", path))
		if err != nil {
			return nil, err
		}
		keep[name] = !replace
	}
	return keep, nil
}

// typed is how the person can call this program from where they are.
func typed() string {
	if strings.Contains(os.Args[0], "go-build") {
		return "go run ./cmd/ladle"
	}
	return os.Args[0]
}

func showNext(s *term.Screen, folder string) {
	file, log, db := filepath.Join(folder, demo.LadleFile), filepath.Join(folder, demo.LogFile),
		filepath.Join(folder, demo.Database)
	s.Title("What to try next")
	for _, next := range [][2]string{
		{"see what is in files before you load them:", fmt.Sprintf("%s survey %s %s", typed(),
			filepath.Join(folder, "arrivals.csv"), filepath.Join(folder, "vessel-register.csv"))},
		{"see the tables in the order in which they must be loaded:", fmt.Sprintf("%s tables --db %s", typed(), db)},
		{"have a ladle file drafted:", fmt.Sprintf("%s draft %s --db %s -o %s", typed(),
			filepath.Join(folder, "pilots.csv"), db, filepath.Join(folder, "draft.ladle.yaml"))},
		{"take in a messy file by answering questions:", fmt.Sprintf("%s draft %s --db %s -o %s", typed(),
			filepath.Join(folder, "april.csv"), db, filepath.Join(folder, "april.ladle.yaml"))},
		{"then put right what is left, and load it:", fmt.Sprintf("%s try %s --db %s --fix", typed(),
			filepath.Join(folder, "april.ladle.yaml"), db)},
		{"read what was set aside, and why:", "cat " + filepath.Join(folder, "arrivals.set-aside.csv")},
		{"correct a line in it, give it back, and see what would come in:",
			fmt.Sprintf("%s try %s --db %s --corrected %s", typed(), file, db,
				filepath.Join(folder, "arrivals.set-aside.csv"))},
		{"load again: nothing is added twice:", fmt.Sprintf("%s load %s --db %s --yes", typed(), file, db)},
		{"load the log again: without a key, it is refused:",
			fmt.Sprintf("%s load %s --db %s --yes", typed(), log, db)},
		{"bring vessels up to date, and remove pilots that left:",
			fmt.Sprintf("%s try %s --db %s --allow-removal", typed(), filepath.Join(folder, demo.Season), db)},
		{"compare the files with the database:", fmt.Sprintf("%s verify %s --db %s", typed(), file, db)},
		{"see what the logbook has of the first load:", fmt.Sprintf("%s runs 1 --db %s", typed(), db)},
		{"take the log back:", fmt.Sprintf("%s undo 2 --db %s --yes", typed(), db)},
		{"see how a ladle file says it:", "cat " + file},
		{"see the files as it cleans them:", fmt.Sprintf("%s survey %s", typed(), file)},
		{"write the cleaned rows to files:", fmt.Sprintf("%s prepare %s -o %s", typed(), file,
			filepath.Join(folder, "cleaned"))},
	} {
		s.Line("  %s\n    %s", next[0], next[1])
	}
}
