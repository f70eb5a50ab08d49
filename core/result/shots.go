package result

import (
	"encoding/csv"
	"encoding/hex"
	"fmt"
	"io"
	"strconv"

	"paceduel/core/tally"
)

// ShotColumns name the columns of ShotWriter, which docs/result.md explains. Times are in nanoseconds: moments since the
// start of the run, parts as lengths of time.
var ShotColumns = []string{
	"round", "contender", "state", "class", "due_ns", "start_ns", "end_ns", "latency_ns", "look_up_ns", "connect_ns", "tls_ns", "asked_ns", "first_byte_ns",
	"row", "sent_bytes", "received_bytes", "body_bytes", "redirects", "trace", "sampled",
}

// ShotWriter writes shots one by one as CSV (RFC 4180), a line of column names first.
type ShotWriter struct{ out *csv.Writer }

// NewShotWriter begins with the names of the columns.
func NewShotWriter(w io.Writer) (*ShotWriter, error) {
	s := &ShotWriter{csv.NewWriter(w)}
	if err := s.out.Write(ShotColumns); err != nil {
		return nil, fmt.Errorf("write shots: %w", err)
	}
	return s, nil
}

// Write writes the shots of a heat; sampled says that they are a choice of its shots. Everything is written when it
// returns.
func (s *ShotWriter) Write(h *Heat, shots []tally.Raw, sampled bool) error {
	number := func(n int64) string { return strconv.FormatInt(n, 10) }
	record := make([]string, len(ShotColumns))
	for i := range shots {
		r := &shots[i]
		trace := ""
		if r.Trace != [16]byte{} {
			trace = hex.EncodeToString(r.Trace[:])
		}
		due := ""
		if r.Due > 0 {
			due = number(int64(r.Due))
		}
		record = append(record[:0], number(int64(h.Round)), h.Contender, h.State, r.Class.String(), due, number(int64(r.Start)), number(int64(r.End)), number(int64(r.Latency)),
			number(int64(r.Lookup.D())), number(int64(r.Connect.D())), number(int64(r.TLS.D())), number(int64(r.Asked.D())), number(int64(r.FirstByte.D())),
			number(int64(r.Row)), number(r.Sent), number(r.Received), number(r.Length), number(int64(r.Redirects)), trace, strconv.FormatBool(sampled))
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
