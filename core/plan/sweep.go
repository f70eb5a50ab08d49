package plan

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"paceduel/core/cell"
	"paceduel/core/units"
)

// Limits of a sweep.
const (
	MaxParameters  = 2
	MaxValues      = 50  // of a parameter
	MaxPoints      = 100 // of a sweep: every value of one parameter with every one of the other
	MaxSweepHeats  = 20_000
	MostAdded      = 12 // points that where: bends may add
	FewestSwept    = 2  // values of a parameter
	LongestWithin  = 24 * 60 * 60
	parameterWords = 24 // characters of a parameter's name
)

// Sweep is the same duel over the values of one or two parameters.
type Sweep struct {
	Parameters []Parameter // one or two, in the order of the file
	Points     []Point     // all combinations that the plan gives, the first parameter's values in order
	Within     Span        // how long the whole may take; 0: Rounds of the plan says how often
	Bends      bool        // whether points are added between those of the plan
	// Make reads the plan at further values, one for each parameter in their order. The error is Problems of package read.
	Make func(values []Value) (Point, error)
}

// Parameter is what varies.
type Parameter struct {
	Name   string
	Sets   []string // keys of the plan that its values are laid over
	Values []Value  // at least two, in the order of the plan
	Counts Counts   // what its values are a number of
	Log    bool     // whether a logarithmic axis suits it
}

// Counts says what the values of a parameter are a number of, which decides about the laws that are tried.
type Counts string

// What values may count. Words are no numbers: they have no axis, no turn and no law.
const (
	Items   Counts = "items"
	OfBytes Counts = "bytes"
	Threads Counts = "threads"
	Clients Counts = "clients"
	Other   Counts = "other"
	Words   Counts = "words"
)

// AtOnce reports whether values say how many work at once.
func (c Counts) AtOnce() bool { return c == Threads || c == Clients }

// Value is one value of a parameter.
type Value struct {
	Text   string  // as the plan writes it
	Called string  // what people call it; empty: its text
	Number float64 // in bytes, seconds, a second or plain; NaN where it is a word
	Quoted bool    // it is a text whatever it looks like
}

// String is what people call it.
func (v Value) String() string {
	if v.Called != "" {
		return v.Called
	}
	return v.Text
}

// Point is the duel at one value of each parameter.
type Point struct {
	At     cell.Point
	Values []Value // one for each parameter, in their order
	Plan   *Plan   // without a sweep of its own
}

// PointAt is the cell's point of values by their parameters.
func PointAt(params []Parameter, values []Value) cell.Point {
	by := map[string]string{}
	for i := range params {
		by[params[i].Name] = values[i].Text
	}
	return cell.At(by)
}

// Find is the sweep's point there; nil without one.
func (s *Sweep) Find(at cell.Point) *Point {
	for i := range s.Points {
		if s.Points[i].At == at {
			return &s.Points[i]
		}
	}
	return nil
}

// amount is a number with its unit.
var amount = regexp.MustCompile(`^([+-]?[0-9]+(?:\.[0-9]+)?)\s*([A-Za-zµ/]*)$`)

// scales are what a unit stands for, and which family it is of.
var scales = map[string]struct {
	family string
	factor float64
}{
	"": {"plain", 1}, "B": {"bytes", 1}, "kB": {"bytes", 1e3}, "KB": {"bytes", 1e3}, "MB": {"bytes", 1e6},
	"GB": {"bytes", 1e9}, "KiB": {"bytes", 1 << 10}, "MiB": {"bytes", 1 << 20}, "GiB": {"bytes", 1 << 30},
	"K": {"bytes", 1 << 10}, "M": {"bytes", 1 << 20}, "G": {"bytes", 1 << 30}, "k": {"bytes", 1 << 10},
	"ns": {"time", 1e-9}, "us": {"time", 1e-6}, "µs": {"time", 1e-6}, "ms": {"time", 1e-3}, "s": {"time", 1},
	"m": {"time", 60}, "h": {"time", 3600}, "/s": {"rate", 1}, "/m": {"rate", 1.0 / 60},
}

// Number is the number that a value's text stands for, in bytes, seconds, a second or plain, and of which family it is;
// NaN and empty for a word.
func Number(text string) (n float64, family string) {
	m := amount.FindStringSubmatch(text)
	if m == nil {
		return math.NaN(), ""
	}
	unit, known := scales[m[2]]
	x, err := strconv.ParseFloat(m[1], 64)
	if !known || err != nil {
		return math.NaN(), ""
	}
	return x * unit.factor, unit.family
}

// TextOf writes a number of a family as a plan would: whole where like is, in like's unit where that comes out even.
func TextOf(n float64, like string) string {
	m := amount.FindStringSubmatch(like)
	if m == nil {
		return like
	}
	unit := scales[m[2]]
	switch x := n / unit.factor; {
	case strings.Contains(m[1], "."):
		return strconv.FormatFloat(x, 'g', 4, 64) + m[2]
	case unit.family == "bytes" && x < 64 && x != math.Round(x) || x < 0.5:
		if small := smaller(m[2]); small != m[2] {
			return TextOf(n, "1"+small)
		}
		return strconv.FormatFloat(math.Round(x), 'f', -1, 64) + m[2]
	case unit.family == "bytes" && x >= 1024 && math.Mod(x, 1024) == 0 && larger(m[2]) != "":
		return TextOf(n, "1"+larger(m[2]))
	default:
		return strconv.FormatFloat(math.Round(x), 'f', -1, 64) + m[2]
	}
}

var unitLadder = [][]string{{"B", "KiB", "MiB", "GiB"}, {"B", "kB", "MB", "GB"}, {"ns", "us", "ms", "s"}}

func smaller(unit string) string {
	for _, l := range unitLadder {
		if at := slices.Index(l, unit); at > 0 {
			return l[at-1]
		}
	}
	return unit
}

func larger(unit string) string {
	if at := slices.Index(unitLadder[0], unit); at >= 0 && at+1 < len(unitLadder[0]) {
		return unitLadder[0][at+1]
	}
	return ""
}

// Between is the text of a value between two others of a parameter, on its axis; ok is false where there is none, since
// both are words or next to each other.
func (p *Parameter) Between(a, b Value) (v Value, ok bool) {
	if math.IsNaN(a.Number) || math.IsNaN(b.Number) {
		return v, false
	}
	mid := (a.Number + b.Number) / 2
	if p.Log && a.Number > 0 && b.Number > 0 {
		mid = math.Sqrt(a.Number * b.Number)
	}
	v.Text = TextOf(mid, a.Text)
	v.Number, _ = Number(v.Text)
	low, high := min(a.Number, b.Number), max(a.Number, b.Number)
	taken := slices.ContainsFunc(p.Values, func(o Value) bool { return o.Number == v.Number })
	return v, v.Number > low && v.Number < high && !taken
}

// Stepped are steps values from one to another, evenly spaced or each a fixed multiple of the one before. Values that
// come out alike are given once.
func Stepped(from, to string, steps int, geometric bool) (out []Value, err error) {
	a, family := Number(from)
	b, other := Number(to)
	switch {
	case math.IsNaN(a) || math.IsNaN(b):
		return nil, fmt.Errorf("%q to %q is not from a number to a number", from, to)
	case family != other:
		return nil, fmt.Errorf("%s and %s have units that do not belong together", from, to)
	case a >= b:
		return nil, fmt.Errorf("from %s to %s does not rise", from, to)
	case geometric && a <= 0:
		return nil, fmt.Errorf("%s cannot be multiplied up to %s", from, to)
	}
	for i := range steps {
		share := float64(i) / float64(steps-1)
		x := a + (b-a)*share
		if geometric {
			x = a * math.Pow(b/a, share)
		}
		v := Value{Text: TextOf(x, from)}
		switch i {
		case 0:
			v.Text = from
		case steps - 1:
			v.Text = to
		}
		v.Number, _ = Number(v.Text)
		if len(out) == 0 || out[len(out)-1].Number < v.Number {
			out = append(out, v)
		}
	}
	return out, nil
}

// Complete fills in what follows from a parameter's values and name: what they count, and which axis suits them.
func (p *Parameter) Complete() {
	numbers := !slices.ContainsFunc(p.Values, func(v Value) bool { return math.IsNaN(v.Number) })
	if !numbers {
		p.Counts = Words
		return
	}
	if p.Counts == "" {
		p.Counts = p.guess()
	}
	low, high := math.Inf(1), math.Inf(-1)
	for _, v := range p.Values {
		low, high = min(low, v.Number), max(high, v.Number)
	}
	const wide = 10 // times; a linear axis would crowd the lower values together
	p.Log = low > 0 && high/low >= wide
}

func (p *Parameter) guess() Counts {
	if slices.Contains(p.Sets, "pace.clients") {
		return Clients
	}
	if _, family := Number(p.Values[0].Text); family == "bytes" {
		return OfBytes
	} else if family != "plain" {
		return Other
	}
	name := strings.ToLower(p.Name)
	for _, word := range []string{"thread", "worker", "writer", "reader", "job", "core", "cpu", "process", "connection"} {
		if strings.Contains(name, word) {
			return Threads
		}
	}
	if strings.Contains(name, "client") || strings.Contains(name, "user") {
		return Clients
	}
	for _, word := range []string{"byte", "block", "chunk", "buffer"} {
		if strings.Contains(name, word) {
			return OfBytes
		}
	}
	for _, word := range []string{"level", "percent", "rate", "interval", "delay", "timeout", "port"} {
		if strings.Contains(name, word) {
			return Other
		}
	}
	return Items
}

// ProperName reports whether a parameter may have this name: letters, digits, - and _, beginning with a letter.
func ProperName(name string) bool {
	for i, r := range name {
		letter := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
		if !letter && (i == 0 || (r < '0' || r > '9') && r != '-' && r != '_') {
			return false
		}
	}
	return name != "" && len(name) <= parameterWords
}

// RoundsForSweep is how many rounds a sweep has that does not say: as many as one figure takes whose words are to hold
// for so many comparisons together, at least DefaultRounds.
func RoundsForSweep(comparisons int) int {
	const risk = 0.05
	n := DefaultRounds
	for math.Pow(2, float64(1-n))*float64(comparisons) > risk && n < 20 {
		n++
	}
	return n
}

// String says what a sweep is over: "3 values of turns", "6 values of writers and 3 of rows".
func (s *Sweep) String() string {
	var parts []string
	for i := range s.Parameters {
		p := &s.Parameters[i]
		text := fmt.Sprintf("%d of %s", len(p.Values), p.Name)
		if i == 0 {
			text = fmt.Sprintf("%d values of %s", len(p.Values), p.Name)
		}
		parts = append(parts, text)
	}
	return units.List(parts)
}

// Lines say of each parameter which values it has, then how the sweep goes on.
func (s *Sweep) Lines() (lines []string) {
	for i := range s.Parameters {
		var values []string
		for _, v := range s.Parameters[i].Values {
			text := v.Text
			if v.Called != "" {
				text += " (" + v.Called + ")"
			}
			values = append(values, text)
		}
		lines = append(lines, s.Parameters[i].Name+": "+strings.Join(values, ", "))
	}
	if s.Within > 0 {
		lines = append(lines, "all of it within "+units.Duration(s.Within.D()))
	}
	if s.Bends {
		lines = append(lines, "points are added where lines bend")
	}
	return lines
}

// Plans are those of all points of a sweep; without one the plan itself.
func (p *Plan) Plans() []*Plan {
	if p.Sweep == nil {
		return []*Plan{p}
	}
	out := make([]*Plan, len(p.Sweep.Points))
	for i := range out {
		out[i] = p.Sweep.Points[i].Plan
	}
	return out
}

// AtPoint is the plan at a point of its sweep, or itself where it has none and the point is empty; nil for a point that
// it does not have.
func (p *Plan) AtPoint(at cell.Point) *Plan {
	if p.Sweep == nil && at == "" {
		return p
	}
	if p.Sweep != nil {
		for i := range p.Sweep.Points {
			if p.Sweep.Points[i].At == at {
				return p.Sweep.Points[i].Plan
			}
		}
	}
	return nil
}
