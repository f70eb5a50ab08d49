package query

import (
	"paceduel/core/contender/query/database"
	"paceduel/core/shots"
	"paceduel/core/units"
)

// What a latency is made of, by its place in the shape.
const (
	pooled   = iota // until a connection of the pool was free
	connect         // with what is said to each new connection
	prepare         // of statements that the connection does not know yet
	firstRow        // until the first row came, or it was known that there is none
	allRows         // until the last one had
	forEach         // the statements that are for each row
	commit
)

// What is counted of a shot, by its place in the shape.
const (
	statements = iota
	rowsRead
	rowsChanged
	pagesRead
	replaced // connections that had been closed when they were wanted
	connections
)

var shape = shots.Shape{
	Parts: []string{
		pooled: "for a connection", connect: "connect", prepare: "prepare", firstRow: "first row", allRows: "all rows",
		forEach: "for each row", commit: "commit",
	},
	Amounts: []shots.Amount{
		statements:  answered("statements", "statements"),
		rowsRead:    answered("rows", "rows"),
		rowsChanged: answered("rows changed", "rows"),
		pagesRead:   answered("pages", "pages"),
		replaced:    {Name: "replaced", Unit: "connections", Row: "connections replaced", Site: shots.Connects},
		connections: {
			Name: shots.Connections, Unit: "connections", Row: "new connections a shot", Per: shots.PerShot,
			Site: shots.Connects,
		},
	},
	Account: database.Counts,
}

// answered is what is counted of an answer.
func answered(name string, unit units.Unit) shots.Amount {
	return shots.Amount{Name: name, Unit: unit, Row: name + " a shot", Per: shots.PerShot, Site: shots.Answers}
}
