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
	ofPrefix     = "of "     // of a stream of its own within the heats, or of a time that is told
)

// ofStream are the figures that a stream has.
var ofStream = []Name{P50, P75, P90, P95, P99, P999, Longest, Mean}

// streamed splits "p99 of ping".
var streamed = regexp.MustCompile(`^(` + strings.ReplaceAll(strings.Join(texts(ofStream), "|"), ".", `\.`) + `) of (.+)$`)

func texts(names []Name) (out []string) {
	for _, n := range names {
		out = append(out, string(n))
	}
	return out
}

// Of is a percentile, the longest or the mean of a stream: what has latencies of its own beside those of shots, as one
// sort of requests among several, a bystander's probes, an effect, or a time that shots tell. of is the figure of the
// table that it is like.
func Of(of Name, stream string) Name { return Name(ofPrefix + string(of) + " of " + stream) }

// ParseOf reads what people call a figure of a stream: p99 of ping, or of "select pilot".
func ParseOf(text string) (n Name, ok bool) {
	found := streamed.FindStringSubmatch(text)
	if found == nil {
		return "", false
	}
	stream := strings.Trim(found[2], `"`)
	const most = 200
	if stream == "" || len(stream) > most || strings.ContainsAny(stream, "\"\n") {
		return "", false
	}
	return Of(Name(found[1]), stream), true
}

// OfStream takes a figure of a stream apart.
func (n Name) OfStream() (of Name, stream string, ok bool) {
	text, ok := strings.CutPrefix(string(n), ofPrefix)
	if !ok {
		return "", "", false
	}
	found := streamed.FindStringSubmatch(text)
	if found == nil {
		return "", "", false
	}
	return Name(found[1]), found[2], true
}

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
	for _, prefix := range []string{toldPrefix, morePrefix, amountPrefix, ratePrefix, ofPrefix} {
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
	if of, stream, ok := n.OfStream(); ok {
		return n.buildOf(of, stream)
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

// buildOf makes the row of a figure of a stream, which is read as that of the table is.
func (n Name) buildOf(of Name, stream string) *Figure {
	like := byName[of]
	name := string(of) + " of " + stream
	f := &Figure{
		Name: n, Doc: like.Doc + ", of a stream", Label: name, Unit: like.Unit, Words: like.Words, At: " at " + name,
		Axis: latencies, Use: everywhere, Pool: OverAll, Adds: of == Mean,
	}
	switch of {
	case Mean:
		f.At = " in the mean of " + stream
		f.Read = func(s Source) float64 { return s.StreamMean(stream) }
	case Longest:
		f.At = " at the longest of " + stream
		f.Read = func(s Source) float64 { return s.StreamQuantile(stream, 1) }
	default:
		q := like.Quantile
		f.Quantile = q
		f.Read = func(s Source) float64 { return s.StreamQuantile(stream, q) }
	}
	return f
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
