// Package shots says what a shot is: its times, its parts and amounts as its kind declares them, how it ended and what
// was seen of it.
//
// It is a leaf: drivers fill shots in, recorders and weigh-ins read them. Performing shots is left to package
// contender, adding them up to package tally.
package shots

import (
	"slices"
	"time"

	"paceduel/core/spans"
)

// Shot is one performed shot. Times are offsets on the run's clock.
type Shot struct {
	// Due, when not 0, is when the shot was to start; set by the caller. Its latency then counts from there.
	Due time.Duration
	// Start is just before a process is created, or before a request is handed to its connection.
	Start time.Duration
	// End is when the exit was seen, or the last byte of the body read.
	End time.Duration
	// Parts are what the latency is made of, by their places in the kind's shape; see Took.
	Parts [MaxParts]time.Duration
	// Amounts are what was counted, by their places in the kind's shape: nanoseconds, bytes, or whole ones; see Count.
	Amounts [MaxAmounts]int64
	took    uint16 // which parts there are
	counted uint16 // which amounts are not nothing
	// Trace is the identifier under which the service can find it in its traces; zero for none.
	Trace [16]byte
	// TraceNo and TraceStride are set of a shot that the service is asked to send spans of: its number among the client's,
	// and that from now on every so manieth is chosen, so that of those before only they belong to an even choice.
	TraceNo, TraceStride int64
	// Told are times that the contender told of itself; valid until the client's next shot.
	Told []Mark
	// Course is what was seen of a shot that took long, from its start on; valid until the client's next shot.
	Course []Moment
	// Within are the stretches of a shot that tells of them, for pictures: it is drawn as these. Valid until the client's
	// next shot.
	Within []Stretch
	// Inside is what happened within a shot that tells of it: times count from its start, without what is aside. Needs of
	// its spans are known where InsideKnown says so. Valid until the client's next shot.
	Inside      []spans.Span
	InsideKnown bool
	// Aside is time between Start and End that went into keeping the answer in view; no part of the latency.
	Aside time.Duration
	// Row is which of the contender's rows was asked, from 0.
	Row int
	// Sent and Received are bytes on the connection, or of standard input and of output that was read.
	Sent, Received int64
	// Measure, set by the caller of a shot that is not judged, asks for what costs too much otherwise: the most memory.
	Measure bool
	// Grain is by how much the most memory may be off, in bytes; 0: it is exact.
	Grain int64
	// Length is the bytes of the answer's body, as they came.
	Length int64
	// LeftBehind is how many processes outlived the shot and were ended.
	LeftBehind int

	Class Class
	// Err is the cause of a failure in its own words; nil when Class is OK.
	Err error
	// View, when set by the caller, is filled with what the contender answered.
	View *View
}

// Sorts are the sorts of shots where there are several, by their names, and which the shot for each row is of.
type Sorts struct {
	Names []string
	Of    []uint8 // by row
}

// Keep makes the shot the caller's own beyond the client's next one.
func (s *Shot) Keep() {
	s.Told, s.Course, s.Within = slices.Clone(s.Told), slices.Clone(s.Course), slices.Clone(s.Within)
	s.Inside = slices.Clone(s.Inside)
	for i := range s.Inside {
		s.Inside[i].Needs = slices.Clone(s.Inside[i].Needs)
	}
}

// Stretch is a part of the work of a shot: when it was done, and what the shot would have taken had all of it been like
// that part.
type Stretch struct{ At, Latency time.Duration }

// Moment is what a contender's processes held at a time, and what they had used up to then.
type Moment struct {
	At        time.Duration // by the run's clock
	Resident  int64         // bytes of memory
	Swapped   int64         // bytes
	Threads   int64
	Processes int64
	CPU       time.Duration
	Read      int64 // bytes that they asked to be read, wherever from
	Written   int64
}

// Took enters a part of the latency, by its place in the shape. A part that took no time is one all the same.
func (s *Shot) Took(part int, d time.Duration) {
	s.Parts[part] = d
	s.took |= 1 << part
}

// PartsTaken is a set of places: those of the parts that the shot has.
func (s *Shot) PartsTaken() uint16 { return s.took }

// Count adds to an amount, by its place in the shape.
func (s *Shot) Count(amount int, n int64) {
	s.Amounts[amount] += n
	if n != 0 {
		s.counted |= 1 << amount
	}
}

// AmountsCounted is a set of places: those of the amounts that are not nothing.
func (s *Shot) AmountsCounted() uint16 { return s.counted }

// Latency is the time from Start, or from Due where that is set, to End, without Aside.
func (s *Shot) Latency() time.Duration {
	if s.Due > 0 {
		return s.End - s.Due - s.Aside
	}
	return s.End - s.Start - s.Aside
}

// Class sorts the outcome of a shot.
type Class uint8

// The classes. All but OK and Cut are failures; Cut shots were ended by us and count nowhere.
const (
	OK Class = iota
	Cut
	NoStart // the program could not be started
	Refused // nobody listens
	Reset   // the connection broke
	Timeout // not done within its limit: at least that long
	TLS
	Status  // not the status that was expected
	Length  // more than the limit, or not as long as announced
	Exit    // not the exit code that was expected
	Signal  // ended by a signal
	Unequal // not the work that it did at the weigh-in
	Limits  // of ours: we may have no more descriptors, or no more processes
	Other
	Protocol  // whoever answers speaks another
	Access    // not let in: a wrong password, a name that is not known
	Statement // refused by a database
	Conflict  // given up by a database for another's sake: a deadlock, a lock
	Classes   // how many there are
)

var classNames = [Classes]string{
	"ok", "cut", "no start", "refused", "reset", "timeout", "tls", "status", "length", "exit code", "signal", "same-work",
	"own limits", "other", "protocol", "access", "statement", "conflict",
}

func (c Class) String() string { return classNames[c] }

// Failed reports whether the shot counts as a failure.
func (c Class) Failed() bool { return c > Cut }

// View is what a contender printed or answered in one shot, for people to read and for comparison. Bodies are cut at
// Limit, or at MaxViewBytes when that is 0.
type View struct {
	Limit  int  `json:"-"` // set by the caller
	Sample bool `json:"-"` // set by the caller: keep only what does not change what is measured
	// Notes are sentences for people, which nobody compares: which marks were not told, and why.
	Notes []string `json:"-"`
	Known bool     `json:"-"` // whether Body and Bytes are known; an output to nothing is not
	// what was done: the command or request, every variable filled in by name only
	Done     string   `json:"done"`
	Outcome  string   `json:"outcome"`           // "200 OK", "exit code 0"
	Headers  []string `json:"headers,omitempty"` // one "Name: value" a line, sorted
	Body     []byte   `json:"body,omitempty"`    // answer or standard output
	Bytes    int64    `json:"bytes"`             // its whole length
	Stderr   []byte   `json:"stderr,omitempty"`
	Type     string   `json:"type,omitempty"`     // content type as announced
	Encoding string   `json:"encoding,omitempty"` // content encoding as announced
	Version  string   `json:"version,omitempty"`  // of the contender, as it says itself, in one line
	Terminal bool     `json:"terminal,omitempty"` // whether the output went to a pseudo-terminal
	// QueryPlan is how a database carries it out, in its own form.
	QueryPlan string `json:"query_plan,omitempty"`
	// QueryShape is the same without what the database estimates.
	QueryShape string `json:"-"`
}

// MaxViewBytes bounds what a View keeps of a body unless it says otherwise.
const MaxViewBytes = 64 << 10

// Room is how many bytes of a body the view keeps.
func (v *View) Room() int {
	if v.Limit > 0 {
		return v.Limit
	}
	return MaxViewBytes
}
