// Package mask hides values that came from the environment in whatever leaves a run: texts, errors, whole documents.
//
// It knows a value in the forms in which programs repeat it: as it is, line by line, escaped for a URL, for JSON and as
// Go quotes it, in hexadecimal, and in base64 whatever stands beside it there. What it puts in a value's place is
// ${NAME}. A Mask does not change and may be used from anywhere; a nil Mask hides nothing. Which values there are, and
// where they leave, is for others to say.
package mask

import (
	"cmp"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"maps"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// Shortest is the length below which a value, or a line of one, is too ordinary to be recognised in a text.
const Shortest = 4

// leastCut is how much of a value has to be left at the end of a text that was cut to be recognised, and longText the
// length from which a text may have been cut without a sign of it.
const (
	leastCut = 6
	longText = 1 << 10
)

// ellipsis stands where texts were cut.
const ellipsis = "…"

// Mask hides the values of some variables.
type Mask struct {
	whole   *strings.Replacer
	encoded []encoded
	cut     []form
}

// form is a text that a value may appear as.
type form struct{ text, mark string }

// encoded is what of a value in base64 does not depend on what stands beside it; before and after say that the
// characters there hold bits of the value, too.
type encoded struct {
	form
	before, after bool
}

// New hides the values, by the names of their variables.
func New(values map[string]string) *Mask {
	m := &Mask{}
	var pairs []string
	var forms []form
	for _, name := range slices.Sorted(maps.Keys(values)) {
		mark := "${" + name + "}"
		pairs = append(pairs, mark, mark) // what is hidden already stays as it is
		value := values[name]
		parts := append([]string{value}, strings.Split(value, "\n")...)
		if u, err := url.Parse(value); err == nil && u.User != nil { // an address whose password may be told without it
			password, _ := u.User.Password()
			parts = append(parts, password)
		}
		for _, part := range parts {
			if part = strings.TrimRight(part, "\r"); len(part) < Shortest {
				continue
			}
			for _, text := range formsOf(part) {
				forms = append(forms, form{text, mark})
			}
			m.cut = append(m.cut, form{part, mark})
			m.encoded = append(m.encoded, encodedOf(part, mark)...)
		}
	}
	// The longest first, so that no part of a value hides the rest from us.
	slices.SortStableFunc(forms, func(a, b form) int { return cmp.Compare(len(b.text), len(a.text)) })
	slices.SortStableFunc(m.encoded, func(a, b encoded) int { return cmp.Compare(len(b.text), len(a.text)) })
	if len(forms) == 0 {
		return m
	}
	for _, f := range forms {
		pairs = append(pairs, f.text, f.mark)
	}
	m.whole = strings.NewReplacer(pairs...)
	return m
}

// formsOf lists the texts that a value appears as, but for base64.
func formsOf(value string) (out []string) {
	asJSON, _ := json.Marshal(value) // a text can always be written
	quoted, plain := strconv.Quote(value), strings.Trim(string(asJSON), `"`)
	unescaped := strings.NewReplacer(`\u003c`, "<", `\u003e`, ">", `\u0026`, "&").Replace(plain)
	query, path := url.QueryEscape(value), url.PathEscape(value)
	out = []string{
		value, plain, unescaped, strings.ReplaceAll(plain, "/", `\/`), quoted[1 : len(quoted)-1],
		query, lowerEscapes(query), path, lowerEscapes(path), strings.ReplaceAll(query, "+", "%20"),
		hex.EncodeToString([]byte(value)), strings.ToUpper(hex.EncodeToString([]byte(value))),
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// lowerEscapes writes %2F as %2f.
func lowerEscapes(text string) string {
	out := []byte(text)
	for i := range out {
		if out[i] == '%' {
			copy(out[i:], strings.ToLower(text[i:min(i+3, len(text))]))
		}
	}
	return string(out)
}

// encodedOf is a value in base64, for each place in a group of three bytes at which it may begin.
func encodedOf(value, mark string) (out []encoded) {
	const bitsByte, bitsSign = 8, 6
	for lead := range 3 {
		bytes := append(make([]byte, lead), value...)
		from := (lead*bitsByte + bitsSign - 1) / bitsSign
		to := len(bytes) * bitsByte / bitsSign
		for _, alphabet := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
			e := encoded{form{alphabet.EncodeToString(bytes)[from:to], mark}, lead > 0, len(bytes)*bitsByte%bitsSign > 0}
			if !slices.Contains(out, e) {
				out = append(out, e)
			}
		}
	}
	return out
}

// Text is a text with every value hidden, and what is left of one at an end where the text may have been cut.
func (m *Mask) Text(text string) string {
	if m == nil || m.whole == nil || text == "" {
		return text
	}
	text = m.whole.Replace(text)
	for _, e := range m.encoded {
		text = e.hide(text)
	}
	long := len(text) >= longText
	if !long && !strings.Contains(text, ellipsis) {
		return text
	}
	parts := strings.Split(text, ellipsis)
	for i, part := range parts {
		if i > 0 || long {
			part = m.hideEnd(part)
		}
		if i < len(parts)-1 || long {
			part = m.hideStart(part)
		}
		parts[i] = part
	}
	return strings.Join(parts, ellipsis)
}

// hide puts the mark in place of the value and of the signs beside it that hold some of it.
func (e encoded) hide(text string) string {
	for from := 0; ; {
		at := strings.Index(text[from:], e.text)
		if at < 0 {
			return text
		}
		at += from
		end := at + len(e.text)
		if e.before && at > from && isSign(text[at-1]) {
			at--
		}
		if e.after && end < len(text) && isSign(text[end]) {
			end++
		}
		for end < len(text) && text[end] == '=' {
			end++
		}
		text = text[:at] + e.mark + text[end:]
		from = at + len(e.mark)
	}
}

// isSign reports whether a character is one of base64's.
func isSign(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("+/-_", c) >= 0
}

// hideStart hides the beginning of a value that a text ends with, hideEnd the end of one that it begins with.
func (m *Mask) hideStart(text string) string {
	for _, f := range m.cut {
		for n := min(len(f.text)-1, len(text)); n >= leastCut; n-- {
			if strings.HasSuffix(text, f.text[:n]) {
				return text[:len(text)-n] + f.mark
			}
		}
	}
	return text
}

func (m *Mask) hideEnd(text string) string {
	for _, f := range m.cut {
		for n := min(len(f.text)-1, len(text)); n >= leastCut; n-- {
			if strings.HasPrefix(text, f.text[len(f.text)-n:]) {
				return f.mark + text[n:]
			}
		}
	}
	return text
}

// Error is err with every value hidden in its words; what it is and what caused it can still be asked.
func (m *Mask) Error(err error) error {
	if err == nil {
		return nil
	}
	text := m.Text(err.Error())
	if text == err.Error() {
		return err
	}
	return &masked{text, err}
}

// masked is an error in other words.
type masked struct {
	text string
	err  error
}

func (e *masked) Error() string { return e.text }
func (e *masked) Unwrap() error { return e.err }

// Tag is the key of a field's tag that says whose its texts are: Ours, or a name of the plan's, which takes no
// variables. All leaves such fields alone; any other text is taken to be somebody else's.
const Tag = "text"

// What Tag may say.
const (
	Ours = "ours" // words, numbers and encodings that this program makes
	Name = "name" // by which things are known in the plan
)

// All hides every value in all texts that v, a pointer, leads to, maps' keys included, but for fields tagged as ours.
func (m *Mask) All(v any) {
	if m != nil && m.whole != nil {
		Others(v, m.Text)
	}
}

// Others replaces the texts that v, a pointer, leads to, but for fields tagged as ours, by what change makes of them.
func Others(v any, change func(string) string) { walker{change, true}.walk(reflect.ValueOf(v)) }

// Each replaces all texts that v, a pointer, leads to, maps' keys and tagged fields included, by what change makes of
// them.
func Each(v any, change func(string) string) { walker{change, false}.walk(reflect.ValueOf(v)) }

// walker goes through all texts of a value.
type walker struct {
	change func(string) string
	tags   bool // fields with one are left alone
}

func (w walker) walk(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			w.walk(v.Elem())
		}
	case reflect.Interface:
		if v.IsNil() || !v.CanSet() {
			return
		}
		own := reflect.New(v.Elem().Type()).Elem()
		own.Set(v.Elem())
		w.walk(own)
		v.Set(own)
	case reflect.Struct:
		for _, i := range fieldsOf(v.Type(), w.tags) {
			w.walk(v.Field(i))
		}
	case reflect.Slice, reflect.Array:
		if v.Kind() == reflect.Slice && v.Type().Elem().Kind() == reflect.Uint8 {
			w.set(v, string(v.Bytes()), func(now string) { v.SetBytes([]byte(now)) })
			return
		}
		if textual(v.Type().Elem()) {
			for i := range v.Len() {
				w.walk(v.Index(i))
			}
		}
	case reflect.Map:
		w.walkMap(v)
	case reflect.String:
		w.set(v, v.String(), v.SetString)
	}
}

// fields are those of a struct that may lead to texts: all, or those without a tag. A result has tens of thousands of
// structs of a few types.
type fields struct{ all, untagged []int }

var fieldsByType sync.Map // from reflect.Type to fields

func fieldsOf(t reflect.Type, tags bool) []int {
	known, ok := fieldsByType.Load(t)
	if !ok {
		var own fields
		for i := range t.NumField() {
			f := t.Field(i)
			if !f.IsExported() || !textual(f.Type) {
				continue
			}
			own.all = append(own.all, i)
			if f.Tag.Get(Tag) == "" {
				own.untagged = append(own.untagged, i)
			}
		}
		known, _ = fieldsByType.LoadOrStore(t, own)
	}
	if tags {
		return known.(fields).untagged
	}
	return known.(fields).all
}

func (w walker) set(v reflect.Value, text string, set func(string)) {
	if now := w.change(text); v.CanSet() && now != text {
		set(now)
	}
}

func (w walker) walkMap(v reflect.Value) {
	for _, key := range v.MapKeys() {
		own, value := reflect.New(key.Type()).Elem(), reflect.New(v.Type().Elem()).Elem()
		own.Set(key)
		value.Set(v.MapIndex(key))
		w.walk(own)
		w.walk(value)
		if own.Interface() != key.Interface() {
			v.SetMapIndex(key, reflect.Value{})
		}
		v.SetMapIndex(own, value)
	}
}

// textual reports whether values of a type may hold texts; most of what documents hold are numbers.
func textual(t reflect.Type) bool {
	switch t.Kind() {
	case reflect.Bool, reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64, reflect.Uint,
		reflect.Uint16,
		reflect.Uint32, reflect.Uint64, reflect.Float32, reflect.Float64:
		return false
	case reflect.Array:
		return textual(t.Elem())
	}
	return true
}
