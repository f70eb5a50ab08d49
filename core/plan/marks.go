package plan

import (
	"fmt"
	"maps"
	"regexp"
	"regexp/syntax"
	"slices"
	"strconv"
	"strings"

	"github.com/invopop/jsonschema"

	"paceduel/core/figure"
	"paceduel/core/units"
)

// Mark says where a time or an amount is read from what a contender prints or answers: by a pattern or by a JSON
// Pointer; how it follows from others; or that it is an amount that every shot is known to do.
type Mark struct {
	Pattern string          `json:"pattern,omitempty" jsonschema_description:"a regular expression for a line, whose first group is the number, with its unit or without; without a group, and with a unit that counts, the lines that match"`
	Pointer string          `json:"pointer,omitempty" jsonschema_description:"a JSON Pointer to the number, in an answer or in every line that is JSON"`
	Where   map[string]Word `json:"where,omitempty" jsonschema_description:"with pointer: JSON Pointers and what has to stand there, as /mark: render"`
	From    string          `json:"from,omitempty" jsonschema:"enum=stdout,enum=stderr,enum=body,enum=header" jsonschema_description:"where it stands: stdout or stderr of a command, body or header of an answer; stdout or body unless said"`
	Header  string          `json:"header,omitempty" jsonschema_description:"with from: header, which; its whole value is the number unless a pattern says otherwise"`
	Unit    string          `json:"unit,omitempty" jsonschema_description:"of a number without: ns, us, ms, s, min, B, KiB, MiB, or a word for what is counted; ms unless said"`
	Sum     Lines           `json:"sum,omitempty" jsonschema_description:"the marks that it is the sum of: cost that moved from one to another stays in it"`
	Longest Lines           `json:"longest,omitempty" jsonschema_description:"the marks of which it is the largest that one shot told"`
	Count   Lines           `json:"count,omitempty" jsonschema_description:"the marks whose lines it counts, in one shot"`
	Amount  Word            `json:"amount,omitempty" jsonschema_description:"what every good shot does, as 400 MB: judged a second"`
	Rate    bool            `json:"rate,omitempty" jsonschema_description:"judged by how much of it is done a second"`
	Better  string          `json:"better,omitempty" jsonschema:"enum=less,enum=more" jsonschema_description:"which way is better; less unless said"`
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
	text := ""
	switch {
	case len(m.Sum) > 0:
		text = "the sum of " + strings.Join(m.Sum, " and ")
	case len(m.Longest) > 0:
		text = "the largest of " + strings.Join(m.Longest, " and ")
	case len(m.Count) > 0:
		text = "how many lines tell " + strings.Join(m.Count, " or ")
	case m.Amount != "":
		return string(m.Amount) + " a shot, by the second"
	case m.Pattern != "":
		text = m.Pattern
	case m.Pointer != "":
		text = m.Pointer
		for _, at := range slices.Sorted(maps.Keys(m.Where)) {
			text += fmt.Sprintf(" where %s is %s", at, m.Where[at])
		}
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
	if m.Rate {
		text += ", by the second"
	} else if m.Better == betterMore {
		text += ", more is better"
	}
	return text
}

// Reads reports whether a mark is read from a place; first says that it is the one that is meant where none is named.
func (m Mark) Reads(from string, first bool) bool {
	return len(m.of()) == 0 && m.Amount == "" && (m.From == from || m.From == "" && first)
}

// betterMore says that more of a mark is better.
const betterMore = "more"

// of are the marks that one follows from.
func (m Mark) of() Lines { return slices.Concat(m.Sum, m.Longest, m.Count) }

// ByTheSecond reports whether a mark is judged by how much of it is done a second.
func (m Mark) ByTheSecond() bool { return m.Rate || m.Amount != "" }

// MoreIsBetter reports which way a mark leans.
func (m Mark) MoreIsBetter() bool { return m.Better == betterMore || m.ByTheSecond() }

// Counts reports whether a mark counts what its pattern matches.
func (m Mark) Counts() bool {
	re, err := regexp.Compile(m.Pattern)
	return m.Pattern != "" && err == nil && re.NumSubexp() == 0
}

// Names lists the marks, those first that others follow from.
func (m Marks) Names() []string {
	names := slices.Sorted(maps.Keys(m))
	slices.SortStableFunc(names, func(a, b string) int { return min(len(m[a].of()), 1) - min(len(m[b].of()), 1) })
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
func (m Marks) figure(name string) figure.Name {
	switch mark, unit := m[name], m.UnitName(name); {
	case mark.ByTheSecond():
		return figure.RateOf(name, unit)
	case mark.MoreIsBetter():
		return figure.ToldMore(name, unit)
	default:
		return figure.Told(name, unit)
	}
}

// Server-Timing names are figures without a mark of the plan: ToldBySelf is how a plan names them, as "told db".
const ToldBySelf = "told "

// UnitName is the unit in which amounts of a mark are kept: seconds, bytes, or its own for what is counted.
func (m Marks) UnitName(name string) units.Unit {
	unit := m.Unit(name)
	switch of, _ := UnitOf(unit); of {
	case OfTime:
		return units.Second
	case OfData:
		return units.Byte
	}
	return units.Unit(unit)
}

// Unit is the unit of a mark's numbers where they have none of their own: the plan's, else the one that its pattern
// asks for behind the number, else milliseconds.
func (m Marks) Unit(name string) string {
	mark := m[name]
	parts := append(slices.Clone(mark.Sum), mark.Longest...)
	switch {
	case mark.Unit != "":
		return mark.Unit
	case mark.Amount != "":
		if _, unit, ok := ReadAmount(string(mark.Amount)); ok && unit != "" {
			return unit
		}
		return name
	case mark.Counts() || len(mark.Count) > 0:
		return name
	case len(parts) > 0 && !strings.HasPrefix(parts[0], ToldBySelf):
		if other := m[parts[0]]; len(other.of()) == 0 {
			return m.Unit(parts[0])
		}
	case mark.Pattern != "":
		if unit := unitIn(mark.Pattern); unit != "" {
			return unit
		}
	}
	return "ms"
}

// unitIn is the unit that the first group of a pattern spells out; empty where it takes any or none.
func unitIn(pattern string) string {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return ""
	}
	var inGroup func(re *syntax.Regexp, within bool) string
	inGroup = func(re *syntax.Regexp, within bool) string {
		if within && re.Op == syntax.OpLiteral {
			if text := strings.TrimSpace(string(re.Rune)); isUnit(text) {
				return text
			}
		}
		for _, sub := range re.Sub {
			if unit := inGroup(sub, within || re.Op == syntax.OpCapture && re.Cap == 1); unit != "" {
				return unit
			}
		}
		return ""
	}
	return inGroup(re, false)
}

func isUnit(text string) bool {
	of, _ := UnitOf(text)
	return of != Counted
}

// ReadAmount takes a number apart from the unit behind it, which may be missing; ok is false without a number that is
// not negative.
func ReadAmount(text string) (amount float64, unit string, ok bool) {
	text = strings.TrimSpace(text)
	n := 0
	for n < len(text) && (text[n] >= '0' && text[n] <= '9' || strings.IndexByte("+-.eE", text[n]) >= 0) {
		n++
	}
	for ; n > 0; n-- { // the e of a unit is none of a number
		if v, err := strconv.ParseFloat(text[:n], 64); err == nil {
			return v, strings.TrimSpace(text[n:]), v >= 0
		}
	}
	return 0, "", false
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
			fault(name, "use up to 32 letters, digits, spaces, dots and hyphens", "%q is not a name for a mark", name)
			continue
		}
		if f, bad := mark.checkWay(); bad {
			f.Key = name
			faults = append(faults, f)
		}
		if len(mark.Where) > 0 && mark.Pointer == "" {
			fault(name, "set pointer:", "where says which lines of JSON count, and belongs to pointer")
		}
		for pointer := range mark.Where {
			if !strings.HasPrefix(pointer, "/") {
				fault(name, "write it as /"+pointer, "%q is not a JSON Pointer", pointer)
			}
		}
		if mark.From != "" && !slices.Contains(from, mark.From) {
			fault(name, PointTo(mark.From, from), "it cannot be read from %s here", mark.From)
		}
		if (mark.Header != "") != (mark.From == "header") {
			fault(name, "set from: header and header: NAME", "a header is named by both keys")
		}
		if len(mark.Unit) > 16 || strings.ContainsAny(mark.Unit, "[]") {
			fault(name, "use a short word", "%q is not a unit", mark.Unit)
		}
		for _, part := range mark.of() {
			switch other, ok := m[part]; {
			case strings.HasPrefix(part, ToldBySelf) && len(mark.Count) == 0 && slices.Contains(from, "header"):
			case !ok:
				fault(name, PointTo(part, m.Names()), "no mark is called %q", part)
			case len(other.of()) > 0 || other.Amount != "":
				fault(name, "name the marks themselves", "%q follows from others, too", part)
			case len(mark.Count) == 0 && m.UnitName(part) != m.UnitName(name):
				fault(name, "take what is of one kind", "times and amounts do not add up")
			}
		}
	}
	return faults
}

// checkWay finds what is wrong with how the mark's amount is found.
func (m Mark) checkWay() (f Fault, bad bool) {
	ways := 0
	for _, set := range []bool{
		m.Pattern != "", m.Pointer != "", len(m.Sum) > 0, len(m.Longest) > 0, len(m.Count) > 0, m.Amount != "",
	} {
		if set {
			ways++
		}
	}
	switch {
	case ways == 0 && m.Header == "" || ways > 1:
		return Fault{
			What: "a mark is found by a pattern or a pointer, or follows from others",
			Try:  "set one of pattern, pointer, sum, longest, count and amount",
		}, true
	case m.Pattern != "":
		if _, err := regexp.Compile(m.Pattern); err != nil {
			return Fault{What: err.Error(), Try: "see RE2 syntax"}, true
		}
		return Fault{
			What: "the pattern has no group for the number",
			Try:  "put the number in brackets, as: startup ([0-9.]+ ?ms); or count the lines that match, with unit: lines",
		}, m.Counts() && (m.Unit == "" || isUnit(m.Unit))
	case m.Amount != "":
		amount, _, ok := ReadAmount(string(m.Amount))
		return Fault{
			What: fmt.Sprintf("%q is not an amount", m.Amount), Try: "write it as 400 MB or 12000 rows",
		}, !ok || amount == 0
	}
	return Fault{
		What: fmt.Sprintf("%q is not a JSON Pointer", m.Pointer),
		Try:  "write it as /" + strings.ReplaceAll(m.Pointer, ".", "/"),
	}, m.Pointer != "" && !strings.HasPrefix(m.Pointer, "/")
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
				if own, ok := TakeOwn(part); ok {
					of = own
				}
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
	for i := range cs {
		for _, f := range cs[i].Marks() {
			if !slices.Contains(out, f) {
				out = append(out, f)
			}
		}
	}
	return out
}

// Marks are the contender's own marks as figures.
func (c *Contender) Marks() (out []figure.Name) {
	s, ok := c.Settings.(Marker)
	if !ok {
		return nil
	}
	m := s.Marked()
	for _, name := range m.Names() {
		out = append(out, m.figure(name))
	}
	return out
}

// HowOften is the unit in which it is counted how often a shot does a step, as plans say it behind its name.
const HowOften units.Unit = "times"

// TakeOwn is the figure that a plan names by ToldBySelf: a time, as told db or told "select pilot", or how often a shot
// does something, as told "select pilot" times. ok is false for other names.
func TakeOwn(name string) (f figure.Name, ok bool) {
	own, ok := strings.CutPrefix(name, ToldBySelf)
	if !ok {
		return "", false
	}
	unit := units.Second
	if step, counted := strings.CutSuffix(own, " "+string(HowOften)); counted {
		own, unit = step, HowOften
	}
	if quoted, isQuoted := strings.CutPrefix(own, `"`); isQuoted {
		own, ok = strings.CutSuffix(quoted, `"`)
		const most = 200 // as much as is kept of the name of a step
		ok = ok && own != "" && len(own) <= most && !strings.ContainsAny(own, "\"\n")
	} else {
		ok = markName.MatchString(own)
	}
	if !ok {
		return "", false
	}
	return figure.Told(own, unit), true
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
