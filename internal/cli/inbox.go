package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/fault"
	"ladle/internal/core/inbox"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/load"
	"ladle/internal/core/logbook"
	"ladle/internal/core/reason"
	"ladle/internal/core/report"
	"ladle/internal/core/whole"
	"ladle/internal/page"
	"ladle/internal/term"
)

func inboxCommand() *command {
	c := &command{
		name: "inbox", phase: doLoad,
		does:  "load what arrives in a folder, and move it away with its report: once, or for good",
		takes: operands{"FOLDER", "one folder", 1, 1},
		about: "Files are matched with the file: patterns of ladle files by their names; those of several inputs belong " +
			"together where their wildcards stand for the same. Each load is one run. Its files go to FOLDER/loaded/run-N " +
			"with the report and the lines set aside, those of a load that is refused to FOLDER/refused. A load that fails " +
			"for another reason leaves them where they are. It asks no questions. The exit status is the worst of the loads.",
		options: []option{databaseOption(), waitOption(), retriesOption(), timeoutOption(),
			{name: "with", value: "FILE", group: groupInput, list: true, needed: true,
				does: "load with the ladle file FILE"},
			{name: "rest", value: "SECONDS", group: groupInput, fallback: "5", check: restCheck,
				does: "take a file once it hasn't changed for so long"},
			{name: "marker", value: "SUFFIX", group: groupInput,
				does: "take a file once there is one of the same name with SUFFIX " +
					"behind it, such as .done, whenever it changed"},
			{name: "stay", group: groupInput, does: "go on until the program is stopped: load files as they arrive"},
			removalOption("remove the rows that gone_from_file: finds"),
			{name: "on-end", value: "PROGRAM", group: groupOutput,
				does: "run PROGRAM after each load, with LADLE_OUTCOME, LADLE_RUN, " +
					"LADLE_FILES and LADLE_REPORT in its environment"},
			{name: "log", value: "FILE", group: groupOutput, does: "add a line of JSON to FILE for each thing that happens"},
			jsonOption()},
		examples: []example{
			{"What has arrived, every night",
				"ladle inbox /srv/port-merrow/arriving --with port-merrow/harbour.ladle.yaml --db " +
					"port-merrow/harbour.db --log /var/log/port-merrow.jsonl"},
			{"Each file once its sender has put a marker beside it, for good", "ladle inbox /srv/port-merrow/arriving --with " +
				"port-merrow/harbour.ladle.yaml --db port-merrow/harbour.db --marker .done --stay"},
		},
		run: runInbox,
	}
	c.options = append(c.options, progressOptions()...)
	return c
}

func restCheck(text string) error {
	if n, err := strconv.ParseFloat(text, 64); err != nil || n < 0 || n > 86_400 {
		return fault.InvalidValue{What: fmt.Sprintf("can't be %q", text), Do: "give seconds, such as 5 or 0.5"}
	}
	return nil
}

// An inbox that stays looks again when something has arrived; at the latest
const (
	lookSoon  = time.Second      // after this, while files wait to be whole
	lookLater = 10 * time.Second // after this, when none does, or when a load has failed
)

// watch is an inbox at work.
type watch struct {
	c      *cli.Command
	folder *inbox.Folder
	ladles []*ladlefile.File
	rest   time.Duration
	log    *slog.Logger
	said   map[string]string // why a file waits, as it was said last
	runs   []inboxRun
	waits  []inboxWaiting
	worst  int
}

// inboxRun is what became of a job.
type inboxRun struct {
	Files   []string `json:"files"`
	Ladle   string   `json:"ladle_file"`
	Outcome string   `json:"outcome"`
	Status  int      `json:"status"`
	Run     int64    `json:"run,omitempty"`
	Folder  string   `json:"folder,omitempty"` // where the files are now
	Says    string   `json:"says"`
}

// inboxWaiting is a file that was not taken.
type inboxWaiting struct {
	File  string `json:"file"`
	Why   string `json:"why"`
	wrong bool   // it can't be by itself that this changes
}

func runInbox(ctx context.Context, c *cli.Command) error {
	showProgress(c)
	if c.Bool("stay") && c.Bool("json") {
		return fault.New(fault.Wrong, "--json is one document at the end, and --stay has none",
			"give --log in place of --json")
	}
	w := &watch{c: c, said: map[string]string{}, log: slog.New(slog.DiscardHandler), runs: []inboxRun{},
		waits: []inboxWaiting{}}
	seconds, _ := strconv.ParseFloat(c.String("rest"), 64) // it was checked
	w.rest = time.Duration(seconds * float64(time.Second))
	for _, path := range c.StringSlice("with") {
		f, err := ladlefile.Read(path)
		if err != nil {
			return err
		}
		w.ladles = append(w.ladles, f)
	}
	if path := c.String("log"); path != "" {
		to, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		if err != nil {
			return fault.Because(fault.Failed, err, fault.Problem{File: path,
				What: "the log can't be written: " + fault.OfSystem(err),
				Do:   "check the permissions of its folder"})
		}
		defer to.Close()
		w.log = slog.New(slog.NewJSONHandler(to, nil))
	}
	var err error
	if w.folder, err = inbox.Open(c.Args().First()); err != nil {
		return err
	}
	defer w.folder.Close()
	if err := w.watch(ctx); err != nil {
		return err
	}
	outcome := "done"
	if c.Bool("json") {
		if err := printDocument(term.Stdout, newHead("inbox", outcome, w.worst), struct {
			Runs    []inboxRun     `json:"loads"`
			Waiting []inboxWaiting `json:"waiting"`
		}{w.runs, w.waits}); err != nil {
			return err
		}
	}
	if w.worst != done {
		return exit(w.worst)
	}
	return nil
}

// watch looks once, or until the program is stopped.
func (w *watch) watch(ctx context.Context) error {
	if !w.c.Bool("stay") {
		if err := w.look(ctx); err != nil && ctx.Err() == nil {
			return err
		}
		return ctx.Err()
	}
	changes, err := w.folder.Changes()
	if err != nil {
		w.log.Warn("every second", "why", fault.ProblemsOf(err)[0].String())
	}
	defer changes.Close()
	for ctx.Err() == nil {
		if err := w.look(ctx); err != nil && ctx.Err() == nil {
			return err
		}
		longest := lookLater
		for _, x := range w.waits {
			if !x.wrong {
				longest = lookSoon
			}
		}
		changes.Wait(ctx, longest)
	}
	w.log.Info("stopped") // as it was meant to end
	return nil
}

// look loads what has arrived.
func (w *watch) look(ctx context.Context) error {
	if err := w.folder.Sweep(w.c.String("marker")); err != nil {
		return err
	}
	jobs, waiting, err := inbox.Find(w.folder.Path, w.ladles, inbox.Options{Rest: w.rest, Marker: w.c.String("marker"),
		Now: time.Now()})
	if err != nil {
		return err
	}
	w.waits = w.waits[:0]
	for _, x := range waiting {
		name := filepath.Base(x.File)
		w.waits = append(w.waits, inboxWaiting{x.File, x.Why, x.Wrong})
		if w.said[name] == x.Why {
			continue
		}
		w.said[name] = x.Why
		w.log.Info("waiting", "file", x.File, "why", x.Why)
		w.say(x.Wrong, "%s stays: %s", name, x.Why)
		if x.Wrong {
			w.worst = worse(w.worst, wrong)
		}
	}
	for _, j := range jobs {
		if ctx.Err() != nil {
			return nil
		}
		if err := w.do(ctx, j); err != nil {
			return err
		}
	}
	return nil
}

// say tells what happens; to those who asked for quiet only what is wrong.
func (w *watch) say(bad bool, format string, parts ...any) {
	if !w.c.Bool("json") && (bad || !w.c.Bool("quiet")) {
		term.NewScreen(term.Stdout).Line(format, parts...)
	}
}

// worse is the worse of two exit statuses: lines that are set aside are better than a refusal, and all is better than a
// commit of which nothing is known.
func worse(a, b int) int {
	order := map[int]int{done: 0, incomplete: 1, refused: 2, wrong: 3, failed: 4, unknown: 5, unfinished: 6}
	if order[b] > order[a] {
		return b
	}
	return a
}

// do loads a job, and puts its files in order.
func (w *watch) do(ctx context.Context, j *inbox.Job) error {
	work, err := w.folder.Begin(j)
	if err != nil {
		return err
	}
	w.log.Info("loading", "files", j.All(), "ladle_file", j.Ladle)
	ended := inboxRun{Files: j.All(), Ladle: j.Ladle}
	r, before, err := w.load(ctx, j, work)
	switch {
	case ctx.Err() != nil && r == nil && fault.ClassOf(err) != fault.Unknown:
		w.log.Info("interrupted", "files", ended.Files, "says", unchanged)
		return work.Leave()
	case before > 0:
		work.Earlier()
		ended.Outcome, ended.Run, ended.Says = "loaded", before, fmt.Sprintf("was loaded before, as run %d", before)
	case err != nil:
		ended.Status, ended.Says = statuses[fault.ClassOf(err)], fault.ProblemsOf(err)[0].String()
		ended.Outcome = map[int]string{wrong: "refused", refused: "refused", unknown: "unknown"}[ended.Status]
		if ended.Outcome == "" {
			ended.Outcome = "failed"
		}
		if ended.Outcome == "refused" {
			if err := writeText(filepath.Join(work.Place, "error.txt"), problemText(err)); err != nil {
				return err
			}
		}
	default:
		ended.Status, ended.Outcome, ended.Run, ended.Says = statusOf(r), string(r.Outcome), r.Run, doneWords(r)
		if n := r.LinesSetAside(); n > 0 {
			ended.Says += ", " + plural(n, "line") + " set aside"
		}
		if r.Outcome == report.Refused && r.Why != nil {
			ended.Says = whyRefused(r.Why)
		}
		changed = changed || r.Outcome == report.Loaded
		if err := whole.Write(filepath.Join(work.Place, "report.html"), func(to io.Writer) error {
			return page.Load(to, r, Version)
		}); err != nil {
			return err
		}
	}
	if err := w.place(work, &ended); err != nil {
		return err
	}
	w.worst = worse(w.worst, ended.Status)
	w.runs = append(w.runs, ended)
	names := make([]string, len(ended.Files))
	for i, f := range ended.Files {
		names[i] = filepath.Base(f)
	}
	run := ""
	if ended.Run > 0 {
		run = fmt.Sprintf(" (run %d)", ended.Run)
	}
	w.say(ended.Status != done, "%s: %s%s: %s", strings.Join(names, ", "), ended.Outcome, run, ended.Says)
	w.log.Info("ended", "outcome", ended.Outcome, "files", ended.Files, "run", ended.Run, "status", ended.Status,
		"folder", ended.Folder, "says", ended.Says)
	return w.onEnd(ctx, ended)
}

// place moves the files of a job that has ended; where it failed for a reason that may pass, they stay. So does what
// it has written, where it isn't known whether it was committed: the next time, the logbook tells.
func (w *watch) place(work *inbox.Work, ended *inboxRun) (err error) {
	switch ended.Status {
	case failed:
		return work.Leave()
	case unknown:
		return nil
	}
	if ended.Folder, err = work.End(ended.Run, time.Now()); err != nil {
		return err
	}
	return w.folder.Sweep(w.c.String("marker"))
}

// load loads a job. before is the run that has loaded the same files already; 0 for none.
func (w *watch) load(ctx context.Context, j *inbox.Job, work *inbox.Work) (r *report.Report, before int64, err error) {
	file, err := ladlefile.Read(j.Ladle)
	if err != nil {
		return nil, 0, err
	}
	for name, paths := range j.Files {
		if err := file.ReadFrom(name, paths); err != nil {
			return nil, 0, err
		}
	}
	committing.Store(false)
	r, err = loadFile(ctx, file, w.c.String("db"), waits(w.c), load.Options{Removal: w.c.Bool("allow-removal"),
		Retries:  retries(w.c),
		SetAside: work.Place,
		Begins:   work.Fresh, AskKnown: func(_ context.Context, run *logbook.Run) (bool, error) {
			before = run.ID
			return false, nil
		}})
	committing.Store(false)
	if err == nil && r.Outcome == report.Refused && r.Why != nil && r.Why.Kind == reason.LoadedBefore {
		before = r.Why.Limit // rows without a key would be added again
	}
	if err != nil || before > 0 {
		return nil, before, err
	}
	for i := range r.Inputs { // beside the report, wherever that goes
		if r.Inputs[i].SetAsideFile != "" {
			r.Inputs[i].SetAsideFile = filepath.Base(r.Inputs[i].SetAsideFile)
		}
	}
	return r, 0, nil
}

// problemText is what is wrong, as it is shown.
func problemText(err error) string {
	var b strings.Builder
	for _, p := range fault.ProblemsOf(err) {
		b.WriteString(p.String() + "\n")
	}
	return b.String()
}

// onEnd runs the program that a person wants to be run after each load.
func (w *watch) onEnd(ctx context.Context, ended inboxRun) error {
	program := w.c.String("on-end")
	if program == "" {
		return nil
	}
	c := exec.CommandContext(ctx, program)
	page := ""
	if ended.Folder != "" {
		page = filepath.Join(ended.Folder, "report.html")
		if _, err := os.Stat(page); err != nil {
			page = filepath.Join(ended.Folder, "error.txt")
		}
	}
	c.Env = append(os.Environ(), "LADLE_OUTCOME="+ended.Outcome, fmt.Sprintf("LADLE_RUN=%d", ended.Run),
		"LADLE_FILES="+strings.Join(ended.Files, "\n"), "LADLE_REPORT="+page)
	c.Stdout, c.Stderr = os.Stderr, os.Stderr
	if err := c.Run(); err != nil {
		w.worst = worse(w.worst, failed)
		w.log.Error("on-end failed", "program", program, "why", err.Error())
		fmt.Fprintln(os.Stderr, term.Safe(fmt.Sprintf("ladle: %s: %v", program, err)))
	}
	return nil
}
