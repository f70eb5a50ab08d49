package query

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"paceduel/core/contender/query/database"
	"paceduel/core/rows"
)

// What a parameter may be called besides a column.
const (
	afterMark  = "{{after."
	offsetMark = "{{offset}}"
	afterWord  = "after."
	offsetWord = "offset"
	asText     = " as text"
)

// source is where a parameter's value comes from.
type source uint8

const (
	fromTable  source = iota // the shot's row of the table
	fromRow                  // the row that came, for a statement that is for each
	fromAfter                // the last row of the page before
	fromOffset               // how many rows came before
)

// parameter is one of a statement's, in the order in which the database counts them.
type parameter struct {
	from   source
	name   string
	column int  // of the table
	text   bool // never taken for a number
}

// statement is one as it is sent, and what its parameters are.
type statement struct {
	database.Statement
	key        string // where it stands in the plan
	parameters []parameter
}

// parse puts the database's own signs in the place of {{name}}. An error may be a rows.Unknown.
func (s *Settings) parse(key, text, scheme string, table rows.Table) (st statement, err error) {
	st.key, st.Prepared = key, s.Prepared
	var out strings.Builder
	for rest := text; ; {
		before, after, found := strings.Cut(rest, "{{")
		out.WriteString(before)
		if !found {
			break
		}
		name, next, closed := strings.Cut(after, "}}")
		if !closed {
			return st, fmt.Errorf("{{ has no }} after it")
		}
		if quoted(out.String()) {
			return st, fmt.Errorf("{{%s}} stands in quotes: leave them out, it is a parameter and quoted by itself", name)
		}
		p, err := s.parameter(key, strings.TrimSpace(name), table)
		if err != nil {
			return st, err
		}
		at := slices.Index(st.parameters, p)
		if at < 0 || scheme == database.MySQL { // which counts them by where they stand
			at = len(st.parameters)
			st.parameters = append(st.parameters, p)
		}
		switch scheme {
		case database.Postgres:
			out.WriteString("$" + strconv.Itoa(at+1))
		case database.SQLite:
			out.WriteString("?" + strconv.Itoa(at+1))
		default:
			out.WriteByte('?')
		}
		rest = next
	}
	st.Text = strings.TrimRight(out.String(), "; \t\r\n")
	return st, nil
}

// quoted reports whether what follows a text stands within one of SQL's quotes.
func quoted(text string) bool { return strings.Count(text, "'")%2 == 1 }

func (s *Settings) parameter(key, name string, table rows.Table) (p parameter, err error) {
	name, p.text = strings.CutSuffix(name, asText)
	p.name, p.column = name, -1
	column, after := strings.CutPrefix(name, afterWord)
	switch {
	case s.Pages != nil && name == offsetWord:
		p.from = fromOffset
	case s.Pages != nil && after:
		if _, ok := s.Pages.First[column]; !ok {
			return p, fmt.Errorf("nothing says what %s is for the first page: set pages: { first: { %s: … } }", name, column)
		}
		p.from, p.name = fromAfter, column
	case slices.Contains(table.Columns, name):
		p.from, p.column = fromTable, slices.Index(table.Columns, name)
	case key == "each":
		p.from = fromRow
	default:
		return p, rows.Unknown{Key: key, Name: name, Columns: table.Columns}
	}
	return p, nil
}

// values are a table's as parameters: those of a column of numbers are numbers, since a database that is to compare a
// number with a text may not use its index.
func values(table rows.Table) [][]database.Value {
	numbers := make([]bool, len(table.Columns))
	for i := range numbers {
		numbers[i] = !slices.ContainsFunc(table.Rows, func(row []string) bool { return number(row[i]).Type == database.Text })
	}
	out := make([][]database.Value, len(table.Rows))
	for i, row := range table.Rows {
		for j, text := range row {
			v := database.Value{Type: database.Text, Bytes: []byte(text)}
			if numbers[j] {
				v = number(text)
			}
			out[i] = append(out[i], v)
		}
	}
	return out
}

// number is a text as a number, where it is written as one usually is: 007 is none.
func number(text string) database.Value {
	if n, err := strconv.ParseInt(text, 10, 64); err == nil && strconv.FormatInt(n, 10) == text {
		return database.Value{Type: database.Int, Int: n}
	}
	if f, err := strconv.ParseFloat(text, 64); err == nil && strconv.FormatFloat(f, 'f', -1, 64) == text {
		return database.Value{Type: database.Float, Float: f}
	}
	return database.Value{Type: database.Text, Bytes: []byte(text)}
}

// asWritten is a value as text.
func asWritten(v database.Value) database.Value {
	return database.Value{Type: database.Text, Bytes: v.AppendText(nil)}
}
