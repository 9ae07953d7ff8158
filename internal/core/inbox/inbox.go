// Package inbox finds what has arrived in a folder, and keeps order there.
//
// [Find] matches the files of a folder with the patterns of ladle files: a [Job] is the files of one load.
// [Folder.Begin] makes room for what a load writes, and [Work.End] moves that and the files to where they belong. A
// program that is killed in between leaves each file either in the folder or beside the report of its load; whether a
// file that is still there was loaded, the logbook tells.
package inbox

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
)

// Job is a load that is to be done: a ladle file, and the files of its inputs.
type Job struct {
	Ladle string              // the path of the ladle file
	Files map[string][]string // by input, the paths of those that have arrived
}

// All are all files of the job, in order.
func (j *Job) All() (all []string) {
	for _, files := range j.Files {
		all = append(all, files...)
	}
	slices.Sort(all)
	return slices.Compact(all) // several inputs may read one workbook
}

// Name is what the job is called: its first file.
func (j *Job) Name() string { return filepath.Base(j.All()[0]) }

// Waiting is a file that can't be loaded yet, or at all.
type Waiting struct {
	File  string
	Why   string
	Wrong bool // it can't be by itself that this changes
}

// Options say when a file is whole.
type Options struct {
	Rest   time.Duration // for so long it hasn't changed
	Marker string        // or there is a file of the same name with this behind it; "" for none
	Now    time.Time
}

// Find matches the files of a folder with ladle files. Jobs are in order of the names of their files.
func Find(folder string, ladles []*ladlefile.File, o Options) (jobs []*Job, waiting []Waiting, err error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, nil, fault.Because(fault.Failed, err, fault.Problem{File: folder, What: "the folder can't be read: " +
			fault.OfSystem(err), Do: "check the path and the permissions"})
	}
	var sets []*set
	for _, entry := range entries {
		name := entry.Name()
		if !entry.Type().IsRegular() || strings.HasPrefix(name, ".") {
			continue
		}
		path := filepath.Join(folder, name)
		if marked, is := strings.CutSuffix(path, o.Marker); is && o.Marker != "" {
			if _, err := os.Stat(marked); errors.Is(err, fs.ErrNotExist) {
				waiting = append(waiting, Waiting{path, fmt.Sprintf("it is a marker, and there is no %s", filepath.Base(marked)),
					false})
			}
			continue
		}
		takers := takersOf(name, ladles)
		switch why := o.unready(entry, path); {
		case len(takers) == 0:
			waiting = append(waiting, Waiting{path, "no ladle file has an input for it", true})
		case unclear(takers) != nil:
			other := unclear(takers)
			waiting = append(waiting, Waiting{path, fmt.Sprintf("it could be for input %s of %s, or for %s of %s",
				takers[0].input.name, takers[0].ladle.Path, other.input.name, other.ladle.Path), true})
		case why != "":
			waiting = append(waiting, Waiting{path, why, false})
		default:
			for _, t := range takers {
				sets = put(sets, t, path)
			}
		}
	}
	slices.SortStableFunc(sets, func(a, b *set) int { // those with wildcards take the others
		if a.wild() == b.wild() {
			return 0
		}
		if a.wild() {
			return -1
		}
		return 1
	})
	for _, s := range sets {
		job, missing := s.job(sets)
		if missing != "" {
			for _, file := range s.all() {
				waiting = append(waiting, Waiting{file, "it waits for " + missing, false})
			}
			continue
		}
		if job != nil {
			jobs = append(jobs, job)
		}
	}
	slices.SortFunc(jobs, func(a, b *Job) int { return cmp.Compare(a.Name(), b.Name()) })
	return jobs, waiting, nil
}

// unready is why a file isn't whole yet; "" when it is.
func (o Options) unready(entry fs.DirEntry, path string) string {
	if o.Marker != "" {
		if _, err := os.Stat(path + o.Marker); err != nil {
			return fmt.Sprintf("there is no %s yet, which says that it is whole", filepath.Base(path)+o.Marker)
		}
		return ""
	}
	info, err := entry.Info()
	if err != nil {
		return "it is gone"
	}
	if age := o.Now.Sub(info.ModTime()).Abs(); age < o.Rest {
		return fmt.Sprintf("it changed less than %s ago", o.Rest)
	}
	return ""
}

// input is an input of a ladle file for which files arrive.
type input struct {
	name    string
	pattern *regexp.Regexp
	wild    bool
	there   bool // beside the ladle file is a file for it
	says    string
}

// inputsOf lists the inputs of a ladle file for which files can arrive.
func inputsOf(f *ladlefile.File) (all []*input) {
	for _, in := range f.Inputs {
		if in.FromDatabase() || len(in.Paths) == 0 || in.Paths[0] == "-" {
			continue
		}
		for _, path := range in.Paths {
			base := filepath.Base(path)
			_, err := os.Stat(path)
			all = append(all, &input{name: in.Name.Value, pattern: asPattern(base), wild: strings.ContainsAny(base, "*?["),
				there: err == nil, says: base})
		}
	}
	return all
}

// asPattern is a pattern of file names, as the ladle file has it, that captures what its wildcards stand for.
func asPattern(base string) *regexp.Regexp {
	text := regexp.QuoteMeta(base)
	for from, to := range map[string]string{`\*`: `(.*)`, `\?`: `(.)`, `\[`: `([`, `\]`: `])`} {
		text = strings.ReplaceAll(text, from, to)
	}
	pattern, err := regexp.Compile("^" + text + "$")
	if err != nil { // a bracket that opens nothing
		pattern = regexp.MustCompile("^" + regexp.QuoteMeta(base) + "$")
	}
	return pattern
}

// taker is an input that a file is for.
type taker struct {
	ladle *ladlefile.File
	input *input
	key   string // what the wildcards stand for
}

// takersOf lists the inputs that a file is for; several of one ladle file that have the same pattern are one.
func takersOf(name string, ladles []*ladlefile.File) (all []taker) {
	for _, f := range ladles {
		for _, in := range inputsOf(f) {
			m := in.pattern.FindStringSubmatch(name)
			if m != nil {
				all = append(all, taker{f, in, strings.Join(m[1:], "\x00")})
			}
		}
	}
	return all
}

// unclear is a taker that is another one than the first: of another ladle file, or with another pattern.
func unclear(takers []taker) *taker {
	for i := range takers {
		if t := &takers[i]; t.ladle != takers[0].ladle || t.input.says != takers[0].input.says {
			return t
		}
	}
	return nil
}

// set is files of one ladle file that belong together: what their wildcards stand for is the same.
type set struct {
	ladle *ladlefile.File
	key   string
	files map[string][]string // by input
}

// put puts a file to those that it belongs to.
func put(sets []*set, t taker, path string) []*set {
	at := slices.IndexFunc(sets, func(s *set) bool { return s.ladle == t.ladle && s.key == t.key })
	if at < 0 {
		at = len(sets)
		sets = append(sets, &set{t.ladle, t.key, map[string][]string{}})
	}
	sets[at].files[t.input.name] = append(sets[at].files[t.input.name], path)
	return sets
}

func (s *set) all() (all []string) {
	for _, files := range s.files {
		all = append(all, files...)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// job is the load of the set, or what it lacks. Files without wildcards in their names belong to the first set that
// lacks nothing else; by themselves they are a set where the ladle file has no wildcards.
func (s *set) job(sets []*set) (job *Job, missing string) {
	job = &Job{Ladle: s.ladle.Path, Files: s.files}
	wildcards := slices.ContainsFunc(inputsOf(s.ladle), func(in *input) bool { return in.wild && !in.there })
	if s.key == "" && wildcards && !s.wild() {
		return nil, s.partner()
	}
	for _, in := range inputsOf(s.ladle) {
		if s.files[in.name] != nil {
			continue
		}
		plain := slices.IndexFunc(sets, func(o *set) bool {
			return o.ladle == s.ladle && o.key == "" && o != s && o.files[in.name] != nil
		})
		switch {
		case !in.wild && plain >= 0:
			job.Files[in.name] = sets[plain].files[in.name]
			delete(sets[plain].files, in.name)
		case !in.there:
			return nil, in.says
		}
	}
	return job, ""
}

// wild reports whether a file of the set is for an input with wildcards.
func (s *set) wild() bool {
	return slices.ContainsFunc(inputsOf(s.ladle), func(in *input) bool { return in.wild && s.files[in.name] != nil })
}

// partner is the pattern of the file that a set of files without wildcards waits for; "" where none of them is left.
func (s *set) partner() string {
	if len(s.files) == 0 {
		return ""
	}
	for _, in := range inputsOf(s.ladle) {
		if in.wild {
			return in.says
		}
	}
	return ""
}
