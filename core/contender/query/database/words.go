package database

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// What can be done about what databases refuse.
const (
	TryChanges   = "set writes: true if it may change data, and give each run its own copy or a transaction that ends"
	TryAddress   = "see what listens there (ss -lntp), and correct the address"
	TryStatement = "correct the statement; the database's own shell shows the same"
)

// PlacedError is an error of a statement with the place that it speaks of.
type PlacedError struct {
	Err          error
	Line, Column int    // from 1
	Shows        string // the line, and a mark beneath the place
}

func (e *PlacedError) Error() string {
	return fmt.Sprintf("line %d, column %d: %s\n%s", e.Line, e.Column, e.Err, e.Shows)
}

// Unwrap returns what the database said.
func (e *PlacedError) Unwrap() error { return e.Err }

// Placed is err with its place in the statement, which is counted in bytes from 0; err itself where there is none.
func Placed(err error, st *Statement, at int) error {
	if st == nil || at < 0 || at > len(st.Text) {
		return err
	}
	before := st.Text[:at]
	line := st.Text[strings.LastIndexByte(before, '\n')+1:]
	line, _, _ = strings.Cut(line, "\n")
	column := utf8.RuneCountInString(before[strings.LastIndexByte(before, '\n')+1:])
	const room, lead = 60, 30
	shown, mark := []rune(strings.ReplaceAll(line, "\t", " ")), column
	if from := column - lead; from > 0 && len(shown) > room {
		shown, mark = append([]rune("…"), shown[from:]...), lead+1
	}
	if len(shown) > room {
		shown = append(shown[:room:room], '…')
	}
	return &PlacedError{
		Err: err, Line: strings.Count(before, "\n") + 1, Column: column + 1,
		Shows: string(shown) + "\n" + strings.Repeat(" ", mark) + "^",
	}
}
