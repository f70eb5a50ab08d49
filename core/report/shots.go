package report

import (
	"encoding/csv"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/tally"
	"paceduel/core/units"
)

// shotColumns name the columns that every run has. Times are in nanoseconds: moments since the start of the run. Those
// of parts and amounts follow them.
var shotColumns = []string{
	"round", "contender", "state", "class", "due_ns", "start_ns", "end_ns", "latency_ns",
	"row", "sent_bytes", "received_bytes", "body_bytes", "trace", "sampled",
}

// ShotWriter writes shots one by one as CSV (RFC 4180), a line of column names first. docs/result.md explains them.
type ShotWriter struct {
	out     *csv.Writer
	parts   []string
	amounts []string
}

// NewShotWriter begins with the names of the columns, for shots that have parts and amounts of these names.
func NewShotWriter(w io.Writer, parts []string, amounts []shots.Amount) (*ShotWriter, error) {
	s := &ShotWriter{out: csv.NewWriter(w), parts: parts}
	columns := slices.Clone(shotColumns)
	for _, name := range parts {
		columns = append(columns, "part_"+column(name)+"_ns")
	}
	for i := range amounts {
		name := "amount_" + column(amounts[i].Name)
		switch amounts[i].Unit {
		case units.Second:
			name += "_ns"
		case units.Byte:
			name += "_bytes"
		}
		s.amounts, columns = append(s.amounts, amounts[i].Name), append(columns, name)
	}
	if err := s.out.Write(columns); err != nil {
		return nil, fmt.Errorf("write shots: %w", err)
	}
	return s, nil
}

// column is a name as a part of a column's.
func column(name string) string { return strings.NewReplacer(" ", "_", "-", "_").Replace(name) }

// Write writes the shots of a heat, which have a shape; sampled says that they are a choice of its shots. Everything is
// written when it returns.
func (s *ShotWriter) Write(h *result.Heat, shape *shots.Shape, list []tally.Raw, sampled bool) error {
	number := func(n int64) string { return strconv.FormatInt(n, 10) }
	var record []string
	for i := range list {
		r := &list[i]
		trace, due := "", ""
		if r.Trace != [16]byte{} {
			trace = hex.EncodeToString(r.Trace[:])
		}
		if r.Due > 0 {
			due = number(int64(r.Due))
		}
		record = append(record[:0], number(int64(h.Round)), h.Contender, h.State, r.Class.String(),
			due, number(int64(r.Start)), number(int64(r.End)), number(int64(r.Latency)),
			number(int64(r.Row)), number(r.Sent), number(r.Received), number(r.Length), trace, strconv.FormatBool(sampled))
		for _, name := range s.parts {
			record = append(record, briefly(shape.Part(name), r.Parts[:]))
		}
		for _, name := range s.amounts {
			record = append(record, briefly(shape.Amount(name), r.Amounts[:]))
		}
		if err := s.out.Write(record); err != nil {
			return fmt.Errorf("write shots of %s in round %d: %w", h.Contender, h.Round, err)
		}
	}
	s.out.Flush()
	if err := s.out.Error(); err != nil {
		return fmt.Errorf("write shots of %s in round %d: %w", h.Contender, h.Round, err)
	}
	return nil
}

// briefly writes the value in a place; nothing where the shape has no such place.
func briefly(at int, values []tally.Brief) string {
	if at < 0 {
		return ""
	}
	return strconv.FormatInt(int64(values[at]), 10)
}
