package load

import (
	"path/filepath"

	"ladle/internal/core/fault"
	"ladle/internal/core/judge"
	"ladle/internal/core/report"
	"ladle/internal/core/setaside"
)

// What became of the other lines of an input.
const (
	notLoaded    = "NOT LOADED: nothing was changed"
	loaded       = "the others are loaded"
	partlyLoaded = "NOT ALL LOADED: parts of the others are"
)

// placeSetAside writes the set-aside file of each input that has lines set aside; others says what became of the other
// lines. A file is there whole or not at all.
func (r *run) placeSetAside(j *judge.Judgement, others string) error {
	r.report.SetAside = []report.SetAside{}
	groups := setaside.Groups{File: r.file}
	folder := r.Options.SetAside
	if folder == "" {
		folder = filepath.Dir(r.file.Path)
	}
	for i := range r.in.Plan.Feeds {
		in := &r.report.Inputs[i]
		if in.SetAside == 0 {
			continue
		}
		in.SetAsideFile = filepath.Join(folder, setaside.FileName(in.Input, r.file))
		moved, err := r.in.SetAside(i, j).Write(in.SetAsideFile, others, &groups, r.report.Show)
		if err != nil {
			return fault.Because(fault.Failed, err, fault.Problem{File: in.SetAsideFile,
				What: "the set-aside lines can't be written: " + fault.OfSystem(err),
				Do:   "check the folder's permissions and free disk space"})
		}
		if in.Moved == "" {
			in.Moved = moved
		}
	}
	r.report.Groups = groups.List()
	return nil
}
