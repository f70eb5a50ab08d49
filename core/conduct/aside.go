package conduct

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"paceduel/core/logbook"
	"paceduel/core/result"
)

// Aside is where runs are kept until their logbook can be reached: a server may go away while something is measured.
// Files of one logbook are told from another's by a mark in their names.
type Aside struct {
	Dir  string // of the user alone; empty: nothing is kept
	Book string // the logbook's name or address, which stays out of what is kept
}

const asideSuffix = ".aside.json"

// mark is what names of the logbook's files begin with.
func (a Aside) mark() string {
	return fmt.Sprintf("%x-", sha256.Sum256([]byte(a.Book)))[:13]
}

// keep writes a run, and tells where; empty where it could not, or had nothing to keep.
func (a Aside) keep(r *result.Result) string {
	if a.Dir == "" || len(r.Heats) == 0 || os.MkdirAll(a.Dir, 0o700) != nil {
		return ""
	}
	path := filepath.Join(a.Dir, a.mark()+r.ID+asideSuffix)
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE, 0o600) // before anything is in it
	if err != nil {
		return ""
	}
	f.Close()
	if r.WriteFile(path) != nil || os.Chmod(path, 0o600) != nil {
		return ""
	}
	return path
}

// HandIn enters in the book what was kept aside for it, and tells how many runs. What cannot be entered stays where it
// is, and the error says why.
func (a Aside) HandIn(b *logbook.Book) (n int, err error) {
	if a.Dir == "" {
		return 0, nil
	}
	entries, err := os.ReadDir(a.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, fmt.Errorf("look for runs that were kept aside: %w", err)
	}
	var troubles []error
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), a.mark()) || !strings.HasSuffix(e.Name(), asideSuffix) {
			continue
		}
		if err := handIn(b, filepath.Join(a.Dir, e.Name())); err != nil {
			troubles = append(troubles, err)
			continue
		}
		n++
	}
	return n, errors.Join(troubles...)
}

func handIn(b *logbook.Book, path string) error {
	r, err := result.ReadFile(path)
	if err != nil {
		return fmt.Errorf("hand in a run that was kept aside: %w", err)
	}
	s, err := Summarize(r)
	if err != nil { // it is kept without a sentence
		s.Lead = 0
	}
	if err := b.HandIn(r, s); err != nil {
		return fmt.Errorf("hand in %s: %w", path, err)
	}
	return os.Remove(path)
}
