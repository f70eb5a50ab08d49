package logbook

import (
	"database/sql"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"paceduel/core/result"
)

// Remarks are what people add to a run.
type Remarks struct {
	Called string   // what they call it; empty: nothing
	Note   string   // what they say of it
	Tags   []string // sorted
}

// Limits of remarks.
const (
	MaxCalled = 120  // characters
	MaxNote   = 4000 // characters
	MaxTags   = 20
)

var tag = regexp.MustCompile(`^[\pL\pN][\pL\pN._-]{0,31}$`)

// IsTag reports whether a text may be a tag: up to 32 letters, digits, dots, hyphens and underscores.
func IsTag(text string) bool { return tag.MatchString(text) }

// SplitTags are the tags of a text that was written in one go: to be put to a run, and, where a hyphen stands before
// them, to be taken from it.
func SplitTags(text string) (add, remove []string) {
	for _, w := range strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' }) {
		if less, ok := strings.CutPrefix(w, "-"); ok {
			remove = append(remove, less)
			continue
		}
		add = append(add, w)
	}
	return add, remove
}

// Retag puts tags to the remarks, and takes others from them.
func (r *Remarks) Retag(add, remove []string) {
	tags := append(slices.Clone(r.Tags), add...)
	slices.Sort(tags)
	r.Tags = slices.DeleteFunc(slices.Compact(tags), func(t string) bool { return slices.Contains(remove, t) })
}

func (r *Remarks) check() error {
	for _, t := range r.Tags {
		if !IsTag(t) {
			return fmt.Errorf("%q is no tag; use up to 32 letters, digits, dots, hyphens and underscores", t)
		}
	}
	switch {
	case len(r.Tags) > MaxTags:
		return fmt.Errorf("%d tags; a run has up to %d", len(r.Tags), MaxTags)
	case utf8.RuneCountInString(r.Called) > MaxCalled:
		return fmt.Errorf("a name of %d characters; use up to %d", utf8.RuneCountInString(r.Called), MaxCalled)
	case utf8.RuneCountInString(r.Note) > MaxNote:
		return fmt.Errorf("a note of %d characters; use up to %d", utf8.RuneCountInString(r.Note), MaxNote)
	}
	return nil
}

// inLine is a text in one line, as lists show it.
func inLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// tagsText keeps tags so that each stands between two spaces.
func tagsText(tags []string) string {
	if len(tags) == 0 {
		return ""
	}
	return " " + strings.Join(tags, " ") + " "
}

// Remark has what people say of a run changed, and returns the run's whole identifier and what is said of it now. The
// identifier may be cut short as long as it names one run only.
func (b *Book) Remark(id string, change func(*Remarks)) (full string, now Remarks, err error) {
	err = b.writing(func(tx work) error {
		if full, err = resolve(tx, id); err != nil {
			return err
		}
		var tags string
		if err := tx.QueryRow("SELECT called, note, tags FROM runs WHERE id = $1", full).
			Scan(&now.Called, &now.Note, &tags); err != nil {
			return err
		}
		now.Tags = strings.Fields(tags)
		change(&now)
		now.Called, now.Note = inLine(now.Called), inLine(now.Note)
		if err := now.check(); err != nil {
			return err
		}
		_, err := tx.Exec("UPDATE runs SET called = $1, note = $2, tags = $3 WHERE id = $4", now.Called, now.Note,
			tagsText(now.Tags), full)
		return err
	})
	if err != nil {
		return "", now, fmt.Errorf("remark on run %s in %s: %w", id, b.path, err)
	}
	return full, now, nil
}

// Delete removes a run, with all that is kept of it. One that is under way is not removed.
func (b *Book) Delete(id string) error {
	err := b.writing(func(tx work) error {
		full, err := resolve(tx, id)
		if err != nil {
			return err
		}
		var ending result.Ending
		if err := tx.QueryRow("SELECT ending FROM runs WHERE id = $1", full).Scan(&ending); err != nil {
			return err
		}
		if ending == result.Running {
			return errors.New("it is under way; end it first")
		}
		_, err = tx.Exec("DELETE FROM runs WHERE id = $1", full) // its documents and heats go with it
		return err
	})
	if err != nil {
		return fmt.Errorf("delete run %s from %s: %w", id, b.path, err)
	}
	return nil
}

// ErrKnown is the error for a run that the book has already.
var ErrKnown = errors.New("it is there already")

// Import enters a run of another logbook, or of a file, as it is. The error is ErrKnown where it is there; another run
// of the same identifier is refused.
func (b *Book) Import(r *result.Result, s Summary) error { return b.take(r, s, false) }

// HandIn enters a run that could not be entered, or not wholly, as it went on. Where the book has it the longer of the
// two is kept; what people said of it stays.
func (b *Book) HandIn(r *result.Result, s Summary) error { return b.take(r, s, true) }

func (b *Book) take(r *result.Result, s Summary, replace bool) error {
	if r.ID == "" {
		return fmt.Errorf("take a run into %s: it has no identifier", b.path)
	}
	head := *r
	head.Heats = nil
	if head.Ending == result.Running { // whoever runs it keeps it
		head.Ending = result.CutOff
	}
	err := b.writing(func(tx work) error {
		var started, heats int64
		var said Remarks
		var tags string
		err := tx.QueryRow("SELECT started, heats, called, note, tags FROM runs WHERE id = $1", r.ID).
			Scan(&started, &heats, &said.Called, &said.Note, &tags)
		switch {
		case errors.Is(err, sql.ErrNoRows):
		case err != nil:
			return err
		case started != r.Started.UnixNano():
			return errors.New("another run has this identifier")
		case !replace:
			return ErrKnown
		case heats > int64(len(r.Heats)):
			return nil // it went on elsewhere
		default:
			if _, err := tx.Exec("DELETE FROM runs WHERE id = $1", r.ID); err != nil {
				return err
			}
		}
		return enterWhole(tx, &head, r.Heats, s, said, tags)
	})
	if err != nil {
		return fmt.Errorf("take run %s into %s: %w", r.ID, b.path, err)
	}
	return nil
}

// enterWhole enters a run that is over.
func enterWhole(tx work, head *result.Result, heats []result.Heat, s Summary, said Remarks, tags string) error {
	if err := insert(tx, head, head.Plan.File, 0, 0); err != nil {
		return err
	}
	for i := range heats {
		body, err := packHeat(&heats[i])
		if err != nil {
			return err
		}
		if _, err := tx.Exec("INSERT INTO heats (run, seq, body) VALUES ($1, $2, $3)", head.ID, i, body); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(`UPDATE runs SET heats = $1, sentence = $2, lead = $3, called = $4, note = $5, tags = $6
		WHERE id = $7`, len(heats), s.Sentence, s.lead(), said.Called, said.Note, tags, head.ID); err != nil {
		return err
	}
	return setStand(tx, head.ID, s.Stand)
}

// writing is together for what is read before it is changed: nobody else changes it in between.
func (b *Book) writing(do func(work) error) error {
	return b.together(func(tx work) error {
		if _, err := tx.Exec(b.engine.lock); err != nil {
			return err
		}
		return do(tx)
	})
}

// resolve finds the run that an identifier names, which may be cut short.
func resolve(tx work, id string) (full string, err error) {
	if id == "" {
		return "", fmt.Errorf("no identifier: %w; paceduel log lists them", ErrNoRun)
	}
	rows, err := tx.Query(
		"SELECT id FROM runs WHERE id = $1 OR substr(id, 1, length($1)) = $1 ORDER BY CASE WHEN id = $1 THEN 0 ELSE 1 END "+
			"LIMIT 2", id,
	)
	if err != nil {
		return "", err
	}
	defer rows.Close()
	var found []string
	for rows.Next() {
		var one string
		if err := rows.Scan(&one); err != nil {
			return "", err
		}
		found = append(found, one)
	}
	switch {
	case rows.Err() != nil:
		return "", rows.Err()
	case len(found) == 0:
		return "", fmt.Errorf("%w; paceduel log lists them", ErrNoRun)
	case len(found) == 2 && found[0] != id:
		return "", errors.New("more than one run begins like this; give more of its id")
	}
	return found[0], nil
}
