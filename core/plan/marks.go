package plan

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/invopop/jsonschema"

	"paceduel/core/figure"
	"paceduel/core/units"
)

// Mark says where a time or an amount is read from what a contender prints or answers: by a pattern or by a JSON
// Pointer; or that it is the sum of others.
type Mark struct {
	Pattern string          `json:"pattern,omitempty" jsonschema_description:"a regular expression for a line, whose first group is the number, with its unit or without"`
	Pointer string          `json:"pointer,omitempty" jsonschema_description:"a JSON Pointer to the number, in an answer or in every line that is JSON"`
	Where   map[string]Word `json:"where,omitempty" jsonschema_description:"with pointer: JSON Pointers and what has to stand there, as /mark: render"`
	From    string          `json:"from,omitempty" jsonschema:"enum=stdout,enum=stderr,enum=body,enum=header" jsonschema_description:"where it stands: stdout or stderr of a command, body or header of an answer; stdout or body unless said"`
	Header  string          `json:"header,omitempty" jsonschema_description:"with from: header, which; its whole value is the number unless a pattern says otherwise"`
	Unit    string          `json:"unit,omitempty" jsonschema_description:"of a number without: ns, us, ms, s, min, B, KiB, MiB, or a word for what is counted; ms unless said"`
	Sum     Lines           `json:"sum,omitempty" jsonschema_description:"the marks that it is the sum of: cost that moved from one to another stays in it"`
}

// Marks are marks by their names.
type Marks map[string]Mark

// MaxMarks is how many marks a contender may have.
const MaxMarks = 16

// Short reads a mark written as its pattern.
func (m *Mark) Short(text string) { m.Pattern = text }

// JSONSchema describes a mark for the published schema.
func (Mark) JSONSchema() *jsonschema.Schema {
	type keys Mark // without this method
	r := jsonschema.Reflector{Anonymous: true, DoNotReference: true, RequiredFromJSONSchemaTags: true}
	whole := r.Reflect(keys{})
	whole.Version = ""
	return &jsonschema.Schema{
		Description: "where a time or an amount is read from what a contender prints or answers; a text alone is its pattern",
		OneOf:       []*jsonschema.Schema{{Type: "string", MinLength: new(uint64(1))}, whole},
	}
}

// String says where a mark is read, in a few words.
func (m Mark) String() string {
	text := "the sum of " + strings.Join(m.Sum, " and ")
	switch {
	case m.Pattern != "":
		text = m.Pattern
	case m.Pointer != "":
		text = m.Pointer
		for _, at := range slices.Sorted(maps.Keys(m.Where)) {
			text += fmt.Sprintf(" where %s is %s", at, m.Where[at])
		}
	case m.Header != "":
		text = ""
	}
	switch {
	case m.Header != "":
		text = strings.TrimSpace(text + " in header " + m.Header)
	case m.From != "":
		text += " from " + m.From
	}
	if m.Unit != "" {
		text += ", in " + m.Unit
	}
	return text
}

// Names lists the marks, those first that others are the sum of.
func (m Marks) Names() []string {
	names := slices.Sorted(maps.Keys(m))
	slices.SortStableFunc(names, func(a, b string) int { return min(len(m[a].Sum), 1) - min(len(m[b].Sum), 1) })
	return names
}

// Measure is what a unit is of.
type Measure int

// The measures. What is neither time nor data is counted.
const (
	OfTime Measure = iota
	OfData
	Counted
)

var timeUnits = map[string]float64{
	"ns": 1, "us": 1e3, "µs": 1e3, "ms": 1e6, "s": 1e9, "sec": 1e9, "min": 60e9, "h": 3600e9,
}
var dataUnits = map[string]float64{
	"B": 1, "bytes": 1, "kB": 1e3, "KB": 1e3, "KiB": 1 << 10, "MB": 1e6, "MiB": 1 << 20, "GB": 1e9, "GiB": 1 << 30,
}

// UnitOf is what one of a unit is worth: nanoseconds or bytes.
func UnitOf(unit string) (Measure, float64) {
	if worth, ok := timeUnits[unit]; ok {
		return OfTime, worth
	}
	if worth, ok := dataUnits[unit]; ok {
		return OfData, worth
	}
	return Counted, 1
}

// figure is the figure of a mark.
func (m Marks) figure(name string) figure.Name { return figure.Told(name, m.UnitName(name)) }

// UnitName is the unit in which amounts of a mark are kept: seconds, bytes, or its own for what is counted.
func (m Marks) UnitName(name string) units.Unit {
	mark := m[name]
	if len(mark.Sum) > 0 {
		mark = m[mark.Sum[0]]
	}
	switch of, _ := UnitOf(mark.unit()); of {
	case OfTime:
		return units.Second
	case OfData:
		return units.Byte
	}
	return units.Unit(mark.Unit)
}

func (m Mark) unit() string {
	if m.Unit == "" {
		return "ms"
	}
	return m.Unit
}

var markName = regexp.MustCompile(`^[\pL\pN][\pL\pN _.-]{0,31}$`)

// Check finds what is wrong with marks. from are the places that may be named, the first of them taken unless one is.
func (m Marks) Check(from ...string) (faults []Fault) {
	fault := func(key, try, what string, args ...any) {
		faults = append(faults, Fault{Key: key, What: fmt.Sprintf(what, args...), Try: try})
	}
	if len(m) > MaxMarks {
		fault("", fmt.Sprintf("keep %d", MaxMarks), "%d marks are too many", len(m))
	}
	for _, name := range m.Names() {
		mark := m[name]
		if !markName.MatchString(name) {
			fault(name, "use up to 32 letters, digits, spaces, dots and hyphens", "%q is no name for a mark", name)
			continue
		}
		ways := 0
		for _, set := range []bool{mark.Pattern != "", mark.Pointer != "", len(mark.Sum) > 0} {
			if set {
				ways++
			}
		}
		switch {
		case ways == 0 && mark.Header == "" || ways > 1:
			fault(
				name, "set one of pattern, pointer and sum", "a mark is found by a pattern or a pointer, or is the sum of others",
			)
		case mark.Pattern != "":
			if re, err := regexp.Compile(mark.Pattern); err != nil {
				fault(name, "see RE2 syntax", "%s", err)
			} else if re.NumSubexp() < 1 {
				fault(name, "put the number in brackets, as: startup ([0-9.]+ ?ms)", "the pattern has no group for the number")
			}
		case mark.Pointer != "" && !strings.HasPrefix(mark.Pointer, "/"):
			fault(name, "write it as /"+strings.ReplaceAll(mark.Pointer, ".", "/"), "%q is no JSON Pointer", mark.Pointer)
		}
		if len(mark.Where) > 0 && mark.Pointer == "" {
			fault(name, "set pointer:", "where says which lines of JSON count, and belongs to pointer")
		}
		for pointer := range mark.Where {
			if !strings.HasPrefix(pointer, "/") {
				fault(name, "write it as /"+pointer, "%q is no JSON Pointer", pointer)
			}
		}
		if mark.From != "" && !slices.Contains(from, mark.From) {
			fault(name, PointTo(mark.From, from), "it cannot be read from %s here", mark.From)
		}
		if (mark.Header != "") != (mark.From == "header") {
			fault(name, "set from: header and header: NAME", "a header is named by both keys")
		}
		if len(mark.Unit) > 16 || strings.ContainsAny(mark.Unit, "[]") {
			fault(name, "use a short word", "%q is no unit", mark.Unit)
		}
		for _, part := range mark.Sum {
			switch other, ok := m[part]; {
			case !ok:
				fault(name, PointTo(part, m.Names()), "no mark is called %q", part)
			case len(other.Sum) > 0:
				fault(name, "name the marks themselves", "%q is a sum, too", part)
			case m.UnitName(part) != m.UnitName(name):
				fault(name, "add up what is of one kind", "times and amounts do not add up")
			}
		}
	}
	return faults
}

// Marker are settings whose contenders have marks.
type Marker interface{ Marked() Marks }

// MarkSums are the marks that are sums of others, of all contenders; nil without any.
func MarkSums(cs []Contender) (sums map[figure.Name][]figure.Name) {
	for _, c := range cs {
		s, ok := c.Settings.(Marker)
		if !ok {
			continue
		}
		m := s.Marked()
		for _, name := range m.Names() {
			for _, part := range m[name].Sum {
				if sums == nil {
					sums = map[figure.Name][]figure.Name{}
				}
				whole, of := m.figure(name), m.figure(part)
				if !slices.Contains(sums[whole], of) {
					sums[whole] = append(sums[whole], of)
				}
			}
		}
	}
	return sums
}

// MarkNames are the marks of all contenders as figures, each once.
func MarkNames(cs []Contender) (out []figure.Name) {
	add := func(m Marks) {
		for _, name := range m.Names() {
			if f := m.figure(name); !slices.Contains(out, f) {
				out = append(out, f)
			}
		}
	}
	for _, c := range cs {
		if s, ok := c.Settings.(Marker); ok {
			add(s.Marked())
		}
	}
	return out
}

// InBaseUnit is so many of a unit in the one that amounts are kept in: seconds, bytes, or whole ones of what is
// counted.
func InBaseUnit(amount float64, unit string) float64 {
	of, worth := UnitOf(unit)
	if of == OfTime {
		return amount * worth / 1e9
	}
	return amount * worth
}
