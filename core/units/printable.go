package units

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Whatever a contender, a file or a stranger's result says may hold what a terminal obeys: sequences that move the
// cursor or change colours, in their seven-bit form and their eight-bit one, and signs that turn the direction of what
// follows. None of that is let through anywhere.

// dot stands for what is not let through.
const dot = '·'

// Printable is a text of somebody else's made fit for a line of a terminal: what a terminal would obey becomes a dot, a
// tab or an end of line a space.
func Printable(text string) string {
	return strings.Map(func(r rune) rune {
		if r == '\t' || r == '\n' || r == '\r' || r == '\u2028' || r == '\u2029' {
			return ' '
		}
		return harmless(r)
	}, text)
}

// PrintableLines is Printable for a text of several lines: their ends and tabs stay.
func PrintableLines(text string) string {
	if clean([]byte(text)) {
		return text
	}
	return strings.Map(func(r rune) rune {
		if r == '\t' || r == '\n' {
			return r
		}
		return harmless(r)
	}, strings.ReplaceAll(text, "\r\n", "\n"))
}

// harmless is r, or a dot in place of what a terminal may obey or what hides or turns what stands beside it.
func harmless(r rune) rune {
	if unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp) || r == utf8.RuneError {
		return dot
	}
	return r
}

// clean reports whether a text is plain ASCII, which most are, with nothing in it to be made harmless.
func clean(text []byte) bool {
	return !bytes.ContainsFunc(text, func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' || r >= 0x7f })
}

// PrintableWriter writes texts of several lines as PrintableLines makes them. What is written in one call begins and
// ends with whole characters.
type PrintableWriter struct{ To io.Writer }

// Write implements io.Writer.
func (w PrintableWriter) Write(p []byte) (int, error) {
	if _, err := io.WriteString(w.To, PrintableLines(string(p))); err != nil {
		return 0, err
	}
	return len(p), nil
}

// JSONWriter writes JSON with escapes in place of what a terminal may obey: a reader of JSON finds the same. What is
// written in one call begins and ends with whole characters.
type JSONWriter struct{ To io.Writer }

// Write implements io.Writer.
func (w JSONWriter) Write(p []byte) (int, error) {
	if clean(p) {
		return w.To.Write(p)
	}
	var out bytes.Buffer
	for i := 0; i < len(p); {
		r, size := utf8.DecodeRune(p[i:])
		switch {
		case r == '\n' || r == '\t' || r == utf8.RuneError || harmless(r) == r:
			out.Write(p[i : i+size])
		case r > 0xffff:
			high, low := utf16Pair(r)
			fmt.Fprintf(&out, "\\u%04x\\u%04x", high, low)
		default: // it can stand within a text alone
			fmt.Fprintf(&out, "\\u%04x", r)
		}
		i += size
	}
	if _, err := w.To.Write(out.Bytes()); err != nil {
		return 0, err
	}
	return len(p), nil
}

func utf16Pair(r rune) (high, low rune) {
	r -= 0x10000
	return 0xd800 + r>>10, 0xdc00 + r&0x3ff
}
