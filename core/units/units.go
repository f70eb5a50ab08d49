// Package units writes figures for people: three significant digits, always with a unit.
//
// It only formats. Which figure is shown, and whether it may be, is decided elsewhere.
package units

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// None stands where there is no figure.
const None = "–"

// Seconds writes a length of time given in seconds with the unit that suits it: "3.65 ms", "412 ns", "2 min 5 s".
func Seconds(s float64) string {
	switch {
	case math.IsNaN(s) || math.IsInf(s, 0):
		return None
	case s < 0:
		return "-" + Seconds(-s)
	case s == 0:
		return "0 s"
	case s >= 99.95:
		total := int64(math.Round(s))
		if total >= 3600 {
			return fmt.Sprintf("%d h %d min", total/3600, total%3600/60)
		}
		return fmt.Sprintf("%d min %d s", total/60, total%60)
	}
	for _, u := range []struct {
		name  string
		scale float64
	}{{"s", 1}, {"ms", 1e3}, {"µs", 1e6}} {
		if s*u.scale >= 0.9995 {
			return Significant(s*u.scale) + " " + u.name
		}
	}
	return Significant(s*1e9) + " ns"
}

// Duration writes d as Seconds does.
func Duration(d time.Duration) string { return Seconds(d.Seconds()) }

// Left writes a time still to go, coarsely: "41 s", "3 min".
func Left(d time.Duration) string {
	switch {
	case d < 0:
		return "time left unknown"
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s left", int(math.Ceil(d.Seconds())))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min left", int(math.Ceil(d.Minutes())))
	}
	return fmt.Sprintf("%.0f h left", d.Hours())
}

// About writes how long something will take, as well as that can be known: "about 12 s", "under a second".
func About(d time.Duration) string {
	if d < time.Second {
		return "under a second"
	}
	return "about " + Trim(Duration(d.Round(time.Second)))
}

// Bytes writes an amount of data in binary units.
func Bytes(n float64) string {
	if math.IsNaN(n) {
		return None
	}
	unit, scale := "B", 1.0
	for _, u := range []string{"KiB", "MiB", "GiB", "TiB"} {
		if math.Abs(n)/scale < 999.5 {
			break
		}
		unit, scale = u, scale*1024
	}
	if unit == "B" {
		return strconv.FormatFloat(math.Round(n), 'f', 0, 64) + " B"
	}
	return Significant(n/scale) + " " + unit
}

// Rate writes something per second: "2 410/s", and "371 M/s" from a million on.
func Rate(perSecond float64) string {
	if math.IsNaN(perSecond) {
		return None
	}
	for _, of := range []struct {
		many   float64
		prefix string
	}{{1e9, " G/s"}, {1e6, " M/s"}} {
		if math.Abs(perSecond) >= of.many {
			return Significant(perSecond/of.many) + of.prefix
		}
	}
	return Significant(perSecond) + "/s"
}

// Count writes a whole number with its thousands set apart.
func Count(n int64) string {
	digits := strconv.FormatInt(n, 10)
	sign := ""
	if n < 0 {
		sign, digits = "-", digits[1:]
	}
	for i := len(digits) - 3; i > 0; i -= 3 {
		digits = digits[:i] + " " + digits[i:]
	}
	return sign + digits
}

// Kept puts words together that are not to be parted by the end of a line: the thousands of a number, and a number and
// its unit.
func Kept(words []string) (out []string) {
	for _, w := range words {
		n := len(out)
		if n > 0 && out[n-1] != "" && isDigit(out[n-1][len(out[n-1])-1]) && (isThousands(w) || isUnit(w)) {
			out[n-1] += " " + w
			continue
		}
		out = append(out, w)
	}
	return out
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// isThousands reports whether a word begins with three digits and no more.
func isThousands(w string) bool {
	return len(w) >= 3 && isDigit(w[0]) && isDigit(w[1]) && isDigit(w[2]) && (len(w) == 3 || !isDigit(w[3]))
}

// isUnit reports whether a word is the unit of the number before it, with whatever ends its sentence.
func isUnit(w string) bool {
	switch strings.TrimRight(w, ".,;:)") {
	case "ns", "µs", "ms", "s", "min", "h", "d", "%", "B", "kB", "MB", "GB", "TB", "KiB", "MiB", "GiB", "TiB":
		return true
	}
	return false
}

// Share writes a fraction as a percentage: "3.1 %". A share that is not nothing is never written as 0.
func Share(frac float64) string {
	switch {
	case math.IsNaN(frac):
		return None
	case frac > 0 && frac < 0.0001:
		return "under 0.01 %"
	}
	return Trim(Significant(frac*100) + " %")
}

// Times writes a ratio of one or more: "3.4x", "12x", "1.02x".
func Times(r float64) string {
	switch {
	case math.IsNaN(r):
		return None
	case r < 1.095:
		return fmt.Sprintf("%.3gx", math.Round(r*1000)/1000)
	case r < 9.95:
		return strconv.FormatFloat(r, 'f', precision(r), 64) + "x"
	case r < 1000:
		return fmt.Sprintf("%.0fx", r)
	}
	return Significant(r) + "x"
}

// precision keeps ratios near one apart and the others short.
func precision(r float64) int {
	if r < 1.995 {
		return 2
	}
	return 1
}

// Significant writes x with three significant digits, without exponent, thousands set apart.
func Significant(x float64) string {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return None
	}
	if x == 0 {
		return "0"
	}
	magnitude := int(math.Floor(math.Log10(math.Abs(x))))
	// Rounding may carry into the next power of ten: 999.6 is 1 000.
	if math.Round(math.Abs(x)*math.Pow(10, float64(2-magnitude))) >= 1000 {
		magnitude++
	}
	if magnitude >= 3 {
		step := math.Pow(10, float64(magnitude-2))
		return Count(int64(math.Round(x/step) * step))
	}
	text := strconv.FormatFloat(x, 'f', 2-magnitude, 64)
	if magnitude < 0 && strings.Contains(text, ".") {
		text = strings.TrimRight(text, "0")
	}
	return text
}

// Trim drops the zeros behind a round figure, for axes: "20.0 ms" becomes "20 ms".
func Trim(text string) string {
	number, unit, _ := strings.Cut(text, " ")
	slash := strings.IndexByte(number, '/')
	if slash >= 0 {
		number, unit = number[:slash], number[slash:]
	} else if unit != "" {
		unit = " " + unit
	}
	if strings.Contains(number, ".") {
		number = strings.TrimRight(strings.TrimRight(number, "0"), ".")
	}
	return number + unit
}

// List joins items as people say them: "a, b and c".
func List(items []string) string {
	if len(items) < 2 {
		return strings.Join(items, "")
	}
	return strings.Join(items[:len(items)-1], ", ") + " and " + items[len(items)-1]
}

// Plural writes a count with its noun: "1 round", "7 rounds".
func Plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	ending := "s"
	if strings.HasSuffix(noun, "s") || strings.HasSuffix(noun, "sh") { // processes, crashes
		ending = "es"
	}
	return Count(int64(n)) + " " + noun + ending
}
