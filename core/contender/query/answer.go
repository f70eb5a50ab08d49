package query

import (
	"encoding/hex"
	"encoding/json"
	"slices"
	"strconv"
	"strings"

	"paceduel/core/contender/query/database"
)

// answer is the rows of a shot as JSON: a list of objects, whose members are the columns.
type answer struct {
	text []byte
	rows int64
}

// add writes rows as they came.
func (a *answer) add(k *kept) {
	names := distinct(k.columns)
	for i := range k.count() {
		a.object(names, k.row(i))
	}
}

// merge writes what a mapping layer makes of a row and of those that were asked for it: one for each of these, or the
// row alone where there is none.
func (a *answer) merge(columns []string, row []database.Value, inner *kept) {
	if inner.count() == 0 {
		names, values := slices.Clone(columns), slices.Clone(row)
		for _, name := range inner.columns {
			if !slices.Contains(names, name) {
				names, values = append(names, name), append(values, database.Value{})
			}
		}
		a.object(distinct(names), values)
		return
	}
	for i := range inner.count() {
		var names []string
		var values []database.Value
		for j, name := range columns {
			if !slices.Contains(inner.columns, name) {
				names, values = append(names, name), append(values, row[j])
			}
		}
		names, values = append(names, inner.columns...), append(values, inner.row(i)...)
		a.object(distinct(names), values)
	}
}

// distinct are names of which none stands twice: JSON would keep the last alone.
func distinct(names []string) []string {
	out := slices.Clone(names)
	for i, name := range out {
		for n := 2; slices.Contains(out[:i], out[i]); n++ {
			out[i] = name + " " + strconv.Itoa(n)
		}
	}
	return out
}

func (a *answer) object(names []string, values []database.Value) {
	if a.rows > 0 {
		a.text = append(a.text, ',')
	}
	a.rows++
	a.text = append(a.text, '{')
	for i, name := range names {
		if i > 0 {
			a.text = append(a.text, ',')
		}
		a.text = append(appendString(a.text, name), ':')
		a.text = appendJSON(a.text, &values[i])
	}
	a.text = append(a.text, '}')
}

// answer is all of it.
func (w *work) answer() []byte {
	out := make([]byte, 0, len(w.parts.text)+2)
	out = append(out, '[')
	out = append(out, w.parts.text...)
	return append(out, ']')
}

func appendJSON(to []byte, v *database.Value) []byte {
	switch v.Type {
	case database.Null:
		return append(to, "null"...)
	case database.Bool:
		return strconv.AppendBool(to, v.Int != 0)
	case database.Int:
		return v.AppendText(to)
	case database.Float, database.Number:
		text := v.AppendText(nil)
		if json.Valid(text) {
			return append(to, text...)
		}
		return appendString(to, string(text)) // NaN and its like
	case database.JSON:
		if json.Valid(v.Bytes) {
			return append(to, v.Bytes...)
		}
	case database.Blob:
		return appendString(to, `\x`+hex.EncodeToString(v.Bytes))
	}
	return appendString(to, string(v.Bytes))
}

func appendString(to []byte, text string) []byte {
	out, err := json.Marshal(strings.ToValidUTF8(text, "\uFFFD"))
	if err != nil {
		return append(to, `""`...) // no text is refused
	}
	return append(to, out...)
}

// joined is a list of names for people.
func joined(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}
