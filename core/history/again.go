package history

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"paceduel/core/files"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
)

// Again is the plan of an earlier run as it was, and what differs now from then, in words. file is where its plan's
// file
// is, or was; paths start from its folder. opt says which kinds there are, and reads the environment; what was laid
// over
// the plan, and who took part, is as it was.
func Again(r *result.Result, file string, opt read.Options) (*plan.Plan, []string, error) {
	if r.Plan.Source == "" {
		return nil, nil, fmt.Errorf("run %s again: its plan is not kept with it, since it was measured elsewhere", r.ID)
	}
	opt.Sets, opt.Only, opt.Mirror = r.Plan.Sets, nil, false
	for _, e := range r.Entrants {
		if e.Mirror && e.Name == r.Plan.Baseline+plan.MirrorSuffix {
			opt.Mirror = true
		} else if !e.Mirror {
			opt.Only = append(opt.Only, e.Name)
		}
	}
	var notes []string
	if info, err := os.Stat(filepath.Dir(file)); file == "" || err != nil || !info.IsDir() {
		if file != "" {
			notes = append(notes, fmt.Sprintf("the folder of its plan, %s, is not here; paths start from this one",
				filepath.Dir(file)))
		}
		file = filepath.Base(file)
	} else {
		notes = append(notes, planNote(r, file)...)
	}
	p, err := read.Plan(file, []byte(r.Plan.Source), opt)
	if err != nil {
		return nil, notes, fmt.Errorf("run %s again: %w", r.ID, err)
	}
	return p, append(notes, fileNotes(r, p)...), nil
}

// planNote says how the plan's file differs from what was run.
func planNote(r *result.Result, file string) []string {
	text, err := files.Read(file, read.MaxBytes)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return []string{file + " is gone; its text is taken from the run"}
	case err != nil || string(text) == r.Plan.Source:
		return nil
	}
	keys := read.Differ(r.Plan.Source, string(text))
	if len(keys) == 0 {
		return []string{file + " reads differently now, but measures the same; it is run as it was"}
	}
	return []string{fmt.Sprintf("%s says something else now, see %s:; it is run as it was", file,
		strings.Join(keys, ":, "))}
}

// fileNotes say which files that the plan names are not what they were.
func fileNotes(r *result.Result, p *plan.Plan) (notes []string) {
	now := files.Named(p.Source+"\n"+strings.Join(p.Sets, "\n"), p.Dir)
	for _, then := range r.Plan.Files {
		at := slices.IndexFunc(now, func(s files.Sum) bool { return s.Path == then.Path })
		switch {
		case at < 0:
			notes = append(notes, then.Path+" is not there any more")
		case !now[at].Same(then):
			notes = append(notes, then.Path+" holds something else now")
		}
	}
	return notes
}
