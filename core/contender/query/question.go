package query

import (
	"context"
	"strings"

	"paceduel/core/contender"
	"paceduel/core/contender/query/database"
	"paceduel/core/guard"
	"paceduel/core/plan"
	"paceduel/core/rows"
	"paceduel/core/shots"
)

// Question is a statement that contenders of other kinds perform beside what they time: to bring something about, or to
// know whether it has come.
type Question struct {
	At        plan.Address `json:"at" jsonschema:"required" jsonschema_description:"the database: sqlite:FILE, postgres://USER@HOST:PORT/NAME or mysql://USER@HOST:PORT/NAME (MariaDB, too)"`
	Password  plan.Secret  `json:"password,omitempty" jsonschema_description:"of the user, from the environment: ${NAME}"`
	Statement string       `json:"statement" jsonschema:"required,minLength=1" jsonschema_description:"what is asked, in the database's own SQL; {{key}} is a parameter, and quoted by itself"`
}

// askers is how many questions may be under way at a time, each over a connection of its own.
const askers = 8

// maxKept is how much of an answer is kept.
const maxKept = 1 << 20

func (q *Question) settings(limit plan.Span, writes bool) *Settings {
	s := New().(*Settings)
	s.At, s.Password, s.Statement, s.Connections, s.Writes = q.At, q.Password, q.Statement, askers, writes
	if limit > 0 {
		s.Timeout = limit
	}
	return s
}

// tableOf is one row of parameters without values.
func tableOf(names []string) rows.Table {
	return rows.Table{Columns: names, Rows: [][]string{make([]string, len(names))}}
}

// Check finds what is wrong with it; names are those of its parameters.
func (q *Question) Check(in plan.Surroundings, names ...string) []plan.Fault {
	s := q.settings(0, true)
	a, err := s.address(pretend)
	switch {
	case q.Statement == "":
		return []plan.Fault{{Try: "set statement:", What: "nothing says what is asked"}}
	case err != nil:
		return []plan.Fault{{Key: "at", What: err.Error()}}
	case a.Host != "" && guard.New(in.Allow).Check(a.Host) != nil:
		return []plan.Fault{{Key: "at", What: a.Host + " is not this machine", Try: guard.Try(a.Host)}}
	}
	if _, err := s.parse("statement", q.Statement, a.Scheme, tableOf(names)); err != nil {
		return []plan.Fault{{
			Key: "statement", What: err.Error(), Try: "its parameters are " + strings.Join(names, ", "),
		}}
	}
	return nil
}

// Asker asks a question again and again, over connections that it keeps. Its methods may be called from anywhere.
type Asker struct {
	d     *driver
	names int
}

// Open makes one that writes, or does not. Nothing is connected before the first question; limit is for how long one
// may take, the kind's own limit unless positive.
func (q *Question) Open(setup contender.Setup, limit plan.Span, writes bool, names ...string) (*Asker, error) {
	s := q.settings(limit, writes)
	a, err := s.address(setup.Fill)
	if err != nil {
		return nil, err
	}
	d, err := newDriver(setup, s, a, tableOf(names))
	if err != nil {
		return nil, err
	}
	d.clients++ // so that connections stay when nobody asks
	return &Asker{d, len(names)}, nil
}

// Answer is what a question brought.
type Answer struct {
	Rows int64
	Text []byte // the rows as JSON, as far as they are kept
}

// Ask performs the statement with the values of its parameters, by their order. The class of an error is that of a shot
// of this kind.
func (a *Asker) Ask(ctx context.Context, values ...string) (Answer, shots.Class, error) {
	c := &client{d: a.d}
	shot := shots.Shot{View: &shots.View{Limit: maxKept, Sample: true}}
	row := make([]database.Value, a.names)
	for i := range row {
		row[i] = database.Value{Type: database.Text, Bytes: []byte(values[i])}
	}
	a.d.mu.Lock()
	a.d.clients++
	a.d.mu.Unlock()
	defer c.Close()
	c.perform(ctx, row, &shot)
	return Answer{Rows: c.work.in.rows, Text: shot.View.Body}, shot.Class, shot.Err
}

// Rest closes the connections that nobody uses: what is asked next is asked over new ones, of a database that may be
// another one by then.
func (a *Asker) Rest() { a.d.drain() }

// Close closes its connections.
func (a *Asker) Close() {
	a.d.left()
}
