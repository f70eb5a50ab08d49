package marks

import (
	"bytes"
	"regexp"
	"strconv"
	"strings"
	"time"

	"paceduel/core/plan"
)

// Steps reads the lines with a time that a program prints when steps begin and end. It is not safe for concurrent use.
type Steps struct{ begin, end stepLine }

// stepLine is the pattern of one of the two kinds of lines, with the places of its groups; -1 for none.
type stepLine struct {
	pattern         *regexp.Regexp
	step, time, key int
}

// NewSteps makes a reader of lines that plan.StepLines.Check found nothing wrong with; nil for none.
func NewSteps(l *plan.StepLines) *Steps {
	if l == nil {
		return nil
	}
	line := func(pattern string) stepLine {
		re := regexp.MustCompile(pattern)
		return stepLine{re, re.SubexpIndex("step"), re.SubexpIndex("time"), re.SubexpIndex("key")}
	}
	return &Steps{line(l.Begin), line(l.End)}
}

// Event is the beginning or the end of a step.
type Event struct {
	Step, Key string
	Begins    bool
	At        Moment
}

// Moment is when something was: in civil time, in nanoseconds, or since its program began.
type Moment struct {
	Civil int64 // 0: it is told by Since
	Since time.Duration
}

// Line reads a line; ok is false for one that is no beginning and no end, or whose time cannot be read.
func (s *Steps) Line(line []byte) (e Event, ok bool) {
	for _, kind := range []*stepLine{&s.begin, &s.end} {
		found := kind.pattern.FindSubmatch(line)
		if found == nil {
			continue
		}
		at, ok := readMoment(string(found[kind.time]))
		if !ok || len(found[kind.step]) == 0 {
			continue
		}
		e = Event{Step: string(found[kind.step]), Begins: kind == &s.begin, At: at}
		if kind.key >= 0 {
			e.Key = string(found[kind.key])
		}
		return e, true
	}
	return e, false
}

// Events reads all lines of a text, of which lines beyond MaxLine are passed over.
func (s *Steps) Events(text []byte) (out []Event) {
	for line := range bytes.Lines(text) {
		if len(line) > MaxLine {
			continue
		}
		if e, ok := s.Line(bytes.TrimRight(line, "\r\n")); ok {
			out = append(out, e)
		}
	}
	return out
}

// Bounds by which a bare number is known for what it is: seconds since 1970 from a year's end in 2001 on, or the same
// in thousandths, millionths and billionths; anything less is seconds since the program began.
const (
	leastCivil  = 1e9
	mostSeconds = 1e11
)

// readMoment reads a time: RFC 3339, with a blank in place of T too, a number of seconds, milli-, micro- or nanoseconds
// since 1970, or how long since the program began: a number of seconds, or one with a unit, as 12.5ms.
func readMoment(text string) (m Moment, ok bool) {
	text = strings.Trim(text, "[]() ")
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02 15:04:05.999999999Z07:00"} {
		if t, err := time.Parse(layout, text); err == nil {
			return Moment{Civil: t.UnixNano()}, true
		}
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return Moment{Since: d}, true
	}
	whole, fraction, _ := strings.Cut(text, ".")
	n, err := strconv.ParseInt(whole, 10, 64)
	if err != nil || n < 0 || len(whole) > 19 || strings.ContainsAny(text, "+-eE") {
		return m, false
	}
	ns, ok := fractionOf(fraction)
	switch {
	case !ok:
		return m, false
	case n < leastCivil:
		return Moment{Since: time.Duration(n)*time.Second + time.Duration(ns)}, true
	case n < mostSeconds:
		return Moment{Civil: n*1e9 + ns}, true
	case n < mostSeconds*1e3:
		return Moment{Civil: n*1e6 + ns/1e3}, true
	case n < mostSeconds*1e6:
		return Moment{Civil: n*1e3 + ns/1e6}, true
	}
	return Moment{Civil: n}, true
}

// fractionOf is the digits behind a point, as billionths.
func fractionOf(digits string) (int64, bool) {
	const places = 9
	if digits == "" {
		return 0, true
	}
	digits = (digits + "000000000")[:places]
	n, err := strconv.ParseUint(digits, 10, 64)
	return int64(n), err == nil
}

// Stretch is a step from its beginning to its end.
type Stretch struct {
	Step, Key  string
	Begin, End Moment
}

// Pair puts beginnings and ends together: each end belongs to the latest beginning of its step and key that has none.
// left are those that began and have not ended; an end without a beginning is passed over.
func Pair(events []Event) (out []Stretch, left []Event) {
	type which struct{ step, key string }
	open := map[which][]int{} // places of beginnings
	ended := make([]bool, len(events))
	for i, e := range events {
		of := which{e.Step, e.Key}
		if e.Begins {
			open[of] = append(open[of], i)
			continue
		}
		ended[i] = true
		if begun := open[of]; len(begun) > 0 {
			last := begun[len(begun)-1]
			out = append(out, Stretch{e.Step, e.Key, events[last].At, e.At})
			open[of], ended[last] = begun[:len(begun)-1], true
		}
	}
	for i, e := range events {
		if !ended[i] {
			left = append(left, e)
		}
	}
	return out, left
}
