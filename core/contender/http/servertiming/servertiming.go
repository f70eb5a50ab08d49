// Package servertiming reads the Server-Timing header field (W3C), in which a service tells where an answer's time
// went.
//
// It reads one field value without allocating. What becomes of the times is left to whoever calls it.
package servertiming

import (
	"bytes"
	"strconv"
	"time"
	"unsafe"
)

// Longest is the most that one entry may say; longer ones are left out, as are negative ones.
const Longest = time.Hour

// Read calls add for each entry of a field value that has a duration, in its order: cache;dur=2.5,
// db;dur=53;desc="rows". Durations are in milliseconds. What cannot be read is skipped up to the next comma, as the
// standard wants it. The name is only valid during the call.
func Read(value []byte, add func(name []byte, took time.Duration)) {
	for len(value) > 0 {
		value = trim(value)
		var name []byte
		name, value = token(value)
		took, known := time.Duration(0), false
		value = trim(value)
		for len(value) > 0 && value[0] == ';' {
			var param, text []byte
			param, value = token(trim(value[1:]))
			value = trim(value)
			if len(value) > 0 && value[0] == '=' {
				text, value = word(trim(value[1:]))
				value = trim(value)
			}
			if !known && bytes.EqualFold(param, durName) { // the first of a name counts
				took, known = milliseconds(text)
			}
		}
		if len(name) > 0 && known && (len(value) == 0 || value[0] == ',') {
			add(name, took)
		}
		value = after(value)
	}
}

var durName = []byte("dur")

// milliseconds reads a duration.
func milliseconds(text []byte) (time.Duration, bool) {
	if len(text) == 0 || len(text) > 24 {
		return 0, false
	}
	// The conversion allocates nothing: the text is not kept.
	ms, err := strconv.ParseFloat(unsafe.String(&text[0], len(text)), 64)
	if err != nil || !(ms >= 0 && ms <= float64(Longest/time.Millisecond)) {
		return 0, false
	}
	return time.Duration(ms * float64(time.Millisecond)), true
}

func trim(p []byte) []byte { return bytes.TrimLeft(p, " \t") }

// token takes a token (RFC 9110, 5.6.2) off the front; empty when there is none.
func token(p []byte) (name, rest []byte) {
	n := 0
	for n < len(p) && isToken(p[n]) {
		n++
	}
	return p[:n], p[n:]
}

func isToken(c byte) bool {
	switch {
	case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9':
		return true
	}
	return bytes.IndexByte([]byte("!#$%&'*+-.^_`|~"), c) >= 0
}

// word takes a token or a quoted text off the front, which it returns without its quotes.
func word(p []byte) (text, rest []byte) {
	if len(p) == 0 || p[0] != '"' {
		return token(p)
	}
	for i := 1; i < len(p); i++ {
		switch p[i] {
		case '\\':
			i++
		case '"':
			return p[1:i], p[i+1:]
		}
	}
	return nil, nil
}

// after is what follows the next comma that stands outside quotes.
func after(p []byte) []byte {
	quoted := false
	for i := 0; i < len(p); i++ {
		switch {
		case p[i] == '\\' && quoted:
			i++
		case p[i] == '"':
			quoted = !quoted
		case p[i] == ',' && !quoted:
			return p[i+1:]
		}
	}
	return nil
}
