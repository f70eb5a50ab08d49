// Package result is the document of a run: all that was measured and under which conditions, in versioned JSON.
// docs/result.md is its reference.
//
// It promises that every figure can be computed again from the document alone, that it holds no value taken from the
// environment, and that a document of any earlier version can be read. What the figures mean is left to package judge.
package result

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/files"
	"paceduel/core/mask"
	"paceduel/core/shots"
	"paceduel/core/units"
)

// Version is the version of the document that this program writes.
const Version = 2

// Result is a run. It is written by package rounds and treated as read-only by everybody else.
type Result struct {
	Version  int           `json:"paceduel_result"`     // of this format
	Program  string        `json:"program" text:"ours"` // our version
	ID       string        `json:"id" text:"ours"`
	Plan     Plan          `json:"plan"`
	Seed     uint64        `json:"seed"`
	Started  time.Time     `json:"started"`
	Ended    time.Time     `json:"ended,omitzero"` // zero while it runs, or when it was cut off
	Ending   Ending        `json:"ending" text:"ours"`
	Reason   string        `json:"reason,omitempty"`    // why a run failed, in words
	Paused   time.Duration `json:"paused_ns,omitempty"` // between heats, on request
	Host     Host          `json:"host"`
	Entrants []Entrant     `json:"contenders"` // in the order of the plan
	Weighing *Weighing     `json:"same_work,omitempty"`
	Sweep    *Sweep        `json:"sweep,omitempty"` // over which values; the rest is then that of its first point
	// Sittings are those in which a sweep was gone on with later.
	Sittings []Sitting     `json:"sittings,omitempty"`
	Order    [][]cell.Cell `json:"order"` // the cells of each planned round, in their running order
	// Parts are what latencies are made of, in the order in which they follow one another, and Amounts what shots are
	// counted by, as the contenders' kinds declare them.
	Parts   []string       `json:"parts,omitempty" text:"ours"`
	Amounts []shots.Amount `json:"amounts,omitempty" text:"ours"`
	// Brings are the figures that contenders of the run's kinds may have besides, which claims may name.
	Brings  []figure.Name `json:"brings,omitempty" text:"ours"`
	Heats   []Heat        `json:"heats"` // in the order in which they were run
	Floor   []Floor       `json:"floor,omitempty"`
	Crashes []Crash       `json:"crashes,omitempty"` // in the order in which they were made
	Footing Footing       `json:"footing,omitzero"`
	Load    *Load         `json:"load,omitempty"` // who drove it from elsewhere; nil: whoever ran it
}

// Ending says how a run came to its end.
type Ending string

// The endings. A run that is neither of the others was killed: what had ended is there.
const (
	Running     Ending = "running"
	Done        Ending = "done"
	Interrupted Ending = "interrupted"
	CutOff      Ending = "cut off"
	Failed      Ending = "failed"
)

// Plan is the plan of the run as written, with what was laid over it, and what came of it.
type Plan struct {
	Name     string `json:"name" text:"name"`
	Question string `json:"question,omitempty"`
	Baseline string `json:"baseline" text:"name"`
	File     string `json:"file"`
	Source   string `json:"source"`             // before variables were filled in
	SHA256   string `json:"sha256" text:"ours"` // of source
	// Files are those that the plan names, as they were when it was run.
	Files  []files.Sum `json:"files,omitempty"`
	Sets   []string    `json:"sets,omitempty"`
	Vars   []string    `json:"variables,omitempty"` // names only
	Rounds int         `json:"rounds"`              // that were to be run in the end
	Until  *Until      `json:"until,omitempty"`
	// Short says that there was no time for all rounds; nil: there was.
	Short *Short `json:"cut_short,omitempty"`
	// rounds after which it was looked at, to end early
	Looks     []int                         `json:"looks,omitempty"`
	Interest  float64                       `json:"interest"`            // a fraction
	Interests map[figure.Name]float64       `json:"interests,omitempty"` // of single figures
	Rungs     []figure.Name                 `json:"rungs,omitempty"`     // that carry the verdict; none: those of the pace
	Stakes    *Stakes                       `json:"stakes,omitempty"`
	Decides   figure.Name                   `json:"decides,omitempty"`
	Claims    []string                      `json:"claims,omitempty"`
	Marks     []figure.Name                 `json:"marks,omitempty"`     // that contenders tell of themselves
	Sums      map[figure.Name][]figure.Name `json:"mark_sums,omitempty"` // the marks that some of them are the sum of
	Pace      Pace                          `json:"pace"`
}

// Until is what ended a run that went on until a figure was known well enough.
type Until struct {
	Figure figure.Name `json:"figure"`
	Within float64     `json:"within"`
	Least  int         `json:"least_rounds"`
	Most   int         `json:"most_rounds"`
}

// Pace is how the contenders were driven.
type Pace struct {
	Repeat      int           `json:"repeat,omitempty"`
	Clients     int           `json:"clients,omitempty"`
	Rate        float64       `json:"rate,omitempty"` // shots a second
	Spread      string        `json:"spread,omitempty" text:"ours"`
	Most        int           `json:"most,omitempty"` // under way at once, at a rate
	For         time.Duration `json:"for_ns,omitempty"`
	Shots       int           `json:"shots,omitempty"`
	Think       time.Duration `json:"think_ns,omitempty"`
	Stagger     time.Duration `json:"stagger_ns,omitempty"`
	Climb       *Climb        `json:"climb,omitempty"`
	WarmupFor   time.Duration `json:"warmup_for_ns,omitempty"`
	WarmupShots int           `json:"warmup_shots,omitempty"`
	Rush        bool          `json:"rush,omitempty"`    // whether shots came from the creation of services on
	Wake        time.Duration `json:"wake_ns,omitempty"` // the silence before one more shot
	Words       string        `json:"words" text:"ours"` // the same for people
}

// Climb is how the load rose within each heat, and what a level had to keep to be held.
type Climb struct {
	Levels []float64     `json:"levels"` // shots a second, or clients
	Open   bool          `json:"open"`   // whether they are rates
	Under  time.Duration `json:"under_ns"`
	At     figure.Name   `json:"at"`
}

// Sequential reports whether shots followed one another.
func (p Pace) Sequential() bool { return p.Repeat > 0 }

// Open reports whether shots were due at a rate.
func (p Pace) Open() bool { return p.Rate > 0 }

// Short is a run that had a time to keep within, for which some of its rounds were left out.
type Short struct {
	Planned int           `json:"planned_rounds"`
	Within  time.Duration `json:"within_ns"`
}

// Build is what was built from a commit.
type Build struct {
	Revision string        `json:"revision"` // as it was named
	Commit   string        `json:"commit"`
	Subject  string        `json:"subject,omitempty"` // the first line of its message
	Line     string        `json:"build,omitempty"`
	Took     time.Duration `json:"took_ns,omitempty"` // the build line, when it was made
	Cached   bool          `json:"cached,omitempty"`  // it had been made before
	Dirty    bool          `json:"dirty,omitempty"`   // the worktree had changes besides, which are not in it
}

// Words say it: "commit 1a2b3c4d5, from HEAD~1, built in 3.1 s".
func (b *Build) Words() string {
	text := "commit " + b.Short()
	if !strings.HasPrefix(b.Commit, b.Revision) {
		text += ", from " + b.Revision
	}
	switch {
	case b.Line == "":
	case b.Cached:
		text += ", built before in " + units.Duration(b.Took)
	default:
		text += ", built in " + units.Duration(b.Took)
	}
	return text
}

// Short is what people call the commit by.
func (b *Build) Short() string { return b.Commit[:min(len(b.Commit), 9)] }

// Entrant is a contender and its first touch.
type Entrant struct {
	Name  string `json:"name" text:"name"`
	Note  string `json:"note,omitempty"`
	Avoid string `json:"avoid,omitempty"`
	Kind  string `json:"kind" text:"ours"`
	// OneProcess says that one process did all of its shots, or served them.
	OneProcess bool   `json:"one_process,omitempty"`
	Does       string `json:"does"` // the command or request
	// From is the commit that its program was built from; nil for what was there.
	From *Build `json:"from,omitempty"`
	// Version is what the contender says of itself, empty when it was not asked.
	Version string `json:"version,omitempty"`
	Touch   *Touch `json:"first_touch,omitempty"`
	Mirror  bool   `json:"mirror,omitempty"` // the baseline's twin
	// LeftOut is the round from which it had no part any more; 0: it had to the end.
	LeftOut int `json:"left_out_from_round,omitempty"`
	// Marks are those that the plan reads from its own output or answers.
	Marks []figure.Name `json:"marks,omitempty"`
	// OwnProcess says that each of its shots is a process of its own.
	OwnProcess bool `json:"own_process,omitempty"`
	// Streams are what its shots tell times of that have percentiles of their own, and Floors what the way in which some
	// of them are seen may add to them.
	Streams []string                 `json:"streams,omitempty"`
	Floors  map[string]time.Duration `json:"floors_ns,omitempty"`
	// Again is a touch in the second state, where contenders are run in more than one.
	Again *Touch `json:"second_touch,omitempty"`
}

// Touch is the one shot before timing.
type Touch struct {
	Class    string        `json:"class" text:"ours"`
	Outcome  string        `json:"outcome,omitempty"` // "200 OK", "exit code 0"
	Latency  time.Duration `json:"latency_ns"`
	State    string        `json:"state,omitempty" text:"ours"` // of caches
	Bytes    int64         `json:"bytes"`                       // of answer or output
	Encoding string        `json:"encoding,omitempty"`          // that the answer came in: gzip
	Decoded  int64         `json:"decoded_bytes,omitempty"`     // of an answer that came encoded
	Received int64         `json:"received"`                    // on the wire, heads included
	Type     string        `json:"type,omitempty"`
	Headers  []string      `json:"headers,omitempty"`
	Body     string        `json:"body,omitempty"` // its head
	Stderr   string        `json:"stderr,omitempty"`
	Version  string        `json:"-"`                           // kept with the contender
	Peak     int64         `json:"peak_memory_bytes,omitempty"` // the most that its processes held at once
	Terminal bool          `json:"terminal,omitempty"`          // whether its output went to a pseudo-terminal
	Notes    []string      `json:"notes,omitempty"`             // what is odd about an answer that passed
	Told     []StartMark   `json:"told,omitempty"`              // what it told of itself
	Parts    []Part        `json:"parts,omitempty"`             // what a JSON answer is made of, the heaviest first
	Heads    []Part        `json:"header_parts,omitempty"`      // its headers by name, the heaviest first
	Steady   bool          `json:"steady,omitempty"`            // whether it answered the same bytes twice
	// QueryPlan is how a database carries it out, in its own form; QueryShape is the same, line by line, without what it
	// estimates.
	QueryPlan  string   `json:"query_plan,omitempty"`
	QueryShape string   `json:"query_shape,omitempty"`
	Costs      []Cost   `json:"footing,omitempty"` // what was done for it
	Changes    *Changes `json:"changes,omitempty"` // in the workspace
	Err        string   `json:"error,omitempty"`
	Try        string   `json:"try,omitempty"` // what might help
}

// Part is a part of an answer by its path, with lists folded: "berths[].vessel". The empty path is the whole's own
// punctuation.
type Part struct {
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"` // its name and punctuation included
	Count int64  `json:"count"` // how often it stands there
}

// Weighing is what the comparison of the first answers found.
type Weighing struct {
	Ruled    bool    `json:"ruled"`              // whether the plan has rules; without, differences are only told
	Accepted bool    `json:"accepted,omitempty"` // whether unequal work was accepted in so many words
	Checks   []Check `json:"checks"`
}

// Unequal lists the contenders that do not do the same work as the baseline.
func (w *Weighing) Unequal() (names []string) {
	if w == nil {
		return nil
	}
	for _, c := range w.Checks {
		if !c.Same && !slices.Contains(names, c.Contender) {
			names = append(names, c.Contender)
		}
	}
	return names
}

// Compared reports whether anybody's answer was held to the baseline's: that takes two that passed.
func (w *Weighing) Compared(baseline string) bool {
	return w != nil && slices.ContainsFunc(w.Checks, func(c Check) bool { return c.Contender != baseline })
}

// First puts the first breach of a rule into words; empty when there is none.
func (w *Weighing) First() string {
	if w == nil {
		return ""
	}
	for _, c := range w.Checks {
		switch {
		case c.Same:
		case len(c.Differences) == 0:
			return "not " + c.Rule
		default:
			return fmt.Sprintf("not %s: %s", c.Rule, c.Differences[0].Words())
		}
	}
	return ""
}

// Words say what a contender has in place of what the baseline has: "status is 500, not 200".
func (d Difference) Words() string {
	own, base := []rune(units.Printable(d.Contender)), []rune(units.Printable(d.Baseline))
	at := 0
	for at < len(own) && at < len(base) && own[at] == base[at] {
		at++
	}
	return units.Printable(d.Where) + " is " + short(own, at) + notAs(short(base, at))
}

// Whole is Words of all that is kept of both.
func (d Difference) Whole() string {
	return units.Printable(d.Where) + ": " + units.Printable(d.Contender) + notAs(units.Printable(d.Baseline))
}

// notAs sets what the baseline has apart from what stands before it.
func notAs(baseline string) string {
	if baseline == "missing" || strings.HasPrefix(baseline, "not ") {
		return "; " + baseline + " with the baseline"
	}
	return ", not " + baseline
}

// short is a value in little room: its head, or what is about the place at which it differs where that is not in it.
func short(value []rune, at int) string {
	const longest, before = 32, 8
	head := ""
	if at >= longest-1 && len(value) > longest {
		value, head = value[min(at, len(value))-before:], "…"
	}
	if len(value) > longest {
		return head + string(value[:longest-1]) + "…"
	}
	return head + string(value)
}

// Check is one rule, held to one contender.
type Check struct {
	Contender   string       `json:"contender" text:"name"`
	State       string       `json:"state,omitempty" text:"ours"` // of caches when it answered
	Rule        string       `json:"rule"`                        // in words
	Same        bool         `json:"same"`
	Differences []Difference `json:"differences,omitempty"` // the first ones
}

// Difference is one place in which two answers differ.
type Difference struct {
	Where     string `json:"where"` // a JSON Pointer, "line 7", "status"
	Baseline  string `json:"baseline"`
	Contender string `json:"contender"`
}

// Heat is one timed block. Times are nanoseconds; At and Dots count from the start of the run.
type Heat struct {
	Round int `json:"round"` // from 1
	cell.Cell
	Stopped string `json:"stopped,omitempty"` // why it was stopped, in words: kept, not judged
	Costs   []Cost `json:"footing,omitempty"` // what was done for it, untimed
	// of the pages that were to be cold, still in memory at worst
	ColdLeft float64 `json:"cold_left_frac,omitempty"`
	// of the pages that were to be warm, not in memory at worst
	WarmLacks float64          `json:"warm_lacks_frac,omitempty"`
	Unfilled  []string         `json:"unfilled,omitempty"` // own caches that were empty before a warm run
	Changes   *Changes         `json:"changes,omitempty"`  // in the workspace after it
	At        time.Duration    `json:"at_ns"`
	Wall      time.Duration    `json:"wall_ns"` // of the judged part
	Clients   int              `json:"clients"`
	Cut       bool             `json:"cut,omitempty"` // ended by an interrupt: kept, not judged
	OK        int64            `json:"ok"`            // shots that succeeded
	Failures  map[string]int64 `json:"failures,omitempty" text:"ours"`
	Due       int64            `json:"due_shots,omitempty"` // at a set rate: shots that were due
	// of these, those that were not sent before the heat was over
	Unsent int64 `json:"unsent_shots,omitempty"`
	// from when a shot was due to its start, at most 12.5 % too high
	LagP50  time.Duration `json:"lag_p50_ns,omitempty"`
	LagP99  time.Duration `json:"lag_p99_ns,omitempty"`
	LagMax  time.Duration `json:"lag_max_ns,omitempty"`
	Late    int64         `json:"late_shots,omitempty"` // started more than 1 ms after they were due
	Sampled int64         `json:"sampled,omitempty"`    // shots whose answers were held to the weigh-in's
	Causes  []string      `json:"causes,omitempty"`     // the first failures in their own words
	// Latencies are those of the successful shots: an HDR histogram, V2 compressed, base64. Its values are nanoseconds
	// unless PerSecond says otherwise.
	Latencies  string        `json:"latencies" text:"ours"`
	PerSecond  float64       `json:"latencies_per_s,omitempty"`
	LatencySum time.Duration `json:"latency_sum_ns"` // of the same, exact
	Busy       time.Duration `json:"busy_ns"`        // start to end of its last shot, summed over clients
	// Amounts are those that are known of the heat's shots, by their names: added up, or the most, as they are declared.
	// The most memory is of a shot that was not judged.
	Amounts map[string]int64 `json:"amounts,omitempty"`
	// Account is what the contender itself counted of all shots of the heat, warm-up included, which are AccountShots.
	Account      map[string]int64 `json:"account,omitempty"`
	AccountShots int64            `json:"account_shots,omitempty"`
	// QueryPlan is how a database would carry it out after the heat, where that is another way than at the weigh-in.
	QueryPlan string `json:"query_plan_changed,omitempty"`
	// by how much that may be off, since the memory had been given back before it could be read; 0: exact
	PeakGrain int64   `json:"peak_memory_grain_bytes,omitempty"`
	Starts    []Start `json:"starts,omitempty"` // of its contender's service
	// latency of the heat's first shot, warm-up included, where it succeeded
	First      time.Duration `json:"first_shot_ns,omitempty"`
	Wake       time.Duration `json:"wake_ns,omitempty"`                 // that of the shot after a silence
	WakeFailed string        `json:"wake_failed,omitempty" text:"ours"` // why that shot failed, by class
	// what the contender's service held and used; nil without one that lasts for the heat
	Service    *Service   `json:"service,omitempty"`
	Sent       int64      `json:"sent_bytes"`
	Received   int64      `json:"received_bytes"`
	Warmup     int64      `json:"warmup_shots"`          // performed before, not judged
	LeftBehind int64      `json:"left_behind,omitempty"` // processes that outlived their run and were ended
	Steps      []Step     `json:"steps,omitempty"`       // of a climb, one for each of the pace's levels
	Splits     []Split    `json:"splits,omitempty"`      // what latencies are made of
	Traced     *Traced    `json:"traced,omitempty"`      // what was sent of sampled shots, where a service sends spans
	Inside     *Inside    `json:"inside,omitempty"`      // what happened in its shots, where that is known
	Buckets    []Bucket   `json:"buckets,omitempty"`     // the time line, one for each 100 ms from at_ns on
	Sorts      []Sort     `json:"sorts,omitempty"`       // of its shots, where rows name them
	Bystander  *Bystander `json:"bystander,omitempty"`   // who waited meanwhile; nil where nobody asked
	Backlog    *Backlog   `json:"backlog,omitempty"`     // of shots that wait for long at a set rate
	Course     []Moment   `json:"course,omitempty"`      // of runs that lasted over a second: what they held and used
	Conditions Conditions `json:"conditions"`
	Shares     []Share    `json:"agents,omitempty"` // what each of those who drove it from elsewhere did
	// an even choice of its shots, for pictures; no figure is computed from them
	Dots []Dot `json:"dots" text:"ours"`
}

// Sort is how many shots of a sort there were, whose latencies are a split by its name.
type Sort struct {
	Name   string `json:"name"`
	OK     int64  `json:"ok"`
	Failed int64  `json:"failed,omitempty"`
}

// Service is what the process tree of a contender's service used during the judged part of a heat, and held over all of
// it.
type Service struct {
	// user and system; of processes that have ended in hundredths of a second
	CPU  time.Duration `json:"cpu_ns"`
	Peak int64         `json:"peak_memory_bytes"` // resident
	// told by the kernel; else the highest of the moments
	Exact    bool `json:"peak_exact"`
	CPUExact bool `json:"cpu_exact,omitempty"` // from a control group, to the nanosecond
	// Share is that of all processors that it used from the beginning of the warm-up on, as conditions are told; 0 in
	// results of before that was kept.
	Share  float64 `json:"machine_frac,omitempty"`
	Limits string  `json:"limits,omitempty"` // that it was held to, in words
	// processes of it that the kernel ended for wanting more
	Killed       int64 `json:"killed_for_memory,omitempty"`
	Proportional int64 `json:"proportional_memory_bytes,omitempty"` // at the end, what is shared being divided
	// about 20 a second, an even choice of them in long heats
	Moments []Moment `json:"moments"`
}

// Start is one start of a service. Times count from the creation of its process; 0 is not known.
type Start struct {
	At       time.Duration `json:"at_ns"`                // when the process was created, since the start of the run
	Prepared time.Duration `json:"prepare_ns,omitempty"` // that the steps before it took, no part of the times
	Output   time.Duration `json:"first_output_ns,omitempty"`
	Ready    time.Duration `json:"ready_ns,omitempty"`
	Asked    time.Duration `json:"asked_ns,omitempty"` // when the first shot that was answered began
	First    time.Duration `json:"first_answer_ns,omitempty"`
	Second   time.Duration `json:"second_answer_ns,omitempty"`
	// end of the first shot from which on latencies are like those of the judged part
	Settled    time.Duration `json:"settled_ns,omitempty"`
	FirstTook  time.Duration `json:"first_answer_took_ns,omitempty"` // its latency
	SecondTook time.Duration `json:"second_answer_took_ns,omitempty"`
	Shot       int64         `json:"settled_at_shot,omitempty"` // which one, from 1
	Unjudged   bool          `json:"unjudged,omitempty"`        // whether it was for a shot of the warm-up
	Marks      []StartMark   `json:"marks,omitempty"`           // that the service printed
	Rush       *Rush         `json:"rush,omitempty"`
}

// Idle is how long the service was ready before anybody asked it: time of ours, which is no part of what it takes to
// answer. While shots come from its creation on there is none.
func (s *Start) Idle() time.Duration {
	if s.Rush != nil || s.Asked == 0 {
		return 0
	}
	return max(s.Asked-s.Ready, 0)
}

// ToldFigures are what was told at the weigh-in, as figures with their units.
func (t *Touch) ToldFigures() iter.Seq2[figure.Name, units.Unit] {
	return func(yield func(figure.Name, units.Unit) bool) {
		for i := range t.Told {
			if m := &t.Told[i]; !yield(m.Figure(), m.Unit) {
				return
			}
		}
	}
}

// ByStretch reports whether the heat's dots are stretches of its shots: each stands where the shot would, had all of it
// been like that stretch.
func (h *Heat) ByStretch() bool { return int64(len(h.Dots)) > h.Shots() }

// Told are what was told in the heat, as figures with their units.
func (h *Heat) Told() iter.Seq2[figure.Name, units.Unit] {
	return func(yield func(figure.Name, units.Unit) bool) {
		for i := range h.Splits {
			if s := &h.Splits[i]; s.Told && !yield(s.Figure(), s.Unit) {
				return
			}
		}
	}
}

// StartMark is an amount that a service printed while it started.
type StartMark struct {
	Name  string     `json:"name"`
	Unit  units.Unit `json:"unit"`
	Value float64    `json:"value"` // in that unit
}

// Figure is the mark's figure.
func (m *StartMark) Figure() figure.Name { return figure.Told(m.Name, m.Unit) }

// Lacks reports whether a mark was not told, and a note says so. The receiver may be nil.
func (t *Touch) Lacks(mark string) bool {
	return t != nil && slices.ContainsFunc(t.Notes, func(note string) bool {
		return strings.HasPrefix(note, "mark "+mark+" is not told")
	})
}

// Telling lists what a contender told of itself at the weigh-in, for people; empty where that is nothing.
func (t *Touch) Telling() string {
	var list []string
	for i := range t.Told {
		list = append(list, t.Told[i].Name+" "+t.Told[i].Figure().Show(t.Told[i].Value))
	}
	return strings.Join(list, ", ")
}

// Rush is what became of the shots that were due before the service was ready.
type Rush struct {
	Due     int64         `json:"due"`
	Failed  int64         `json:"failed,omitempty"`
	Waited  int64         `json:"waited,omitempty"` // answered, after it was ready
	Longest time.Duration `json:"longest_ns,omitempty"`
}

// Moment is what a service held at a time since the start of the run.
type Moment struct {
	At        time.Duration `json:"t"`
	Resident  int64         `json:"rss"`
	Swapped   int64         `json:"swap,omitempty"`
	Threads   int64         `json:"threads"`
	Processes int64         `json:"processes"`
	// What it had used up to then, since its processes were created; bytes as they asked for them, wherever from.
	CPU     time.Duration `json:"cpu,omitempty"`
	Read    int64         `json:"read,omitempty"`
	Written int64         `json:"written,omitempty"`
}

// Rest is what it held before its first shot of the heat, After what it held at the end; false without moments.
func (s *Service) Rest() (rest, after int64, ok bool) {
	if s == nil || len(s.Moments) == 0 {
		return 0, 0, false
	}
	return s.Moments[0].Resident, s.Moments[len(s.Moments)-1].Resident, true
}

// Grown is by how much the resident memory of its service grew from the middle of its moments to the last of the judged
// part, in bytes: what is filled once at the beginning is not counted. ok is false with too few moments to say.
func (h *Heat) Grown() (n int64, ok bool) {
	const fewest = 5
	if h.Service == nil {
		return 0, false
	}
	m := h.Service.Moments
	for h.Wake > 0 && len(m) > 0 && m[len(m)-1].At > h.At+h.Wall { // what came after the load
		m = m[:len(m)-1]
	}
	if len(m) < fewest {
		return 0, false
	}
	return m[len(m)-1].Resident - m[len(m)/2].Resident, true
}

// Floor is what driving costs at least: shots of the cheapest contender of a kind, before the first heat.
type Floor struct {
	Kind       string        `json:"kind" text:"ours"`
	Shots      int64         `json:"shots"`
	Failed     int64         `json:"failed,omitempty"`
	Wall       time.Duration `json:"wall_ns"`
	Latencies  string        `json:"latencies" text:"ours"` // a histogram as in heats
	Conditions Conditions    `json:"conditions"`
}

// Histogram decodes the latencies of a floor.
func (f *Floor) Histogram() (*Distribution, error) {
	return distribution(f.Latencies, 0, "latencies of the floor")
}

// Split is a part of the successful shots' latencies, or an amount that the contender told of itself. Parts follow one
// another and add up to latencies; what is told stands for itself.
type Split struct {
	Name string `json:"name"`
	Told bool   `json:"told,omitempty"`
	More bool   `json:"more_is_better,omitempty"`
	// Stream says that its values are latencies of a stream of its own beside those of shots: one sort of requests, a
	// bystander's probes, an effect.
	Stream bool `json:"stream,omitempty"`
	Step   bool `json:"of_step,omitempty"`       // of a step inside: told of the shots that were looked into
	Rate   bool `json:"by_the_second,omitempty"` // judged by how much of it is done a second
	// Unit is that of its values; seconds unless said. They are recorded as so many times PerUnit: a thousand million for
	// times, 1 for bytes, a thousand for what is counted.
	Unit    units.Unit `json:"unit,omitempty"`
	PerUnit float64    `json:"per_unit,omitempty"`
	Sum     int64      `json:"sum"`                 // exact
	Lengths string     `json:"lengths" text:"ours"` // a histogram as in latencies
}

// Figure is the split's figure.
func (s *Split) Figure() figure.Name {
	switch {
	case s.Rate:
		return figure.RateOf(s.Name, s.Unit)
	case s.Told && s.More:
		return figure.ToldMore(s.Name, s.Unit)
	case s.Told:
		return figure.Told(s.Name, s.Unit)
	}
	return figure.Part(s.Name)
}

// Total is the sum in the split's unit.
func (s *Split) Total() float64 { return float64(s.Sum) / perUnit(s.PerUnit) }

// Histogram decodes the lengths of a split.
func (s *Split) Histogram() (*Distribution, error) {
	return distribution(s.Lengths, s.PerUnit, "lengths of split %s", s.Name)
}

// perUnit is how many steps of a recording make one of a unit; nanoseconds unless said.
func perUnit(said float64) float64 {
	if said == 0 {
		return 1e9
	}
	return said
}

// Step is what was recorded of one level of a climb, by when shots were due.
type Step struct {
	OK        int64  `json:"ok"`
	Failed    int64  `json:"failed,omitempty"`
	Unsent    int64  `json:"unsent,omitempty"`
	Latencies string `json:"latencies" text:"ours"` // of the successful ones, a histogram as in those of the heat
}

// Histogram decodes the latencies of a step.
func (s *Step) Histogram() (*Distribution, error) {
	return distribution(s.Latencies, 0, "latencies of a step")
}

// Bucket is what ended within 100 ms: how many shots, how many of them failed, and of the others the latencies' sum and
// the longest, in nanoseconds.
type Bucket [4]int64

// Dot is one shot in a picture.
type Dot struct {
	At      time.Duration `json:"t"` // nanoseconds since the start of the run
	Latency time.Duration `json:"l"`
	Class   string        `json:"c,omitempty" text:"ours"` // empty: ok
}

// Failed is how many shots failed.
func (h *Heat) Failed() (n int64) {
	for _, f := range h.Failures {
		n += f
	}
	return n
}

// FailuresSay says how many shots failed and of what, the most frequent first: "3 failed: timeout", "5 failed: 3
// status, 2 timeout"; "0 failed" where none did.
func FailuresSay(failures map[string]int64) string {
	var all int64
	for _, n := range failures {
		all += n
	}
	text := units.Count(all) + " failed"
	var of []string
	for _, class := range FailureClasses(failures) {
		one := class
		if len(failures) > 1 {
			one = units.Count(failures[class]) + " " + class
		}
		of = append(of, one)
	}
	if len(of) == 0 {
		return text
	}
	return text + ": " + strings.Join(of, ", ")
}

// FailureClasses lists the classes of failures, the most frequent first.
func FailureClasses(failures map[string]int64) []string {
	classes := slices.Sorted(maps.Keys(failures))
	slices.SortStableFunc(classes, func(a, b string) int { return cmp.Compare(failures[b], failures[a]) })
	return classes
}

// Shots is how many there were.
func (h *Heat) Shots() int64 { return h.OK + h.Failed() }

// Histogram decodes the latencies.
func (h *Heat) Histogram() (*Distribution, error) {
	if h.Latencies == "" {
		return &Distribution{}, nil
	}
	out, err := distribution(h.Latencies, h.PerSecond, "latencies of %s in round %d", h.Contender, h.Round)
	if err != nil {
		return nil, err
	}
	if out.Total != h.OK {
		return nil, fmt.Errorf(
			"latencies of %s in round %d: the histogram holds %d shots, the heat %d", h.Contender, h.Round, out.Total, h.OK,
		)
	}
	return out, nil
}

// EncodeHistogram is the text form of h.
func EncodeHistogram(h *hdrhistogram.Histogram) (string, error) {
	data, err := h.Encode(hdrhistogram.V2CompressedEncodingCookieBase)
	if err != nil {
		return "", fmt.Errorf("encode latencies: %w", err)
	}
	return string(data), nil
}

// Mean is the exact mean latency of the successful shots; NaN without any.
func (h *Heat) Mean() float64 {
	if h.OK == 0 {
		return math.NaN()
	}
	return h.LatencySum.Seconds() / float64(h.OK)
}

// Throughput is successful shots a second: each client's, over the time until its own last shot ended, added up. Shots
// under way when the time was over thus count with the time they took. NaN without any.
func (h *Heat) Throughput() float64 {
	if h.OK == 0 || h.Busy <= 0 {
		return math.NaN()
	}
	return float64(h.OK) * float64(h.Clients) / h.Busy.Seconds()
}

// Amount is so much of a declared amount in its unit; ok is false where the heat does not know it.
func (r *Result) Amount(h *Heat, name string) (v float64, ok bool) {
	for i := range r.Amounts {
		if a := &r.Amounts[i]; a.Name == name {
			return h.AmountOf(a)
		}
	}
	return math.NaN(), false
}

// AmountOf is so much of an amount that the heat has in all, in its unit; ok is false where it is not known. Of what
// the contender itself counted it is the share of the shots that are judged.
func (h *Heat) AmountOf(a *shots.Amount) (v float64, ok bool) {
	if n, ok := h.Amounts[a.Name]; ok {
		return a.Value(n), true
	}
	if n, ok := h.Account[a.Name]; ok && h.AccountShots > 0 {
		return a.Value(n) * float64(h.Shots()) / float64(h.AccountShots), true
	}
	return math.NaN(), false
}

// Others is the share of the machine that other programs used in a heat: neither we nor the contender's own service, or
// what it has in place of one.
func (r *Result) Others(h *Heat) float64 {
	served := 0.0
	switch {
	case h.Service != nil && h.Service.Share > 0:
		served = h.Service.Share
	case h.Service != nil && h.Wall > 0:
		served = h.Service.CPU.Seconds() / h.Wall.Seconds() / float64(max(r.Host.Cores, 1))
	}
	return max(h.Conditions.OthersFrac-served, 0)
}

// CPU is the processor time of the contender's processes in the judged part; ok is false where it is not known.
func (h *Heat) CPU() (used time.Duration, ok bool) {
	n, ok := h.Amounts[shots.CPU]
	return time.Duration(n), ok
}

// Peak is the most memory that the contender's processes held at once, in bytes; 0 where it is not known.
func (h *Heat) Peak() int64 { return h.Amounts[shots.Memory] }

// SetAmount enters an amount.
func (h *Heat) SetAmount(name string, n int64) {
	if h.Amounts == nil {
		h.Amounts = map[string]int64{}
	}
	h.Amounts[name] = n
}

// Counts reports whether the heat is judged: it was neither cut nor stopped.
func (h *Heat) Counts() bool { return !h.Cut && h.Stopped == "" }

// States are the states that contenders were run in: of caches, or the places that they were driven from; one empty
// state where the plan named none.
func (r *Result) States() []string {
	if places := r.Places(); len(places) > 0 {
		return places
	}
	if len(r.Footing.States) == 0 {
		return []string{""}
	}
	return r.Footing.States
}

// Cells are those of the run: every contender in every state, in the order of the plan.
func (r *Result) Cells() (out []cell.Cell) {
	for _, e := range r.Entrants {
		for _, state := range r.States() {
			out = append(out, cell.Of(e.Name, state))
		}
	}
	return out
}

// Of returns the heats of one contender that count, in the order of the rounds; of any state when state is AnyState.
func (r *Result) Of(contender, state string) (out []*Heat) {
	for i := range r.Heats {
		if h := &r.Heats[i]; h.Contender == contender && h.Counts() && (state == AnyState || h.State == state) {
			out = append(out, h)
		}
	}
	slices.SortStableFunc(out, func(a, b *Heat) int { return a.Round - b.Round })
	return out
}

// Entrant finds a contender by name; nil when there is none.
func (r *Result) Entrant(name string) *Entrant {
	for i := range r.Entrants {
		if r.Entrants[i].Name == name {
			return &r.Entrants[i]
		}
	}
	return nil
}

// maxDocumentBytes bounds what Read takes in.
const maxDocumentBytes = 1 << 30

// Read reads a document and checks that it hangs together.
func Read(in io.Reader) (*Result, error) {
	text, err := io.ReadAll(io.LimitReader(in, maxDocumentBytes))
	if err != nil {
		return nil, err
	}
	r, err := Decode(text)
	if err != nil {
		return nil, err
	}
	r.Clean()
	if err := r.check(); err != nil {
		return nil, fmt.Errorf("this result does not hang together: %w", err)
	}
	return r, nil
}

// Decode takes a document of any version apart, and brings one of an earlier version to ours. Nothing is checked or
// cleaned.
func Decode(text []byte) (*Result, error) {
	version, err := VersionOf(text)
	switch {
	case err != nil:
		return nil, fmt.Errorf("this is not a result of Pace Duel: %w", err)
	case version == 0:
		return nil, fmt.Errorf("this is not a result of Pace Duel: paceduel_result is missing")
	case version > Version:
		return nil, fmt.Errorf("this result has format %d, this program knows up to %d; use a newer one", version, Version)
	case version == 1:
		return decodeV1(text)
	}
	var r Result
	if err := json.Unmarshal(text, &r); err != nil {
		return nil, fmt.Errorf("this is not a result of Pace Duel: %w", err)
	}
	return &r, nil
}

// DecodeHeat takes a heat of a document of a version apart, as Decode does. r is its document as far as it is known.
func DecodeHeat(version int, text []byte) (h Heat, err error) {
	if version == 1 {
		return decodeHeatV1(text)
	}
	err = json.Unmarshal(text, &h)
	return h, err
}

// VersionOf finds the version of a document. It stands first in those that this program writes.
func VersionOf(text []byte) (int, error) {
	const key = `"paceduel_result":`
	if head := bytes.TrimLeft(text, "{ \t\r\n"); bytes.HasPrefix(head, []byte(key)) {
		digits := bytes.TrimLeft(head[len(key):], " ")
		if end := bytes.IndexAny(digits, ",} \n"); end > 0 {
			return strconv.Atoi(string(digits[:end]))
		}
	}
	var probe struct {
		Version int `json:"paceduel_result"`
	}
	err := json.Unmarshal(text, &probe)
	return probe.Version, err
}

// Clean makes every text of the result harmless to show, whoever wrote it: what a terminal would obey becomes a dot.
func (r *Result) Clean() {
	mask.Each(r, units.PrintableLines)
	r.Plan.Name = units.Printable(r.Plan.Name)
}

// Limits of a document, which no plan goes beyond.
const (
	minEntrants = 2
	maxEntrants = 9  // with a mirror
	maxName     = 46 // with what a mirror is called
	maxRounds   = 1000
)

func (r *Result) check() error {
	if len(r.Entrants) < minEntrants || len(r.Entrants) > maxEntrants { // one more for a mirror
		return fmt.Errorf("%d contenders", len(r.Entrants))
	}
	if r.Entrant(r.Plan.Baseline) == nil {
		return fmt.Errorf("the baseline %q is not a contender", short([]rune(units.Printable(r.Plan.Baseline)), 0))
	}
	for _, e := range r.Entrants {
		if len([]rune(e.Name)) > maxName || strings.ContainsAny(e.Name, "\n\t") {
			return fmt.Errorf("%q is not a name for a contender", short([]rune(units.Printable(e.Name)), 0))
		}
	}
	if err := r.Sweep.check(r); err != nil {
		return err
	}
	type place struct {
		round int
		cell  cell.Cell
	}
	seen := map[place]bool{}
	for i := range r.Heats {
		h := &r.Heats[i]
		at := place{h.Round, h.Cell}
		switch {
		case r.Entrant(h.Contender) == nil:
			return fmt.Errorf("heat %d is of %q, who is not a contender", i+1, h.Contender)
		case h.Round < 1 || h.Round > maxRounds:
			return fmt.Errorf("heat %d is in round %d", i+1, h.Round)
		case h.Clients < 1 || h.Wall < 0 || h.Busy < 0 || h.OK < 0 || h.LatencySum < 0 || h.Failed() < 0:
			return fmt.Errorf("heat %d has impossible figures", i+1)
		case seen[at]:
			return fmt.Errorf("%s has two heats in round %d", h.Contender, h.Round)
		case !slices.Contains(r.States(), h.State):
			return fmt.Errorf("heat %d is in the state %q, which is none of the run", i+1, h.State)
		case (r.Sweep == nil) != (h.Point == "") || r.Sweep != nil && r.Sweep.Find(h.Point) < 0:
			return fmt.Errorf("heat %d is at a point that is none of the run", i+1)
		}
		seen[at] = true
		if err := h.Inside.check(); err != nil {
			return fmt.Errorf("heat %d: %w", i+1, err)
		}
		if _, err := h.Histogram(); err != nil {
			return err
		}
	}
	return nil
}

// ReadFile reads the document at path.
func ReadFile(path string) (*Result, error) {
	f, err := files.Open(path, maxDocumentBytes)
	if err != nil {
		return nil, fmt.Errorf("open result: %w", err)
	}
	defer f.Close()
	r, err := Read(f)
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", path, err)
	}
	return r, nil
}

// Write writes the document, indented; that of a sweep in one line, since spaces would be a third of it.
func (r *Result) Write(out io.Writer) error {
	enc := json.NewEncoder(units.JSONWriter{To: out})
	if r.Sweep == nil {
		enc.SetIndent("", " ")
	}
	enc.SetEscapeHTML(false)
	return enc.Encode(r)
}

// WriteFile writes the document to path, whole or not at all.
func (r *Result) WriteFile(path string) error {
	if err := files.Write(path, r.Write); err != nil {
		return fmt.Errorf("write result: %w", err)
	}
	return nil
}
