// Package rows is what shots are filled in from: a table of values, one row a shot, whose columns stand as {{name}} in
// the texts of a contender.
//
// Which texts may have them, and what a row that runs out means, is for each kind to say.
package rows

import (
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"

	"paceduel/core/files"
)

// Limits of a table.
const (
	MaxBytes = 256 << 20 // of its file
	Max      = 100_000   // rows
)

// Table is a table in memory. It is not modified once read.
type Table struct {
	Columns []string
	Rows    [][]string // each as long as Columns
}

// None is the table of shots that are all alike: one row without columns.
func None() Table { return Table{Rows: [][]string{nil}} }

// Open reads a table from a file of comma-separated values (RFC 4180) whose first line names the columns.
func Open(path string) (Table, error) {
	f, err := files.Open(path, MaxBytes)
	if err != nil {
		return Table{}, err
	}
	defer f.Close()
	return Read(path, f)
}

// Read is Open of what is called name. A table has a row at least, and Max at most.
func Read(name string, r io.Reader) (Table, error) {
	in := csv.NewReader(r)
	columns, err := in.Read()
	if err == io.EOF {
		return Table{}, fmt.Errorf("%s is empty", name)
	}
	if err != nil {
		return Table{}, fmt.Errorf("%s: %w", name, err)
	}
	t := Table{Columns: columns}
	for {
		row, err := in.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			return Table{}, fmt.Errorf("%s: %w", name, err)
		}
		if len(t.Rows) == Max {
			return Table{}, fmt.Errorf("%s has more than %d rows", name, Max)
		}
		t.Rows = append(t.Rows, row)
	}
	if len(t.Rows) == 0 {
		return Table{}, fmt.Errorf("%s has a header line and no rows", name)
	}
	return t, nil
}

// Unknown is a {{name}} that a table does not have.
type Unknown struct {
	Key, Name string // where it stands, as the plan has it, and its name
	Columns   []string
}

func (u Unknown) Error() string { return "no column is called " + u.Name }

// Try is what can be done about it.
func (u Unknown) Try() string {
	if len(u.Columns) == 0 {
		return "set rows: to a CSV file that has it"
	}
	return "the columns are " + strings.Join(u.Columns, ", ")
}

// Fill replaces each {{column}} in text by the i-th row's value, put through escape unless that is nil. key says where
// the text stands. An error is an Unknown.
func (t Table) Fill(key, text string, i int, escape func(string) string) (string, error) {
	var out strings.Builder
	for {
		before, rest, found := strings.Cut(text, "{{")
		out.WriteString(before)
		if !found {
			return out.String(), nil
		}
		name, after, closed := strings.Cut(rest, "}}")
		if !closed {
			out.WriteString("{{" + rest)
			return out.String(), nil
		}
		name = strings.TrimSpace(name)
		at, row := slices.Index(t.Columns, name), t.Rows[i]
		if at < 0 || at >= len(row) {
			return "", Unknown{Key: key, Name: name, Columns: t.Columns}
		}
		value := row[at]
		if escape != nil {
			value = escape(value)
		}
		out.WriteString(value)
		text = after
	}
}
