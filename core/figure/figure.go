// Package figure is the one table of figures: what contenders are compared by.
//
// A row says what a figure is called, in which unit it is, which way is better, how it is read from a heat and over
// several, how it is spoken of, where a plan may name it and what it needs. Whoever reads plans, weighs claims, judges,
// writes or draws asks the table; nobody else knows a figure by its name. Figures that a run brings along (parts of
// latencies, what contenders tell, amounts that a kind counts) are rows made on demand, see families.go.
//
// Nothing here computes with intervals or chooses words: that is left to package judge.
package figure

import (
	"math"
	"slices"
	"strings"

	"paceduel/core/units"
)

// Name is a figure as plans, results and exports write it.
type Name string

// The names that code refers to. All of them stand in the table, and nothing else is said about them here.
const (
	P50          Name = "p50"
	P75          Name = "p75"
	P90          Name = "p90"
	P95          Name = "p95"
	P99          Name = "p99"
	P999         Name = "p99.9"
	Longest      Name = "longest"
	Mean         Name = "mean"
	Throughput   Name = "throughput"
	Total        Name = "total"
	CPU          Name = "cpu"
	Processors   Name = "processors"
	Memory       Name = "memory"
	Received     Name = "bytes"
	Start        Name = "start"
	FirstOutput  Name = "first output"
	FirstAnswer  Name = "first answer"
	SecondAnswer Name = "second answer"
	Settled      Name = "settled"
	Prepare      Name = "prepare"
	FirstRun     Name = "first run"
	Wake         Name = "wake"
	ErrorRate    Name = "error rate"
	LostRecords  Name = "lost records"
	TornRecords  Name = "torn records"
	Doubled      Name = "doubled records"
	ServesAgain  Name = "serves again"
	Silence      Name = "longest silence"
	HeldUp       Name = "held up"
	Missed       Name = "missed"
	Holds        Name = "holds"
	HoldsClients Name = "clients held"
)

// Source is what figures are read from: a heat, or all heats of a contender taken together. Every method returns NaN
// for what the source does not have.
type Source interface {
	LatencyQuantile(q float64) float64 // of successful shots, in seconds
	MeanLatency() float64              // in seconds
	ShotRate() float64                 // successful shots a second
	Length() float64                   // from the first shot to the last, in seconds
	PerShot(amount string) float64     // an amount that the kind counts or that is received, over all shots
	PerSecond(amount string) float64   // the same, over the time that shots took
	Most(amount string) float64        // the most of an amount at once
	Started(part StartPart) float64    // of a service, in seconds
	PartOfLatency(of Name) float64     // a part or what is told: its median, or its mean where shots are few
	// StreamQuantile and StreamMean are of what has latencies of its own within the heats; the quantile is NaN where too
	// few lie beyond it.
	StreamQuantile(stream string, q float64) float64
	StreamMean(stream string) float64
	FirstShot() float64            // of a heat that has several, in seconds
	Woken() float64                // the shot after a silence, in seconds
	Held() float64                 // the load up to which a climb's limit was kept
	FailedShare() float64          // of shots
	Waiting(part WaitPart) float64 // of a bystander, while the contender worked
}

// WaitPart is what is told of a bystander beside its waits.
type WaitPart int

// The parts.
const (
	LongestWait WaitPart = iota // in seconds
	HeldUpShare                 // of the time
	MissedShare                 // of what was due: not answered in the end, or lines that did not come
)

// StartPart is a moment of a service's start.
type StartPart int

// The parts of a start.
const (
	StartPrepared StartPart = iota // what is done before it, no part of the others
	StartOutput
	StartReady
	StartFirst
	StartSecond
	StartSettled
)

// Use is where a plan may name a figure.
type Use int

// The uses.
const (
	InRungs Use = 1 << iota // and interests
	InDecides
	InUntil
	InClaims
	InLimit // of a climb

	everywhere = InRungs | InDecides | InUntil | InClaims
)

// Need is what a run has to have for a figure to exist.
type Need int

// The needs. A figure with several needs all of them.
const (
	AtOnce     Need = 1 << iota // clients at once: neither one shot after another nor a set rate
	AClimb                      // a climb
	AService                    // a service
	AWake                       // a shot after a silence
	SameShots                   // as many shots, several, in every heat
	ABystander                  // somebody who asks meanwhile
	Crashes                     // to be ended while it works
)

// Pooling is how a figure of several heats is taken together.
type Pooling int

// The ways of pooling.
const (
	OverAll   Pooling = iota // read once more over all shots
	MiddleOne                // the middle heat's
	Highest                  // the highest heat's
)

// Figure is a row of the table.
type Figure struct {
	Name  Name
	Doc   string // a line for the manual and the schema
	Label string // for people, on the ladder; the name unless said
	Unit  units.Unit
	More  bool // whether more is better
	// Words are the comparatives: that of a better one, that of a worse one.
	Words [2]string
	At    string // how it is named in a sentence, as " in starting"; empty where the comparative says it
	Axis  string // figures of one axis are drawn to one scale; the name unless said
	Use   Use
	Need  Need
	Pool  Pooling
	// Quantile is the share of shots at or below it; 0 for what is no percentile.
	Quantile float64
	OfStart  bool // counts from the creation of a service, or is of what comes before others
	IsLoad   bool // says up to which load a limit was kept
	// Adds says that what shots have of it adds up over them, so that an amount of it has a price.
	Adds     bool
	Unjudged bool // is only held to limits by claims, or has a judgement of its own
	Limits   bool // claims may hold it to limits, and not one contender's to another's
	// Constant says that it may be the same in all heats, and is then told and not estimated.
	Constant bool
	// Aside says how it is told besides the time it takes: always or only where it speaks against the rest; nil: not at
	// all.
	Aside *Aside
	Read  func(Source) float64
}

// Aside is how a figure is told beside the one that leads: "holds 1.2x the memory".
type Aside struct {
	Verb   string // holds
	What   string // the memory; empty: the comparative
	Always bool   // else only where it leans the other way
	Less   string // how less of it is told, as a share: "less memory"; empty: like more
}

var timeWords = [2]string{"faster", "slower"}

func quantile(name Name, q float64, doc string, use Use) Figure {
	return Figure{
		Name: name, Doc: doc, Unit: units.Second, Words: timeWords, At: " at " + string(name), Axis: latencies, Use: use,
		Quantile: q, Read: func(s Source) float64 { return s.LatencyQuantile(q) },
	}
}

// latencies is the axis of what shots take.
const latencies = "latency"

func ofStart(name Name, part StartPart, doc, at string) Figure {
	return Figure{
		Name: name, Doc: doc, Unit: units.Second, Words: timeWords, At: at, Axis: string(Start), Use: everywhere,
		Need: AService,
		Pool: MiddleOne, OfStart: part != StartPrepared, Read: func(s Source) float64 { return s.Started(part) },
	}
}

// table holds the rows in the order in which figures are shown.
var table = []Figure{
	quantile(P50, 0.50, "half of the shots took no longer", everywhere|InLimit),
	quantile(P75, 0.75, "three of four shots took no longer", everywhere),
	quantile(P90, 0.90, "nine of ten shots took no longer", everywhere|InLimit),
	quantile(P95, 0.95, "95 of 100 shots took no longer", everywhere),
	quantile(P99, 0.99, "99 of 100 shots took no longer", everywhere|InLimit),
	quantile(P999, 0.999, "999 of 1 000 shots took no longer", everywhere),
	{
		Name: Longest, Doc: "the shot that took longest", Unit: units.Second, Words: timeWords, At: " at its longest",
		Axis: latencies, Use: everywhere, Pool: Highest, Read: func(s Source) float64 { return s.LatencyQuantile(1) },
	},
	{
		Name: Mean, Doc: "the mean of all shots", Unit: units.Second, Words: timeWords, At: " in the mean", Axis: latencies,
		Use: everywhere, Adds: true, Read: func(s Source) float64 { return s.MeanLatency() },
	},
	{
		Name: Throughput, Doc: "successful shots a second", Unit: units.PerSecond, More: true,
		Words: [2]string{"more throughput", "less throughput"}, Use: everywhere, Need: AtOnce,
		Read: func(s Source) float64 { return s.ShotRate() },
	},
	{
		Name: Total, Label: "whole heat",
		Doc:  "a heat from its first shot to its last, where all have as many; of shots one after another what they take",
		Unit: units.Second, Words: timeWords, At: " over a whole heat", Use: everywhere, Need: SameShots, Pool: MiddleOne,
		Read: func(s Source) float64 { return s.Length() },
	},
	{
		Name: CPU, Doc: "processor time a shot", Label: "CPU/run", Unit: units.Second, Words: [2]string{
			"less CPU", "more CPU",
		},
		Use: everywhere, Adds: true, Aside: &Aside{Verb: "takes"},
		Read: func(s Source) float64 { return s.PerShot(string(CPU)) },
	},
	{
		Name: Memory, Doc: "the most that is held at once", Unit: units.Byte, Words: [2]string{"less memory", "more memory"},
		Use: everywhere, Pool: Highest, Aside: &Aside{Verb: "holds", What: "the memory", Always: true, Less: "less memory"},
		Read: func(s Source) float64 { return s.Most(string(Memory)) },
	},
	{
		Name: Received, Doc: "bytes received a shot", Unit: units.Byte, Words: [2]string{"fewer bytes", "more bytes"},
		Use: everywhere, Adds: true, Constant: true, Aside: &Aside{Verb: "sends"},
		Read: func(s Source) float64 { return s.PerShot(string(Received)) },
	},
	ofStart(Start, StartReady, "from the creation of a service's process until it is ready", " in starting"),
	ofStart(FirstOutput, StartOutput, "until it printed something", " until its first output"),
	ofStart(FirstAnswer, StartFirst, "until its first answer", " until its first answer"),
	ofStart(SecondAnswer, StartSecond, "until its second answer", " until its second answer"),
	ofStart(Settled, StartSettled, "until it answers like in the judged part", " until it has settled"),
	ofStart(Prepare, StartPrepared, "what is done before a service starts", " in preparing"),
	{
		Name: FirstRun, Doc: "of a command, the first of each heat", Unit: units.Second, Words: timeWords,
		At:   " in its first run",
		Axis: latencies, Use: everywhere, Pool: MiddleOne, OfStart: true,
		Read: func(s Source) float64 { return s.FirstShot() },
	},
	{
		Name: Wake, Doc: "the shot after a silence", Unit: units.Second, Words: timeWords, At: " in waking up",
		Axis: latencies,
		Use:  everywhere, Need: AWake, Pool: MiddleOne, OfStart: true, Read: func(s Source) float64 { return s.Woken() },
	},
	{
		Name: Silence, Doc: "the longest that a bystander waited from when it was due, while the contender worked",
		Unit: units.Second, Words: [2]string{"less silence", "more silence"}, Use: everywhere,
		Need: ABystander, Pool: Highest, Read: func(s Source) float64 { return s.Waiting(LongestWait) },
	},
	{
		Name: HeldUp, Doc: "the share of the time in which a bystander waited for longer than it may", Unit: units.Part,
		Words: [2]string{"less held up", "more held up"}, Use: everywhere, Need: ABystander, Constant: true,
		Read: func(s Source) float64 { return s.Waiting(HeldUpShare) },
	},
	{
		Name: Missed,
		Doc:  "the share of a bystander's probes without an answer, or of the lines that were due and did not come",
		Unit: units.Part, Words: [2]string{"fewer missed", "more missed"}, Use: everywhere, Need: ABystander, Constant: true,
		Read: func(s Source) float64 { return s.Waiting(MissedShare) },
	},
	{
		Name: ErrorRate, Doc: "the share of shots that fail", Unit: units.Part, Words: [2]string{
			"fewer failures", "more failures",
		},
		Use: InClaims, Unjudged: true, Limits: true, Read: func(s Source) float64 { return s.FailedShare() },
	},
	ofCrashes(LostRecords, units.Part, "the share of acknowledged records that is not there after a crash",
		"fewer lost records", "more lost records"),
	ofCrashes(TornRecords, units.Part, "torn records after a crash, as a share of those acknowledged",
		"fewer torn records", "more torn records"),
	ofCrashes(Doubled, units.Part, "records that are there once more after a crash, as a share of those acknowledged",
		"fewer doubled records", "more doubled records"),
	ofCrashes(ServesAgain, units.Second, "how long it takes after a crash until it serves", "sooner", "later"),
	{
		Name: Processors,
		Doc: "processor time for each second that shots take, or at a set rate of the heat: over 1, it works in parallel " +
			"by itself",
		Label: "processors used", Unit: "processors", Words: [2]string{"fewer processors", "more processors"}, Use: InClaims,
		Unjudged: true, Read: func(s Source) float64 { return s.PerSecond(string(CPU)) },
	},
	{
		Name: Holds, Doc: "of a climb: the rate up to which its limit is kept", Label: "load held", Unit: units.PerSecond,
		More:  true,
		Words: [2]string{"more load", "less load"}, Use: InDecides, Need: AClimb, IsLoad: true, Unjudged: true,
		Read: func(s Source) float64 { return s.Held() },
	},
	{
		Name: HoldsClients, Doc: "of a climb: the clients up to which its limit is kept", Label: "load held",
		Unit: units.Clients,
		More: true, Words: [2]string{"more load", "less load"}, Need: AClimb, IsLoad: true, Unjudged: true,
		Read: func(s Source) float64 { return s.Held() },
	},
}

// ofCrashes makes a figure of what crashes leave, which no heat tells.
func ofCrashes(name Name, unit units.Unit, doc, better, worse string) Figure {
	return Figure{
		Name: name, Doc: doc, Unit: unit, Words: [2]string{better, worse}, Use: InClaims, Need: Crashes, Unjudged: true,
		Limits: true, Read: func(Source) float64 { return math.NaN() },
	}
}

var byName = func() map[Name]*Figure {
	m := map[Name]*Figure{}
	for i := range table {
		f := &table[i]
		if f.Label == "" {
			f.Label = string(f.Name)
		}
		if f.Axis == "" {
			f.Axis = string(f.Name)
		}
		m[f.Name] = f
	}
	return m
}()

// All lists the rows of the table in the order in which figures are shown. They are not to be changed.
func All() []Figure { return slices.Clone(table) }

// Judged are the figures that every run is judged by as far as it has them, in the order in which they are shown. Those
// that a run brings along come after them.
func Judged() (names []Name) {
	for i := range table {
		if !table[i].Unjudged {
			names = append(names, table[i].Name)
		}
	}
	return names
}

// For lists the figures that may stand somewhere, in the order in which they are shown.
func For(use Use) (names []Name) {
	for i := range table {
		if table[i].Use&use != 0 {
			names = append(names, table[i].Name)
		}
	}
	return names
}

// Known reports whether a name stands in the table; families are not asked.
func (n Name) Known() bool { return byName[n] != nil }

// Row is the figure's row, which is not to be changed. A name that is in no family has that of a time without a
// reading.
func (n Name) Row() *Figure {
	if f, ok := byName[n]; ok {
		return f
	}
	return n.made()
}

// Place is where a figure is shown among the others: those that a run brings along last.
func (n Name) Place() int {
	judged := 0
	for i := range table {
		if table[i].Unjudged {
			continue
		}
		if table[i].Name == n {
			return judged
		}
		judged++
	}
	return judged
}

// Label is the figure's name on the ladder.
func (n Name) Label() string { return n.Row().Label }

// Unit is that of the figure's values.
func (n Name) Unit() units.Unit { return n.Row().Unit }

// MoreIsBetter reports which way the figure leans.
func (n Name) MoreIsBetter() bool { return n.Row().More }

// IsLoad reports whether the figure says up to which load a limit was kept.
func (n Name) IsLoad() bool { return n.Row().IsLoad }

// Quantile is the share of shots at or below a percentile; ok is false for other figures.
func (n Name) Quantile() (q float64, ok bool) {
	q = n.Row().Quantile
	return q, q > 0
}

// At is how the figure is named in a sentence: " at p99".
func (n Name) At() string { return n.Row().At }

// Show writes a value of the figure for people, with its unit.
func (n Name) Show(v float64) string { return n.Row().Unit.Write(v) }

// Comparative is how a better or a worse one is put: "faster", "more memory".
func (n Name) Comparative(better bool) string {
	if better {
		return n.Row().Words[0]
	}
	return n.Row().Words[1]
}

// Read reads the figure from a heat, or from several taken together. It is in the figure's unit; NaN where there is
// none.
func (n Name) Read(s Source) float64 {
	if read := n.Row().Read; read != nil {
		return read(s)
	}
	return math.NaN()
}

// Superlative is how the best one is put, with its verb: "is fastest", "has the most throughput".
func (n Name) Superlative() string {
	better := n.Comparative(true)
	for _, of := range [][2]string{
		{"more ", "has the most "}, {"less ", "has the least "}, {"fewer ", "has the fewest "},
	} {
		if what, ok := strings.CutPrefix(better, of[0]); ok {
			return of[1] + what
		}
	}
	return "is " + strings.TrimSuffix(better, "er") + "est"
}

// Verb is what stands before a comparative: "is" faster, "has" more throughput.
func (n Name) Verb() string {
	if strings.HasPrefix(n.Superlative(), "is ") {
		return "is"
	}
	return "has"
}
