package result

import "time"

// The streams of a bystander's waits: while the contender worked, and before it did.
const (
	BystanderStream = "bystander"
	QuietStream     = "quiet bystander"
)

// Bystander is what became of a heat's light probes. Their waits are splits by the names of the streams.
type Bystander struct {
	Does      string        `json:"does"`            // what is asked, in words
	Ticks     bool          `json:"ticks,omitempty"` // it asks nothing, but waits for lines that are due
	Every     time.Duration `json:"every_ns"`
	Within    time.Duration `json:"within_ns"` // who waits for longer is held up
	Quiet     Probes        `json:"quiet"`
	Meanwhile Probes        `json:"meanwhile"`
}

// Probes are the probes of a stretch, by when they were due.
type Probes struct {
	Span   time.Duration `json:"span_ns"`
	Due    int64         `json:"due"`
	OK     int64         `json:"ok"`
	Failed int64         `json:"failed,omitempty"`
	// Waiting had no answer when the heat had been over for a while.
	Waiting  int64         `json:"unanswered,omitempty"`
	Longest  time.Duration `json:"longest_wait_ns"`
	HeldUp   time.Duration `json:"held_up_ns"` // in which somebody waited who was held up
	Silences [][2]int64    `json:"silences,omitempty"`
	// Dots are an even choice of the waits: when each was due, from the beginning of the stretch, and what it waited.
	Dots [][2]int64 `json:"dots,omitempty"`
}
