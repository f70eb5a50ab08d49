package look

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"paceduel/core/units"
)

// Frame is a whole frame as it may go to the terminal: of what a terminal obeys, it has ends of lines and the sequences
// that set colours and weight, and nothing else, whatever the texts in it were.
func Frame(text string) string {
	if frameIsClean(text) {
		return text
	}
	var out strings.Builder
	out.Grow(len(text))
	for i := 0; i < len(text); {
		if n := styling(text[i:]); n > 0 {
			out.WriteString(text[i : i+n])
			i += n
			continue
		}
		r, size := utf8.DecodeRuneInString(text[i:])
		if r == '\n' {
			out.WriteByte('\n')
		} else {
			out.WriteString(units.Printable(text[i : i+size]))
		}
		i += size
	}
	return out.String()
}

// frameIsClean finds in one go that there is nothing to take out, as there hardly ever is.
func frameIsClean(text string) bool {
	for i := 0; i < len(text); {
		switch c := text[i]; {
		case c >= ' ' && c < 0x7f || c == '\n':
			i++
		case c == 0x1b:
			n := styling(text[i:])
			if n == 0 {
				return false
			}
			i += n
		default:
			r, size := utf8.DecodeRuneInString(text[i:])
			if c < utf8.RuneSelf || r == utf8.RuneError || unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp) {
				return false
			}
			i += size
		}
	}
	return true
}

// styling is the length of a sequence that sets colours or weight at the start of text; 0 for anything else.
func styling(text string) int {
	if !strings.HasPrefix(text, "\x1b[") {
		return 0
	}
	for i := 2; i < len(text); i++ {
		switch c := text[i]; {
		case c >= '0' && c <= '9' || c == ';' || c == ':':
		case c == 'm':
			return i + 1
		default:
			return 0
		}
	}
	return 0
}
