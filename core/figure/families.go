package figure

import (
	"regexp"
	"strings"
	"sync"

	"paceduel/core/units"
)

// Families of figures that a run brings along. A prefix says which; the unit stands behind the name where it is no
// time, so that a figure can be read back from its name alone.
const (
	partPrefix   = "part "   // of latencies, as we see them
	toldPrefix   = "told "   // by contenders, of themselves
	morePrefix   = "told+ "  // the same, where more is better
	amountPrefix = "amount " // that a kind counts, a shot
	ratePrefix   = "rate "   // the same, a second
)

// Part is the median of a part of latencies.
func Part(name string) Name { return Name(partPrefix + name) }

// Told is what contenders tell of themselves; unit is Second or empty for times.
func Told(name string, unit units.Unit) Name { return Name(toldPrefix + withUnit(name, unit)) }

// ToldMore is the same of an amount of which more is better.
func ToldMore(name string, unit units.Unit) Name { return Name(morePrefix + withUnit(name, unit)) }

// Amount is what a kind counts, for each shot.
func Amount(name string, unit units.Unit) Name { return Name(amountPrefix + withUnit(name, unit)) }

// RateOf is what a kind counts, a second.
func RateOf(name string, unit units.Unit) Name { return Name(ratePrefix + withUnit(name, unit)) }

func withUnit(name string, unit units.Unit) string {
	if unit == "" || unit == units.Second {
		return name
	}
	return name + " [" + string(unit) + "]"
}

// bare is a name without its unit.
func bare(full string) (name string, unit units.Unit) {
	if at := strings.LastIndex(full, " ["); at > 0 && strings.HasSuffix(full, "]") {
		return full[:at], units.Unit(full[at+2 : len(full)-1])
	}
	return full, units.Second
}

// OfPart is the part of latencies that a figure is of.
func (n Name) OfPart() (name string, ok bool) { return strings.CutPrefix(string(n), partPrefix) }

// IsTold reports whether contenders tell the figure of themselves.
func (n Name) IsTold() bool {
	return strings.HasPrefix(string(n), toldPrefix) || strings.HasPrefix(string(n), morePrefix)
}

// IsRate reports whether a figure is what a kind counts, a second.
func (n Name) IsRate() bool { return strings.HasPrefix(string(n), ratePrefix) }

// IsPercentile reports whether a figure that is told is a percentile of what a shot has many of: "p99 of operation".
func (n Name) IsPercentile() bool { return n.IsTold() && percentile.MatchString(n.Spoken()) }

var percentile = regexp.MustCompile(`^p[0-9.]+ of `)

// IsCPU reports whether a figure that is told is the CPU time of what a shot has many of: "CPU of operation".
func (n Name) IsCPU() bool { return n.IsTold() && strings.HasPrefix(n.Spoken(), "CPU of ") }

// Spoken is what people call a figure in plans and claims: a mark by its name alone.
func (n Name) Spoken() string {
	for _, prefix := range []string{toldPrefix, morePrefix, amountPrefix, ratePrefix} {
		if full, ok := strings.CutPrefix(string(n), prefix); ok {
			name, _ := bare(full)
			if prefix == ratePrefix {
				name += "/s"
			}
			return name
		}
	}
	return string(n)
}

// made keeps the rows of families, which are asked for again and again.
var made sync.Map // of Name to *Figure

// made is the row of a figure of a family.
func (n Name) made() *Figure {
	if f, ok := made.Load(n); ok {
		return f.(*Figure)
	}
	f := n.build()
	made.Store(n, f)
	return f
}

func (n Name) build() *Figure {
	if name, ok := n.OfPart(); ok {
		return &Figure{
			Name: n, Doc: "a part of latencies", Label: name, Unit: units.Second, Words: timeWords, At: " in " +
				name, Axis: latencies,
			Adds: true, Pool: OverAll, Read: func(s Source) float64 { return s.PartOfLatency(n) },
		}
	}
	for _, prefix := range []string{toldPrefix, morePrefix} {
		full, ok := strings.CutPrefix(string(n), prefix)
		if !ok {
			continue
		}
		name, unit := bare(full)
		label := name + " (told)"
		if unit == units.Nanosecond {
			label = name // of which a kind says that there is no other way to know it
		}
		f := counted(n, label, unit)
		if unit != units.PerSecond {
			f.At = " in " + name
		}
		switch {
		case n.IsPercentile():
			f.At = " at " + name
		case n.IsCPU():
			f.Words, f.At, f.Aside, f.Axis = byName[CPU].Words, "", byName[CPU].Aside, string(n)
		}
		f.Doc, f.Use, f.Constant = "what contenders tell of themselves", everywhere, unit != units.Second
		f.Adds = prefix == toldPrefix && !n.IsPercentile() && unit != units.PerSecond && unit != units.Part
		if f.More = prefix == morePrefix; f.More {
			f.Words[0], f.Words[1] = f.Words[1], f.Words[0]
		}
		f.Read = func(s Source) float64 { return s.PartOfLatency(n) }
		return f
	}
	if full, ok := strings.CutPrefix(string(n), amountPrefix); ok {
		name, unit := bare(full)
		f := counted(n, name, unit)
		f.Doc, f.Use, f.Adds = "what is counted for each shot", everywhere, true
		f.Read = func(s Source) float64 { return s.PerShot(name) }
		return f
	}
	if full, ok := strings.CutPrefix(string(n), ratePrefix); ok {
		name, unit := bare(full)
		per := unit + units.PerSecond
		if string(unit) == name {
			per = units.PerSecond // the label says of what
		}
		f := counted(n, name+"/s", per)
		f.Doc, f.Use, f.More = "what is done a second", everywhere, true
		less := "fewer "
		if unit == units.Byte {
			less = "less "
		}
		f.Words, f.At = [2]string{"more " + name + " a second", less + name + " a second"}, ""
		f.Read = func(s Source) float64 { return s.PerSecond(name) }
		return f
	}
	return &Figure{
		Name: n, Label: string(n), Unit: units.Second, Words: timeWords, At: " at " + string(n), Axis: latencies,
	}
}

// counted is a row of what may be a time, data or a count of something: less of it is better.
func counted(n Name, label string, unit units.Unit) *Figure {
	f := &Figure{Name: n, Label: label, Unit: unit, At: " in " + label, Axis: string(n), Pool: OverAll}
	switch unit {
	case units.Second:
		f.Words, f.Axis = timeWords, latencies
	case units.Nanosecond:
		f.Words, f.Axis = timeWords, "time of an operation"
	case units.Byte, units.Part:
		f.Words = [2]string{"less", "more"}
	case units.PerSecond: // the name says of what
		name := strings.TrimSuffix(label, " (told)")
		f.Words, f.At = [2]string{"fewer " + name, "more " + name}, ""
	default:
		f.Words = [2]string{"fewer " + string(unit), "more " + string(unit)}
	}
	return f
}
