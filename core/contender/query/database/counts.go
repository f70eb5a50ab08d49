package database

import (
	"paceduel/core/shots"
	"paceduel/core/units"
)

// The names of what databases count of their own work. Where two of them count the same it has the same name.
const (
	Performed   = "statements in the database"
	Sent        = "rows from the database"
	ServerTime  = "time in the database"
	BlocksHit   = "pages found in its memory"
	BlocksRead  = "pages read in"
	Written     = "pages written"
	Temporary   = "temporary data"
	Logged      = "write-ahead log"
	RowsLooked  = "rows looked at"
	KeyReads    = "reads by key"
	NextReads   = "reads in order"
	ScanReads   = "reads in a scan"
	DiskTables  = "temporary tables on disk"
	Steps       = "steps of its machine"
	ScanSteps   = "steps of full scans"
	Sorts       = "sorts"
	AutoIndexes = "indexes made on the fly"
)

// Counts says what they are, in the order in which they are shown.
var Counts = []shots.Amount{
	count(Performed, "statements", "statements in the database a shot"),
	count(Sent, "rows", "rows from the database a shot"),
	{Name: ServerTime, Unit: units.Second, Row: "in the database", Per: shots.PerShot, Site: shots.Takes},
	count(RowsLooked, "rows", "rows looked at a shot"),
	count(KeyReads, "reads", "reads by key a shot"),
	count(NextReads, "reads", "reads in order a shot"),
	count(ScanReads, "reads", "reads in scans a shot"),
	count(Steps, "steps", "steps of its machine a shot"),
	count(ScanSteps, "steps", "steps of full scans a shot"),
	count(Sorts, "sorts", "sorts a shot"),
	count(AutoIndexes, "rows", "rows indexed on the fly a shot"),
	count(BlocksHit, "pages", "pages found in memory a shot"),
	count(BlocksRead, "pages", "pages read in a shot"),
	count(Written, "pages", "pages written a shot"),
	count(Temporary, units.Byte, "temporary data a shot"),
	count(DiskTables, "tables", "temporary tables on disk a shot"),
	count(Logged, units.Byte, "write-ahead log a shot"),
}

func count(name string, unit units.Unit, row string) shots.Amount {
	return shots.Amount{Name: name, Unit: unit, Row: row, Per: shots.PerShot, Site: shots.Uses}
}
