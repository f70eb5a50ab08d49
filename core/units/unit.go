package units

import (
	"math"
	"strings"
)

// Unit is what an amount is counted in: one of those below, or a word for what is counted, as "pages".
type Unit string

// The units that are more than a word. Amounts are kept in these, never in thousands or thousandths of them.
const (
	Second         Unit = "s"
	Byte           Unit = "B"
	PerSecond      Unit = "/s"
	BytesPerSecond Unit = "B/s"
	Part           Unit = "%" // a share, from 0 to 1
	Clients        Unit = "clients"
	// Nanosecond is for times that may be parts of one; Second is for all others.
	Nanosecond Unit = "ns"
)

// Write writes an amount of the unit for people; None for NaN.
func (u Unit) Write(v float64) string {
	switch u {
	case Second, "":
		return Seconds(v)
	case Byte:
		return Bytes(v)
	case PerSecond:
		return Rate(v)
	case BytesPerSecond:
		if math.IsNaN(v) {
			return None
		}
		return Bytes(v) + "/s"
	case Part:
		return Share(v)
	case Clients:
		if math.IsNaN(v) {
			return None
		}
		return Significant(v) + " clients"
	case Nanosecond:
		switch {
		case math.IsNaN(v):
			return None
		case math.Abs(v) >= 1e3:
			return Seconds(v / 1e9)
		}
		return Significant(v) + " ns"
	}
	if math.IsNaN(v) {
		return None
	}
	if v == math.Trunc(v) && math.Abs(v) < 1e9 { // what is counted comes whole
		word := string(u)
		if v == 1 {
			word = Singular(word)
		}
		return Count(int64(v)) + " " + word
	}
	return Significant(v) + " " + string(u)
}

// Singular is a word for several things as it is for one: "page" of "pages".
func Singular(word string) string {
	for _, end := range []struct{ of, to string }{
		{"ies", "y"}, {"sses", "ss"}, {"shes", "sh"}, {"ches", "ch"}, {"xes", "x"}, {"ss", "ss"}, {"s", ""},
	} {
		if stem, ok := strings.CutSuffix(word, end.of); ok && len(stem) > 1 {
			return stem + end.to
		}
	}
	return word
}

// Bare writes an amount as labels of an axis do, which say the unit once where it is a word.
func (u Unit) Bare(v float64) string {
	switch u {
	case Second, "", Nanosecond, Byte, PerSecond, BytesPerSecond, Part:
		return u.Write(v)
	}
	if v == math.Trunc(v) && math.Abs(v) < 1e9 {
		return Count(int64(v))
	}
	return Significant(v)
}

// PerUnit is how many steps that are recorded of single amounts make one of the unit: nanoseconds of a second, bytes,
// and thousandths of what is counted.
func (u Unit) PerUnit() float64 {
	switch u {
	case Second, "":
		return 1e9
	case Byte:
		return 1
	}
	return 1e3
}
