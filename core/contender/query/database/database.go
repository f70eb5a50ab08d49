// Package database is what kind query asks of a database, whichever it is: connections that perform statements and say
// when rows come, what the database counts of its own work, and how it would carry a statement out.
//
// The databases themselves are the folders beside this one. What a shot consists of, and which connection it takes, is
// left to package query.
package database

import (
	"context"
	"math"
	"strconv"
	"time"

	"paceduel/core/shots"
)

// Engine opens connections to one database. Its methods may be called from anywhere.
type Engine interface {
	// Connect opens a connection, which is ready for statements. It returns within 100 ms of ctx ending.
	Connect(ctx context.Context) (Conn, error)
	// Account is what the database has counted of all its work so far, by the names of Counts: nanoseconds, bytes or
	// whole ones. Two accounts are subtracted to know what was done between them; what reading one adds is to be the
	// same each time. Nil where it counts nothing.
	Account(ctx context.Context) (map[string]int64, error)
	// Fault sorts an error of a connection and says what can be done about it.
	Fault(err error, st *Statement) Fault
}

// Conn is a connection. It belongs to one goroutine but for Interrupt.
type Conn interface {
	// Prepare has the database take the statement apart, so that performing it need not. Once for each connection.
	Prepare(st *Statement) error
	// Query performs a statement and hands out what comes: columns, then rows, until the reader has enough.
	Query(st *Statement, args []Value, into Reader) error
	// Begin, Commit and Rollback frame a transaction.
	Begin() error
	Commit() error
	Rollback() error
	// InTransaction reports whether one is open. A database that does not say so by itself is only asked where ask is set.
	InTransaction(ask bool) (bool, error)
	// Explain is how the database would carry the statement out.
	Explain(st *Statement, args []Value) (Explanation, error)
	// Version is the database's, as it says itself.
	Version() string
	// Limit has whatever is under way at that moment end with an error; the zero time lifts the limit.
	Limit(at time.Time)
	// Interrupt has what is under way end with an error soon, from any goroutine. The connection is of no use afterwards.
	Interrupt()
	// Gone reports whether the database has closed it meanwhile, as far as that can be seen without asking.
	Gone() bool
	// Traffic is how many bytes went over it so far.
	Traffic() (sent, received int64)
	// Tally adds what the connection itself has counted of its work, by the names of Counts.
	Tally(into map[string]int64)
	// Close ends the connection; whatever was under way on it ends at the database, too, within a second.
	Close()
}

// Statement is a statement as a database is told it.
type Statement struct {
	Number   int    // among those of the contender
	Text     string // with the database's own signs for its parameters
	Prepared bool
	Most     int // rows that are wanted at most; 0: all
}

// Reader is told what a statement brings. Its slices are valid until its method returns.
type Reader interface {
	Columns([]Column)
	Row([]Value) (more bool)
	Changed(rows int64) // by a statement that changes some
}

// Column is a column of what a statement brings.
type Column struct{ Name string }

// Type is what a value is, as far as it matters to write it down or hand it on.
type Type uint8

// The types.
const (
	Null Type = iota
	Int
	Float
	Number // in digits, of any size
	Bool
	Text
	Blob
	JSON
)

// Value is a value of a row, or of a parameter.
type Value struct {
	Type  Type
	Int   int64   // of Int, and 0 or 1 of Bool
	Float float64 // of Float
	Bytes []byte  // of all others
}

// Size is how many bytes the value itself has.
func (v *Value) Size() int {
	switch v.Type {
	case Null:
		return 0
	case Int, Float:
		return 8
	case Bool:
		return 1
	}
	return len(v.Bytes)
}

// AppendText writes the value as databases read it.
func (v *Value) AppendText(to []byte) []byte {
	switch v.Type {
	case Null:
		return to
	case Int:
		return strconv.AppendInt(to, v.Int, 10)
	case Float:
		return appendFloat(to, v.Float)
	case Bool:
		return strconv.AppendBool(to, v.Int != 0)
	}
	return append(to, v.Bytes...)
}

func appendFloat(to []byte, f float64) []byte {
	format := byte('f')
	if abs := math.Abs(f); abs != 0 && (abs < 1e-6 || abs >= 1e21) {
		format = 'e'
	}
	return strconv.AppendFloat(to, f, format, -1, 64)
}

// Explanation is how a database would carry a statement out.
type Explanation struct {
	Text  string // in the database's own form
	Shape string // the same without what it estimates, which may change from day to day
}

// Fault is an error of a database.
type Fault struct {
	Class shots.Class
	Err   error
	Try   string // what can be done about it; empty where that is not known
}
