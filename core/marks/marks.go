// Package marks reads times and amounts that a contender tells of itself out of what it printed or answered.
//
// A Reader is made from the plan's marks and used for one shot after another. It reads after a shot's time has been
// taken, never within. What is no number in the expected place is passed over: a contender that does not tell something
// has no such figure. Where the text comes from is left to drivers.
package marks

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"github.com/go-openapi/jsonpointer"

	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/units"
)

// MaxText is how much of a text is read, in bytes; MaxLine how long a line may be.
const (
	MaxText = 1 << 20
	MaxLine = 64 << 10
)

// MostTold bounds an amount of one shot, in its unit.
const MostTold = 1e15

// Reader reads the marks of one contender. It is not safe for concurrent use.
type Reader struct {
	marks []mark
	froms map[string]bool // places that are looked at
}

type mark struct {
	name    string
	kept    units.Unit // that its values are kept in
	from    string
	header  string
	pattern *regexp.Regexp
	pointer *jsonpointer.Pointer
	where   []condition
	unit    string
	sum     []int // of these marks

	seen  bool // since Begin
	value float64
}

// condition is what has to stand somewhere in a line of JSON.
type condition struct {
	at   jsonpointer.Pointer
	want string
}

// New makes a reader of marks that plan.Marks.Check found nothing wrong with; first is the place that is meant where
// none is named. It is nil without marks.
func New(m plan.Marks, first string) *Reader {
	if len(m) == 0 {
		return nil
	}
	r := &Reader{froms: map[string]bool{}}
	at := map[string]int{}
	for _, name := range m.Names() {
		said := m[name]
		one := mark{name: name, kept: m.UnitName(name), from: said.From, header: said.Header, unit: said.Unit}
		if one.from == "" {
			one.from = first
		}
		if one.unit == "" {
			one.unit = "ms"
		}
		switch {
		case len(said.Sum) > 0:
			one.from = ""
			for _, part := range said.Sum {
				one.sum = append(one.sum, at[part])
			}
		case said.Pattern != "":
			one.pattern = regexp.MustCompile(said.Pattern)
		case said.Pointer != "":
			one.pointer = pointer(said.Pointer)
		}
		for path, want := range said.Where {
			one.where = append(one.where, condition{*pointer(path), string(want)})
		}
		if one.from != "" {
			r.froms[one.from] = true
		}
		at[name] = len(r.marks)
		r.marks = append(r.marks, one)
	}
	return r
}

func pointer(text string) *jsonpointer.Pointer {
	p, err := jsonpointer.New(text)
	if err != nil {
		panic("marks: " + err.Error()) // the plan was refused if it is none
	}
	return &p
}

// Reads reports whether any mark stands in a place: stdout, stderr, body, header, line.
func (r *Reader) Reads(from string) bool { return r != nil && r.froms[from] }

// Begin forgets what the shot before told.
func (r *Reader) Begin() {
	for i := range r.marks {
		r.marks[i].seen, r.marks[i].value = false, 0
	}
}

// Lines reads a text line by line. A mark that stands in it several times is added up.
func (r *Reader) Lines(from string, text []byte) {
	for line := range bytes.Lines(text[:min(len(text), MaxText)]) {
		r.Line(from, bytes.TrimRight(line, "\r\n"))
	}
}

// Line reads one line, which may be JSON.
func (r *Reader) Line(from string, line []byte) {
	r.match(from, line)
	if len(line) <= MaxLine {
		r.point(from, line)
	}
}

// Whole reads a text that is one document: patterns in its lines, pointers into it as a whole.
func (r *Reader) Whole(from string, text []byte) {
	text = text[:min(len(text), MaxText)]
	for line := range bytes.Lines(text) {
		r.match(from, bytes.TrimRight(line, "\r\n"))
	}
	r.point(from, text)
}

// match looks for patterns in a line.
func (r *Reader) match(from string, line []byte) {
	if len(line) == 0 || len(line) > MaxLine {
		return
	}
	for i := range r.marks {
		if m := &r.marks[i]; m.from == from && m.pattern != nil {
			if found := m.pattern.FindSubmatch(line); found != nil {
				m.add(string(found[1]))
			}
		}
	}
}

// point follows pointers into a text, if it is JSON.
func (r *Reader) point(from string, text []byte) {
	var value any
	parsed := false
	for i := range r.marks {
		if m := &r.marks[i]; m.from == from && m.pointer != nil {
			if !parsed {
				value, parsed = decode(text), true
			}
			m.find(value)
		}
	}
}

// Header reads the headers of an answer.
func (r *Reader) Header(get func(name string) string) {
	for i := range r.marks {
		m := &r.marks[i]
		if m.from != "header" {
			continue
		}
		text := get(m.header)
		if m.pattern != nil {
			found := m.pattern.FindStringSubmatch(text)
			if found == nil {
				continue
			}
			text = found[1]
		}
		m.add(text)
	}
}

// decode reads JSON; nil when it is none. Numbers keep their text.
func decode(text []byte) any {
	text = bytes.TrimSpace(text)
	if len(text) == 0 || text[0] != '{' && text[0] != '[' {
		return nil
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var value any
	if d.Decode(&value) != nil {
		return nil
	}
	return value
}

func (m *mark) find(value any) {
	if value == nil {
		return
	}
	for _, c := range m.where {
		if got, _, err := c.at.Get(value); err != nil || fmt.Sprint(got) != c.want {
			return
		}
	}
	if got, _, err := m.pointer.Get(value); err == nil {
		m.add(fmt.Sprint(got))
	}
}

// add adds a number, which may have its own unit behind it.
func (m *mark) add(text string) {
	text = strings.TrimSpace(text)
	n := 0
	for n < len(text) && (text[n] >= '0' && text[n] <= '9' || strings.IndexByte("+-.eE", text[n]) >= 0) {
		n++
	}
	for n > 0 { // the e of a unit is none of a number
		if v, err := strconv.ParseFloat(text[:n], 64); err == nil {
			unit := strings.TrimSpace(text[n:])
			if of, _ := plan.UnitOf(m.unit); unit == "" || of == plan.Counted {
				unit = m.unit
			} else if own, _ := plan.UnitOf(unit); own != of {
				return // a time where data is expected
			}
			if v >= 0 {
				m.seen, m.value = true, min(m.value+plan.InBaseUnit(v, unit), MostTold)
			}
			return
		}
		n--
	}
}

// Into adds what was read since Begin, sums last. A sum of which nothing was told is not told.
func (r *Reader) Into(out *shots.Marks) {
	for i := range r.marks {
		m := &r.marks[i]
		for _, part := range m.sum {
			if r.marks[part].seen {
				m.seen, m.value = true, m.value+r.marks[part].value
			}
		}
		if m.seen {
			out.Add([]byte(m.name), m.kept, m.value)
		}
	}
}

// List is the same as a list.
func (r *Reader) List() []shots.Mark {
	var all shots.Marks
	r.Into(&all)
	return all.List()
}
