package http

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/go-openapi/jsonpointer"

	"paceduel/core/plan"
	"paceduel/core/rows"
)

// Leg is one request of a shot that has several. What it does not say is as the contender says for all of them.
type Leg struct {
	Name     string               `json:"name,omitempty" jsonschema_description:"of the leg, as {{NAME.value}} and figures have it"`
	URL      string               `json:"url,omitempty" jsonschema_description:"where to ask, from the contender's url on; {{column}} is filled in from rows, {{leg.value}} from what another leg took"`
	Method   string               `json:"method,omitempty" jsonschema:"enum=GET,enum=HEAD,enum=POST,enum=PUT,enum=PATCH,enum=DELETE,enum=OPTIONS" jsonschema_description:"that of the contender unless said"`
	Headers  map[string]plan.Word `json:"headers,omitempty" jsonschema_description:"beside the contender's own"`
	Auth     *Auth                `json:"auth,omitempty" jsonschema_description:"who asks"`
	Body     string               `json:"body,omitempty" jsonschema_description:"sent with it"`
	BodyFile string               `json:"body-file,omitempty" jsonschema_description:"a file whose contents are sent, as they are"`
	Parts    []Part               `json:"parts,omitempty" jsonschema_description:"a body of several parts (multipart/form-data)"`
	Expect   int                  `json:"expect,omitempty" jsonschema:"minimum=100,maximum=599" jsonschema_description:"the status of a good answer"`
	Timeout  plan.Span            `json:"timeout,omitempty" jsonschema_description:"given up after this long"`
	MaxBody  plan.Bytes           `json:"max-body,omitempty" jsonschema_description:"an answer longer than this is a failure"`
	Needs    []string             `json:"needs,omitempty" jsonschema_description:"legs that have to be done before it; those whose values it has are needed anyway"`
	Take     map[string]plan.Word `json:"take,omitempty" jsonschema_description:"values for other legs by name, each a JSON Pointer into the answer, as /berth/id, header NAME, or cookie NAME"`
	Each     string               `json:"for-each,omitempty" jsonschema_description:"a list that another leg took, as vessel.berths: one request for each of its items, which stand as {{each}}, members of them as {{each/name}}"`
	Pages    *Pages               `json:"pages,omitempty" jsonschema_description:"its list is read page by page; what it takes is of the last page that has it, and lists are those of all pages"`
	Marks    plan.Marks           `json:"marks,omitempty" jsonschema_description:"times and amounts that its answers tell, by name"`
	AtOnce   int                  `json:"at-once,omitempty" jsonschema:"minimum=1,maximum=256" jsonschema_description:"with for-each: how many of them are under way at a time; 1 unless said"`
}

// Orders in which legs are done.
const (
	asNeeded = "as-needed" // each as soon as those that it needs are done
	inTurn   = "in-turn"   // one after another
)

const (
	maxLegs = 50
	maxEach = 10_000 // requests of a leg for each item of a list
)

// use is a value of another leg that stands in the texts of a leg.
type use struct {
	mark    string // in whose place it comes
	leg     int    // whose value it is; eachItem: that of the list
	name    string
	pointer string // into an item of the list; empty: all of it
}

// eachItem stands for the leg of a value that is an item of the leg's list.
const eachItem = -1

// leg is a leg made ready.
type leg struct {
	*Leg
	settings *Settings // that say what it asks for, as if it were all
	needs    []int
	uses     []use
	each     *use // the list
}

// mark makes the text that holds the place of a value while a request is rendered. It has only letters and digits, so
// that nothing escapes it, and none that texts of people have.
func mark(i int) string { return markStart + strconv.Itoa(i) + "z" }

const markStart = "paceduelvalueq"

// legReader makes the legs of settings ready and collects what is wrong with them.
type legReader struct {
	s      *Settings
	index  map[string]int
	at     int // the leg at hand
	leg    leg
	faults []plan.Fault
}

// legs makes the settings' legs ready. The faults are of the plan.
func (s *Settings) legs() (out []leg, faults []plan.Fault) {
	r := &legReader{s: s, index: map[string]int{}}
	for i := range s.Legs {
		if _, twice := r.index[s.Legs[i].Name]; !twice {
			r.index[s.Legs[i].Name] = i
		}
	}
	for i := range s.Legs {
		r.at, r.leg = i, leg{Leg: &s.Legs[i]}
		r.read()
		out = append(out, r.leg)
	}
	if len(r.faults) == 0 {
		r.faults = circles(out)
	}
	return out, r.faults
}

func (r *legReader) fault(key, try, what string, args ...any) {
	r.faults = append(r.faults, plan.Fault{
		Key: strings.TrimSuffix(fmt.Sprintf("legs[%d].%s", r.at, key), "."), What: fmt.Sprintf(what, args...), Try: try,
	})
}

// read makes the leg at hand ready.
func (r *legReader) read() {
	l := r.leg.Leg
	switch {
	case l.Name == "":
		r.fault("", "set name:", "a leg without a name")
	case strings.ContainsAny(l.Name, ".{}/ \t\n") || l.Name == "each":
		r.fault("name", "use letters, digits and hyphens", "%q is no name for a leg", l.Name)
	case r.index[l.Name] != r.at:
		r.fault("name", "give each a name of its own", "two legs are called %s", l.Name)
	}
	for j, name := range l.Needs {
		r.need(fmt.Sprintf("needs[%d]", j), name)
	}
	switch {
	case l.Each == "" && l.AtOnce > 0:
		r.fault("at-once", "add for-each: and the list", "at-once says how many requests of a list are under way")
	case l.Each != "" && len(l.Take) > 0:
		r.fault("take", "take them from another leg", "a leg of many requests takes no values")
	case l.Each != "":
		if list, ok := r.taken("for-each", l.Each); ok {
			r.leg.each = &list
		}
	}
	own := *r.s
	own.Legs, own.Order, own.Pages, own.Marks = nil, "", l.Pages, l.Marks
	own.fillFrom(l)
	own.replace(func(key, text string) string {
		return eachMark(text, func(name string) (string, bool) { return r.use(key, name) })
	})
	r.leg.settings = &own
	r.faults = append(r.faults, l.checkTake(r.at)...)
}

// need has the leg at hand need another one, and returns its place; eachItem where it cannot.
func (r *legReader) need(key, name string) int {
	at, ok := r.index[name]
	switch {
	case !ok:
		r.fault(key, "the legs are "+strings.Join(r.s.legNames(), ", "), "no leg is called %q", name)
	case at == r.at:
		r.fault(key, "name another one", "leg %s needs itself", name)
	case r.s.Order == inTurn && at > r.at:
		r.fault(key, "put it before", "leg %s comes after %s, which needs it", name, r.leg.Name)
	default:
		if !slices.Contains(r.leg.needs, at) {
			r.leg.needs = append(r.leg.needs, at)
		}
		return at
	}
	return eachItem
}

// taken is a value that another leg takes: leg.value.
func (r *legReader) taken(key, text string) (use, bool) {
	name, value, _ := strings.Cut(text, ".")
	at := r.need(key, name)
	if at == eachItem {
		return use{}, false
	}
	if _, ok := r.s.Legs[at].Take[value]; !ok {
		r.fault(key, fmt.Sprintf("add take: { %s: /pointer } to leg %s", cmp.Or(value, "NAME"), name),
			"leg %s takes no value called %q", name, value)
	}
	return use{leg: at, name: value}, true
}

// use puts a mark in the place of a value of another leg, or of an item; ok is false for anything else.
func (r *legReader) use(key, name string) (in string, ok bool) {
	u := use{leg: eachItem}
	switch {
	case name == "each" || strings.HasPrefix(name, "each/"):
		if u.pointer = strings.TrimPrefix(name, "each"); r.leg.Each == "" {
			r.fault(key, "add for-each: and the list", "{{%s}} stands for an item, and there is no list", name)
		}
	case strings.Contains(name, "."):
		u, _ = r.taken(key, name)
	default:
		return "", false
	}
	u.mark = mark(len(r.leg.uses))
	r.leg.uses = append(r.leg.uses, u)
	return u.mark, true
}

func (s *Settings) legNames() (out []string) {
	for i := range s.Legs {
		out = append(out, s.Legs[i].Name)
	}
	return out
}

// fillFrom lays what a leg says over the settings.
func (s *Settings) fillFrom(l *Leg) {
	if l.URL != "" {
		s.URL = joined(s.URL, l.URL)
	}
	s.Method, s.Parts = cmp.Or(l.Method, s.Method), slices.Clone(s.Parts)
	headers := map[string]plan.Word{}
	for name, value := range s.Headers {
		headers[canonical(name)] = value
	}
	for name, value := range l.Headers {
		headers[canonical(name)] = value
	}
	s.Headers = headers
	if l.Auth != nil {
		s.Auth = l.Auth
	}
	if l.Body != "" || l.BodyFile != "" || len(l.Parts) > 0 {
		s.Body, s.BodyFile, s.Parts = l.Body, l.BodyFile, slices.Clone(l.Parts)
	}
	s.Expect, s.Timeout = cmp.Or(l.Expect, s.Expect), cmp.Or(l.Timeout, s.Timeout)
	s.MaxBody = cmp.Or(l.MaxBody, s.MaxBody)
}

// joined is a leg's address from the contender's on: a whole one stands for itself, a path takes the place of the path,
// a query that of the query.
func joined(base, to string) string {
	if strings.Contains(to, "://") || base == "" {
		return to
	}
	bare, _, _ := strings.Cut(base, "?")
	scheme, rest, _ := strings.Cut(bare, "://")
	host, _, _ := strings.Cut(rest, "/")
	switch {
	case strings.HasPrefix(to, "/"):
		return scheme + "://" + host + to
	case strings.HasPrefix(to, "?"):
		return bare + to
	}
	return strings.TrimSuffix(bare, "/") + "/" + to
}

// replace puts every text of the settings that may have values of other legs through change; key says where it stands.
func (s *Settings) replace(change func(key, text string) string) {
	s.URL = change("url", s.URL)
	for name, value := range s.Headers { // its own, see fillFrom
		s.Headers[name] = plan.Word(change("headers."+name, string(value)))
	}
	s.Body = change("body", s.Body)
	for i := range s.Parts {
		s.Parts[i].Value = plan.Word(change(fmt.Sprintf("parts[%d].value", i), string(s.Parts[i].Value)))
	}
}

// eachMark replaces each {{name}} of a text for which by has something.
func eachMark(text string, by func(name string) (string, bool)) string {
	var out strings.Builder
	for {
		before, rest, found := strings.Cut(text, "{{")
		out.WriteString(before)
		if !found {
			return out.String()
		}
		name, after, closed := strings.Cut(rest, "}}")
		if !closed {
			return out.String() + "{{" + rest
		}
		if value, ok := by(strings.TrimSpace(name)); ok {
			out.WriteString(value)
		} else {
			out.WriteString("{{" + name + "}}")
		}
		text = after
	}
}

// checkTake looks at what a leg takes from its answer.
func (l *Leg) checkTake(i int) (faults []plan.Fault) {
	for name, from := range l.Take {
		key := fmt.Sprintf("legs[%d].take.%s", i, name)
		where, rest, _ := strings.Cut(string(from), " ")
		switch {
		case (where == "header" || where == "cookie") && strings.TrimSpace(rest) != "":
		case strings.HasPrefix(string(from), "/"):
			if _, err := jsonpointer.New(string(from)); err != nil {
				faults = append(faults, plan.Fault{
					Key: key, What: fmt.Sprintf("%q is no JSON Pointer", from), Try: "write it as /berth/id",
				})
			}
		default:
			faults = append(faults, plan.Fault{
				Key: key, What: fmt.Sprintf("%q says nothing that is in an answer", from),
				Try: "write /berth/id (a JSON Pointer), header NAME or cookie NAME",
			})
		}
	}
	return faults
}

// circles finds legs that need each other.
func circles(legs []leg) []plan.Fault {
	state := make([]int, len(legs)) // 1: being looked at, 2: no circle leads to it
	var visit func(i int) []string
	visit = func(i int) []string {
		switch state[i] {
		case 1:
			return []string{legs[i].Name}
		case 2:
			return nil
		}
		state[i] = 1
		for _, need := range legs[i].needs {
			if circle := visit(need); circle != nil {
				return append(circle, legs[i].Name)
			}
		}
		state[i] = 2
		return nil
	}
	for i := range legs {
		if circle := visit(i); circle != nil {
			return []plan.Fault{{
				Key: fmt.Sprintf("legs[%d].needs", i), What: "legs need each other in a circle: " + strings.Join(circle, " for "),
				Try: "take one of these needs out",
			}}
		}
	}
	return nil
}

// checkLegs looks at the legs of the settings as requests of their own.
func (s *Settings) checkLegs(table rows.Table, in plan.Surroundings) (faults []plan.Fault) {
	legs, faults := s.legs()
	if len(faults) > 0 {
		return faults
	}
	for i := range legs {
		own := legs[i].settings
		for _, f := range slices.Concat(own.checkOne(table, in), own.checkPages(), own.checkMarks()) {
			f.Key = strings.TrimSuffix(fmt.Sprintf("legs[%d].%s", i, f.Key), ".")
			faults = append(faults, f)
		}
	}
	return faults
}

// checkTogether looks at what does not go with legs.
func (s *Settings) checkTogether() (faults []plan.Fault) {
	fault := func(key, try, what string, args ...any) {
		faults = append(faults, plan.Fault{Key: key, What: fmt.Sprintf(what, args...), Try: try})
	}
	const two = "legs and %s do not go together"
	switch {
	case len(s.Legs) == 0 && s.Order != "":
		fault("order", "add legs:, or take it out", "order says how legs are done, and there are none")
	case len(s.Legs) > maxLegs:
		fault("legs", fmt.Sprintf("ask in at most %d", maxLegs), "a shot of %d legs", len(s.Legs))
	case len(s.Legs) > 0 && s.Batch > 0:
		fault("batch", "leave one of them out", two, "batch")
	case len(s.Legs) > 0 && s.Pages != nil:
		fault("pages", "say so of the leg that has them", two, "pages")
	case len(s.Legs) > 0 && len(s.Marks) > 0:
		fault("marks", "say so of the leg whose answer tells them", two, "marks")
	}
	names := map[string]int{}
	for i := range s.Legs {
		for _, name := range s.Legs[i].Marks.Names() {
			if first, twice := names[name]; twice {
				key := fmt.Sprintf("legs[%d].marks.%s", i, name)
				fault(key, "give each a name of its own", "leg %s has a mark of that name, too", s.Legs[first].Name)
			}
			names[name] = i
		}
	}
	if len(names) > plan.MaxMarks {
		fault("legs", fmt.Sprintf("keep %d", plan.MaxMarks), "%d marks are too many", len(names))
	}
	return faults
}

// value is what a leg took: texts that are filled in, or a list of items.
type value struct {
	text  string
	items []any // of a list; nil: it is none
	list  bool
}

// takenFrom reads a leg's values from its answer.
func (l *leg) takenFrom(headers []string, encoding string, body []byte) (map[string]value, error) {
	out := make(map[string]value, len(l.Take))
	var whole any
	read := false
	for name, from := range l.Take {
		where, rest, _ := strings.Cut(string(from), " ")
		rest = strings.TrimSpace(rest)
		switch where {
		case "header":
			if at := slices.IndexFunc(headers, func(h string) bool { return headerOf(h, rest) }); at >= 0 {
				_, text, _ := strings.Cut(headers[at], ": ")
				out[name] = value{text: text}
			}
			continue
		case "cookie":
			for _, h := range headers {
				if _, text, _ := strings.Cut(h, ": "); headerOf(h, "Set-Cookie") && strings.HasPrefix(text, rest+"=") {
					text, _, _ = strings.Cut(strings.TrimPrefix(text, rest+"="), ";")
					out[name] = value{text: text}
				}
			}
			continue
		}
		if !read {
			if encoding != "" {
				return nil, errCompressed
			}
			in := json.NewDecoder(bytes.NewReader(body))
			in.UseNumber()
			if err := in.Decode(&whole); err != nil {
				return nil, fmt.Errorf("its values cannot be read, since it is no JSON: %w", err)
			}
			read = true
		}
		to, err := jsonpointer.New(string(from))
		if err != nil {
			return nil, err
		}
		found, _, err := to.Get(whole)
		if err != nil || found == nil {
			continue // whoever needs it says so
		}
		if list, ok := found.([]any); ok {
			out[name] = value{items: list, list: true}
			continue
		}
		if text, ok := scalar(found); ok {
			out[name] = value{text: text}
		}
	}
	return out, nil
}

func headerOf(line, name string) bool {
	own, _, _ := strings.Cut(line, ": ")
	return strings.EqualFold(own, name)
}

// scalar is a value of JSON as a text that can be filled in.
func scalar(v any) (string, bool) {
	switch v := v.(type) {
	case string:
		return v, true
	case json.Number:
		return v.String(), true
	case bool:
		return strconv.FormatBool(v), true
	}
	return "", false
}

// fill puts values of other legs into a rendered request; escape is for what stands in its address.
func (r *request) fill(values []string, marks []use) (request, error) {
	if len(marks) == 0 {
		return *r, nil
	}
	var plain, escaped []string
	for i, u := range marks {
		plain, escaped = append(plain, u.mark, values[i]), append(escaped, u.mark, url.QueryEscape(values[i]))
		if strings.ContainsFunc(values[i], func(c rune) bool { return c < ' ' || c == 0x7f }) && r.inHeaders(u.mark) {
			return request{}, fmt.Errorf("the value %q cannot be sent in a header", values[i])
		}
	}
	in, inAddress := strings.NewReplacer(plain...), strings.NewReplacer(escaped...)
	out := request{headers: make(map[string][]string, len(r.headers)), host: in.Replace(r.host)}
	for name, text := range r.headers {
		out.headers[name] = []string{in.Replace(text[0])}
	}
	if len(r.body) > 0 {
		out.body = []byte(in.Replace(string(r.body)))
	}
	var err error
	out.url, err = url.Parse(inAddress.Replace(r.url.String()))
	return out, err
}

func (r *request) inHeaders(mark string) bool {
	for _, text := range r.headers {
		if strings.Contains(text[0], mark) {
			return true
		}
	}
	return strings.Contains(r.host, mark)
}
