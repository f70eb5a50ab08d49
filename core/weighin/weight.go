package weighin

import (
	"bytes"
	"cmp"
	"encoding/json"
	"slices"

	"paceduel/core/result"
)

const (
	maxWeighed = 64 << 20 // bytes of JSON that are taken apart
	maxParts   = 60       // of an answer, the heaviest ones
)

// Weigh tells what the bytes of a JSON answer are made of: for each member by path, with lists folded
// (berths[].vessel), the bytes that it takes, its name and punctuation included. The parts add up to the whole; the
// lightest are put together as "other". Nil for what is no JSON object or list.
func Weigh(body []byte) []result.Part {
	if len(body) == 0 || len(body) > maxWeighed || body[0] != '{' && body[0] != '[' || isDeep(body) {
		return nil
	}
	w := weighing{dec: json.NewDecoder(bytes.NewReader(body)), bytes: map[string]int64{}, counts: map[string]int64{}}
	w.dec.UseNumber()
	if !w.value("", 0) {
		return nil
	}
	w.charge("", int64(len(body))) // white space at the end, and what stands around the members
	parts := make([]result.Part, 0, len(w.bytes))
	for path, n := range w.bytes {
		if n > 0 {
			parts = append(parts, result.Part{Path: path, Bytes: n, Count: w.counts[path]})
		}
	}
	slices.SortFunc(
		parts, func(a, b result.Part) int { return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Path, b.Path)) },
	)
	if len(parts) > maxParts {
		other := result.Part{Path: otherPath}
		for _, p := range parts[maxParts-1:] {
			other.Bytes, other.Count = other.Bytes+p.Bytes, other.Count+p.Count
		}
		parts = append(parts[:maxParts-1], other)
	}
	return parts
}

// otherPath stands for all members that are not told apart.
const otherPath = "other"

// weighing charges bytes to paths while it reads: at each step those since the last one.
type weighing struct {
	dec     *json.Decoder
	charged int64
	bytes   map[string]int64
	counts  map[string]int64
}

// charge gives a path the bytes up to an offset.
func (w *weighing) charge(path string, to int64) {
	if _, known := w.bytes[path]; !known && len(w.bytes) >= maxPaths {
		path = otherPath
	}
	w.bytes[path] += to - w.charged
	w.charged = to
}

// value reads one value; false means that the text is no JSON.
func (w *weighing) value(path string, deep int) bool {
	token, err := w.dec.Token()
	if err != nil {
		return false
	}
	if _, known := w.bytes[path]; known || len(w.bytes) < maxPaths {
		w.counts[path]++
	}
	delim, ok := token.(json.Delim)
	if !ok {
		w.charge(path, w.dec.InputOffset())
		return true
	}
	w.charge(path, w.dec.InputOffset())
	for w.dec.More() {
		member := path + "[]"
		if delim == '{' {
			name, err := w.dec.Token()
			if err != nil {
				return false
			}
			text, _ := name.(string) // a name is always a string
			member = text
			if path != "" {
				member = path + "." + text
			}
		}
		if deep >= maxFolded {
			member = path
		}
		if !w.value(member, deep+1) {
			return false
		}
	}
	if _, err := w.dec.Token(); err != nil {
		return false
	}
	w.charge(path, w.dec.InputOffset())
	return true
}
