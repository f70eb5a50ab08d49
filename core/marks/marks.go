// Package marks reads times and amounts that a contender tells of itself out of what it printed or answered.
//
// A Reader is made from the plan's marks and used for one shot after another. It reads after a shot's time has been
// taken, never within. What is no number in the expected place is passed over: a contender that does not tell something
// has no such figure. Where the text comes from is left to drivers.
package marks

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"math"
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
	counts  bool    // what the pattern matches
	amount  float64 // of every shot; 0: none
	sum     []part  // of these marks
	longest []part
	count   []part

	// Since Begin.
	times   int // that it was told
	value   float64
	largest float64
	odd     string // what was found instead of an amount of its kind
}

// part is a mark that another follows from: one of the reader's, or one that the contender told by itself.
type part struct {
	at   int
	told string // its name; empty for one of the reader's
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
			one.unit = m.Unit(name)
		}
		parts := func(names plan.Lines) (out []part) {
			for _, name := range names {
				own, ok := at[name]
				if !ok {
					out = append(out, part{told: strings.TrimPrefix(name, plan.ToldBySelf)})
					continue
				}
				out = append(out, part{at: own})
			}
			return out
		}
		one.counts = said.Counts()
		one.sum, one.longest, one.count = parts(said.Sum), parts(said.Longest), parts(said.Count)
		switch {
		case len(said.Sum)+len(said.Longest)+len(said.Count) > 0:
			one.from = ""
		case said.Amount != "":
			amount, unit, _ := plan.ReadAmount(string(said.Amount))
			one.from, one.amount = "", plan.InBaseUnit(amount, cmp.Or(unit, one.unit))
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
		m := &r.marks[i]
		m.times, m.value, m.largest, m.odd = 0, 0, 0, ""
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
			if m.counts {
				if m.pattern.Match(line) {
					m.enter(1)
				}
			} else if found := m.pattern.FindSubmatch(line); found != nil {
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
			if m.counts {
				m.enter(1)
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
	v, unit, ok := plan.ReadAmount(text)
	if !ok {
		return
	}
	if of, _ := plan.UnitOf(m.unit); unit == "" || of == plan.Counted {
		unit = m.unit
	} else if own, _ := plan.UnitOf(unit); own != of {
		m.odd = strings.TrimSpace(text) // data where a time is expected
		return
	}
	m.enter(plan.InBaseUnit(v, unit))
}

func (m *mark) enter(v float64) {
	m.times++
	m.value, m.largest = min(m.value+v, MostTold), max(m.largest, min(v, MostTold))
}

// Into adds what was read since Begin to what the contender told by itself, what follows from others last. A sum of
// which a part is missing is not told.
func (r *Reader) Into(out *shots.Marks) {
	for i := range r.marks {
		m := &r.marks[i]
		switch {
		case m.amount > 0:
			m.enter(m.amount)
		case len(m.sum) > 0:
			if sum, ok := r.total(m.sum, out); ok {
				m.enter(sum)
			}
		case len(m.longest) > 0:
			if most := r.most(m.longest, out); !math.IsNaN(most) {
				m.enter(most)
			}
		case len(m.count) > 0:
			for _, p := range m.count {
				m.value += float64(r.marks[p.at].times)
			}
			m.times = 1
		}
		if m.times > 0 || m.counts {
			out.Add([]byte(m.name), m.kept, m.value)
		}
	}
}

// total adds up parts; ok is false unless all were told.
func (r *Reader) total(parts []part, out *shots.Marks) (sum float64, ok bool) {
	for _, p := range parts {
		v, told := r.valueOf(p, out)
		if !told {
			return 0, false
		}
		sum += v
	}
	return sum, true
}

// most is the largest that was told at once of any of the parts; NaN where none was.
func (r *Reader) most(parts []part, out *shots.Marks) float64 {
	most := math.NaN()
	for _, p := range parts {
		v, told := r.valueOf(p, out)
		if !told {
			continue
		}
		if p.told == "" {
			v = r.marks[p.at].largest
		}
		if !(v <= most) {
			most = v
		}
	}
	return most
}

func (r *Reader) valueOf(p part, out *shots.Marks) (v float64, told bool) {
	if p.told == "" {
		m := &r.marks[p.at]
		return m.value, m.times > 0 || m.counts
	}
	for _, m := range out.List() {
		if m.Name == p.told && m.Unit == units.Second {
			return m.Value, true
		}
	}
	return 0, false
}

// Untold says in words which marks the last shot did not tell, and why as far as that is known.
func (r *Reader) Untold() (lines []string) {
	if r == nil {
		return nil
	}
	for i := range r.marks {
		switch m := &r.marks[i]; {
		case m.odd != "":
			lines = append(lines, fmt.Sprintf(
				"mark %s is not told: %s is not in a unit of its kind (%s); set unit:", m.name, strconv.Quote(m.odd), m.unit,
			))
		case m.times > 0 || m.counts:
		case m.pattern != nil:
			lines = append(lines, fmt.Sprintf("mark %s is not told: nothing in %s matches %s", m.name, m.from, m.pattern))
		case m.pointer != nil:
			lines = append(lines, fmt.Sprintf("mark %s is not told: no number stands at %s in %s", m.name, m.pointer, m.from))
		case m.header != "":
			lines = append(lines, fmt.Sprintf("mark %s is not told: there is no header %s", m.name, m.header))
		default:
			lines = append(lines, fmt.Sprintf("mark %s is not told, since a part of it is missing", m.name))
		}
	}
	return lines
}

// List is the same as a list.
func (r *Reader) List() []shots.Mark {
	var all shots.Marks
	r.Into(&all)
	return all.List()
}
