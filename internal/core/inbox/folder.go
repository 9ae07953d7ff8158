package inbox

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"ladle/internal/core/fault"
)

// The folders in the inbox.
const (
	Loaded  = "loaded"
	Refused = "refused"
	working = ".ladle-working"
)

// Folder is an inbox that nobody else works in.
type Folder struct {
	Path string
	lock *os.File
}

// Open locks an inbox. That another program works in it is an error.
func Open(path string) (*Folder, error) {
	if info, err := os.Stat(path); err != nil || !info.IsDir() {
		return nil, fault.At(fault.Wrong, fault.Problem{File: path, What: "there is no such folder",
			Do: "create it, or check the path"})
	}
	name := filepath.Join(path, ".ladle-lock")
	lock, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600)
	if err == nil {
		err = tryLock(lock)
	}
	if errors.Is(err, errLocked) {
		return nil, errors.Join(fault.At(fault.Failed, fault.Problem{File: path, What: "another ladle works in this folder",
			Do: "let it end, or stop it"}), lock.Close())
	}
	if err != nil {
		return nil, fault.Because(fault.Failed, err, fault.Problem{File: name, What: "the folder can't be locked: " +
			fault.OfSystem(err), Do: "check its permissions"})
	}
	return &Folder{path, lock}, nil
}

// Close gives the folder free.
func (f *Folder) Close() error { return f.lock.Close() }

// Work is a load whose files and reports are in the inbox.
type Work struct {
	Place string // a folder for what the load writes: set-aside lines, and the report

	job     *Job
	folder  *Folder
	room    string   // the folder of all attempts to load the job
	earlier []string // the folders of those that were killed, the last one first
}

// Begin makes room for what a load writes. What an attempt that was killed has left stays, since it may have been
// committed; see Earlier.
func (f *Folder) Begin(j *Job) (*Work, error) {
	w := &Work{job: j, folder: f, room: filepath.Join(f.Path, working, j.Name())}
	if err := os.MkdirAll(w.room, 0o755); err != nil {
		return nil, unmade(err)
	}
	attempts, err := os.ReadDir(w.room)
	last := 0
	for _, a := range slices.Backward(attempts) {
		w.earlier = append(w.earlier, filepath.Join(w.room, a.Name()))
		if n, err := strconv.Atoi(a.Name()); err == nil {
			last = max(last, n)
		}
	}
	w.Place = filepath.Join(w.room, fmt.Sprintf("%06d", last+1))
	return w, unmade(errors.Join(err, os.MkdirAll(w.Place, 0o755)))
}

// Fresh removes what earlier attempts have left, once it is known that none of them was committed.
func (w *Work) Fresh() error {
	var err error
	for _, folder := range w.earlier {
		err = errors.Join(err, os.RemoveAll(folder))
	}
	w.earlier = nil
	return unmade(err)
}

// Earlier has End take what the attempt has left that was committed: the last one that left anything, since those behind
// it found that there was nothing to do, and those before it were removed when it began.
func (w *Work) Earlier() {
	for _, folder := range w.earlier {
		if left, err := os.ReadDir(folder); err == nil && len(left) > 0 {
			w.Place = folder
			return
		}
	}
}

func unmade(err error) error {
	if err == nil {
		return nil
	}
	return fault.Because(fault.Failed, err,
		fault.Problem{What: "what is loaded can't be put in order: " + fault.OfSystem(err),
			Do: "check the permissions of the folder and the free disk space"})
}

// End moves the files of a job, and what its load has written, to the folder of its run; run is 0 where it is
// refused. It returns that folder.
func (w *Work) End(run int64, now time.Time) (string, error) {
	to := filepath.Join(w.folder.Path, Loaded, fmt.Sprintf("run-%d", run))
	if run == 0 {
		stem := strings.TrimSuffix(w.job.Name(), filepath.Ext(w.job.Name()))
		to = filepath.Join(w.folder.Path, Refused, stem+"-"+now.UTC().Format("20060102-150405.000"))
	}
	err := os.MkdirAll(to, 0o755)
	left, err2 := os.ReadDir(w.Place)
	err = errors.Join(err, err2)
	for _, entry := range left {
		err = errors.Join(err, os.Rename(filepath.Join(w.Place, entry.Name()), filepath.Join(to, entry.Name())))
	}
	for _, file := range w.job.All() { // last, since a file that is still here was not done
		err = errors.Join(err, os.Rename(file, filepath.Join(to, filepath.Base(file))))
	}
	if err == nil {
		err = os.RemoveAll(w.room)
		w.tidy()
	}
	return to, unmade(err)
}

// Leave removes what this attempt has left, which was not committed; what earlier ones have left stays, and the files stay
// where they are.
func (w *Work) Leave() error {
	err := os.RemoveAll(w.Place)
	w.tidy()
	return err
}

// tidy removes folders in which nothing is left; those that hold something stay.
func (w *Work) tidy() {
	_ = os.Remove(w.room)
	_ = os.Remove(filepath.Dir(w.room))
}

// Sweep removes the markers of files that were moved away, since a later file of the same name is not whole by them. What
// else ends as markers do stays.
func (f *Folder) Sweep(marker string) error {
	if marker == "" {
		return nil
	}
	found, err := os.ReadDir(f.Path)
	for _, entry := range found {
		name, is := strings.CutSuffix(entry.Name(), marker)
		if !is || name == "" || !entry.Type().IsRegular() {
			continue
		}
		if _, gone := os.Stat(filepath.Join(f.Path, name)); errors.Is(gone, fs.ErrNotExist) && f.moved(name) {
			err = errors.Join(err, os.Remove(filepath.Join(f.Path, entry.Name())))
		}
	}
	return unmade(err)
}

// moved reports whether a file of that name was ever moved away.
func (f *Folder) moved(name string) bool {
	for _, kind := range []string{Loaded, Refused} {
		ended, _ := os.ReadDir(filepath.Join(f.Path, kind)) // without it there is none
		for _, folder := range ended {
			if _, err := os.Stat(filepath.Join(f.Path, kind, folder.Name(), name)); err == nil {
				return true
			}
		}
	}
	return false
}
