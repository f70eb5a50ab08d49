package read

import (
	"fmt"
	"maps"
	"math"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"paceduel/core/figure"
	"paceduel/core/mask"
	"paceduel/core/plan"
	"paceduel/core/units"
)

// sweepDoc is what a plan says of its sweep.
type sweepDoc struct {
	Over   ast.Node  `json:"over" jsonschema:"required" jsonschema_description:"one or two parameters by name: a list of values, or a range. A name that is a key of the plan, as pace.clients, has its values laid over that key; any other stands in texts as {{name}}"`
	Within plan.Span `json:"within,omitempty" jsonschema_description:"how long the whole may take, in place of rounds: after a few complete rounds the time goes where contenders are close and intervals wide"`
	Where  string    `json:"where,omitempty" jsonschema:"enum=bends" jsonschema_description:"bends: adds points between these where lines bend most or cross, after a first pass"`
}

// overDoc is what a plan says of a parameter that is more than a list.
type overDoc struct {
	Values  ast.Node             `json:"values,omitempty" jsonschema_description:"the values in order"`
	From    plan.Word            `json:"from,omitempty" jsonschema_description:"the lowest value of a range, as 1 or 4KiB"`
	To      plan.Word            `json:"to,omitempty" jsonschema_description:"the highest value of a range"`
	Steps   int                  `json:"steps,omitempty" jsonschema:"minimum=2,maximum=50" jsonschema_description:"how many values a range has; 6 unless said"`
	Spacing string               `json:"spacing,omitempty" jsonschema:"enum=linear,enum=geometric" jsonschema_description:"of a range; geometric where it spans a factor of ten"`
	Sets    plan.Lines           `json:"sets,omitempty" jsonschema_description:"keys of the plan that the values are laid over, as command.env.THREADS or pace.clients; a contender's name in front makes it one of that contender alone"`
	Called  map[string]plan.Word `json:"called,omitempty" jsonschema_description:"what people call some of the values, as 4000: as in production"`
	Counts  string               `json:"counts,omitempty" jsonschema:"enum=items,enum=bytes,enum=threads,enum=clients,enum=other" jsonschema_description:"what the values are a number of, which decides what is tried for how figures grow; guessed from the name unless said"`
}

// defaultSteps is how many values a range has unless it says.
const defaultSteps = 6

// setting is a value that a point lays over a key.
type setting struct {
	keys  []string
	value plan.Value
	at    Pos // where the plan has it
	keyAt Pos // where it has the key
}

// readSweep reads what the plan says of its sweep; nil without one. places are where values stand, by parameter.
func (r *reader) readSweep() (s *plan.Sweep, places map[string]map[string]Pos) {
	if len(r.sweeps) == 0 {
		return nil, nil
	}
	var doc sweepDoc
	type named struct {
		name   string
		layers []source
	}
	var params []named
	for _, src := range r.sweeps {
		r.d.file = src.file
		doc.Over = nil
		r.d.lay(src.node, reflect.ValueOf(&doc).Elem(), "sweep", 0)
		if doc.Over == nil {
			continue
		}
		pairs, ok := r.d.entries(doc.Over, "sweep.over")
		if !ok {
			r.d.fault(doc.Over, "write it as over: { threads: [1, 2, 4] }",
				"sweep.over must hold parameters, this is %s", describe(r.d.bare(doc.Over)))
			return nil, nil
		}
		for _, p := range pairs {
			name := keyName(p)
			i := slices.IndexFunc(params, func(n named) bool { return n.name == name })
			if i < 0 {
				i = len(params)
				params = append(params, named{name: name})
				r.d.places[plan.JoinKeys("sweep.over", name)] = r.d.pos(p.Key)
			}
			params[i].layers = append(params[i].layers, source{src.file, p.Value})
		}
	}
	if len(params) < 1 || len(params) > plan.MaxParameters {
		r.fault("sweep.over", "write it as over: { threads: [1, 2, 4] }", "a sweep is over one or two parameters, not %d",
			len(params))
		return nil, nil
	}
	s = &plan.Sweep{Within: doc.Within, Bends: doc.Where == "bends"}
	places = map[string]map[string]Pos{}
	for _, n := range params {
		if p, at, ok := r.readParameter(n.name, n.layers); ok {
			s.Parameters = append(s.Parameters, p)
			places[p.Name] = at
		}
	}
	if len(s.Parameters) < len(params) {
		return nil, nil
	}
	if len(params) == 2 && s.Parameters[0].Name == s.Parameters[1].Name {
		r.fault("sweep.over", "", "both parameters are called %s", s.Parameters[0].Name)
	}
	points := 1
	for i := range s.Parameters {
		points *= len(s.Parameters[i].Values)
	}
	if points > plan.MaxPoints {
		r.fault("sweep.over", "leave some values out", "%d points are more than the %d of a sweep", points, plan.MaxPoints)
	}
	if s.Bends && !slices.ContainsFunc(s.Parameters, func(p plan.Parameter) bool { return p.Counts != plan.Words }) {
		r.fault("sweep.where", "leave it out", "between words there is nothing to add")
	}
	if s.Bends && len(s.Parameters) > 1 {
		r.fault("sweep.where", "leave it out, or sweep over one parameter", "points are added along one parameter only")
	}
	return s, places
}

// readParameter reads one parameter, and where its values stand.
func (r *reader) readParameter(name string, layers []source) (p plan.Parameter, at map[string]Pos, ok bool) {
	path := plan.JoinKeys("sweep.over", name)
	before := len(r.d.problems)
	at = map[string]Pos{}
	p.Name = name
	if key := strings.Split(name, "."); len(key) > 1 {
		p.Name, p.Sets = key[len(key)-1], []string{name}
	}
	if !plan.ProperName(p.Name) {
		r.fault(path, "use letters, digits, - and _, up to 24 of them", "%q is not a name for a parameter", short(p.Name))
		return p, nil, false
	}
	var doc overDoc
	for _, l := range layers {
		r.d.file = l.file
		if _, isList := r.d.bare(l.node).(*ast.SequenceNode); isList {
			doc.Values = l.node
			r.d.places[path] = r.d.pos(l.node)
			continue
		}
		r.d.lay(l.node, reflect.ValueOf(&doc).Elem(), path, 0)
	}
	ranged := doc.From != "" || doc.To != "" || doc.Steps > 0 || doc.Spacing != ""
	switch {
	case doc.Values != nil && ranged:
		r.fault(path, "keep one of them", "%s has both values and a range", p.Name)
	case doc.Values != nil:
		p.Values = r.readValues(doc.Values, path, at)
	case doc.From == "" || doc.To == "":
		r.fault(path, "write it as "+p.Name+": [1, 2, 4], or { from: 1, to: 64, steps: 7 }", "%s has no values", p.Name)
	default:
		p.Values = r.readRange(&doc, path)
	}
	if doc.Sets != nil {
		p.Sets = nil
		for _, key := range doc.Sets {
			p.Sets = append(p.Sets, string(key))
		}
	}
	p.Counts = plan.Counts(doc.Counts)
	if len(r.d.problems) > before {
		return p, at, false
	}
	for _, text := range slices.Sorted(maps.Keys(doc.Called)) {
		i := slices.IndexFunc(p.Values, func(v plan.Value) bool { return v.Text == text })
		if i < 0 {
			r.fault(plan.JoinKeys(path+".called", text), "", "%s has no value %q", p.Name, text)
			continue
		}
		p.Values[i].Called = units.Printable(string(doc.Called[text]))
	}
	if len(p.Values) < plan.FewestSwept || len(p.Values) > plan.MaxValues {
		r.fault(path, fmt.Sprintf("give it %d to %d", plan.FewestSwept, plan.MaxValues),
			"%s has %s", p.Name, units.Plural(len(p.Values), "value"))
		return p, at, false
	}
	p.Complete()
	if p.Counts == plan.Words && doc.Counts != "" {
		r.fault(path+".counts", "leave it out", "the values of %s are words, they count nothing", p.Name)
	}
	if p.Counts.AtOnce() && slices.ContainsFunc(p.Values, func(v plan.Value) bool { return v.Number < 1 }) {
		r.fault(path, "begin at 1", "%s says how many work at once, which is at least 1", p.Name)
	}
	if p.Counts != plan.Words && !slices.IsSortedFunc(p.Values, func(a, b plan.Value) int { return cmpNumbers(a, b) }) {
		r.fault(path, "put them in rising order", "the values of %s do not rise", p.Name)
	}
	return p, at, len(r.d.problems) == before
}

func cmpNumbers(a, b plan.Value) int {
	if a.Number < b.Number {
		return -1
	}
	return 1 // equal ones are not in order either
}

func (r *reader) readValues(n ast.Node, path string, at map[string]Pos) (out []plan.Value) {
	seq, ok := r.d.bare(n).(*ast.SequenceNode)
	if !ok {
		r.d.fault(n, "write them in brackets: [1, 2, 4]", "values must be a list, this is %s", describe(r.d.bare(n)))
		return nil
	}
	for i, item := range seq.Values {
		where := fmt.Sprintf("%s[%d]", path, i)
		if r.d.namesVariable(item) {
			r.d.fault(item, "write it out",
				"values of a parameter are shown and kept, so they take nothing from the environment")
			continue
		}
		text, ok := r.d.text(unsplit(item), where)
		switch {
		case !ok:
			continue
		case !printable(text, plan.MaxName):
			r.d.fault(item, "", "%q is not a value of 1 to %d printable characters", short(text), plan.MaxName)
			continue
		case slices.ContainsFunc(out, func(v plan.Value) bool { return v.Text == text }):
			r.d.fault(item, "leave one out", "%s stands there twice", text)
			continue
		}
		v := plan.Value{Text: text}
		if t := item.GetToken(); t != nil {
			v.Quoted = quoted(t)
		}
		v.Number, _ = plan.Number(text)
		out = append(out, v)
		at[text] = r.d.pos(item)
	}
	families := map[string]bool{}
	for _, v := range out {
		_, family := plan.Number(v.Text)
		families[family] = true
	}
	if len(families) > 1 && !families[""] {
		r.d.fault(n, "give all of them in one kind of unit", "the values have units that do not belong together")
	}
	if families[""] && len(families) > 1 { // words among numbers
		for i := range out {
			out[i].Number = math.NaN()
		}
	}
	return out
}

func (r *reader) readRange(doc *overDoc, path string) []plan.Value {
	if doc.Steps == 0 {
		doc.Steps = defaultSteps
	}
	const wide = 10
	a, _ := plan.Number(string(doc.From))
	b, _ := plan.Number(string(doc.To))
	geometric := doc.Spacing == "geometric" || doc.Spacing == "" && a > 0 && b/a >= wide
	values, err := plan.Stepped(string(doc.From), string(doc.To), doc.Steps, geometric)
	if err != nil {
		r.fault(path, "write it as { from: 1, to: 64, steps: 7 }", "%s", err)
	}
	return values
}

// swept reads the plan once for each point of its sweep, and gives the first one's plan the sweep. Problems that only
// some points have say which.
func swept(first *reader, s *plan.Sweep, places map[string]map[string]Pos) *plan.Plan {
	d := first.d
	s.Make = func(values []plan.Value) (plan.Point, error) {
		point, r := first.atPoint(s, places, values)
		masks := mask.New(r.d.vars)
		if len(r.d.problems) > 0 {
			return plan.Point{}, r.d.problems.tell(masks)
		}
		point.Plan.TakeVars(r.d.vars, masks)
		own, of := point.Plan, s.Points[0].Plan // what is of the sweep as a whole
		own.Rounds, own.Decides, own.Claims = of.Rounds, of.Decides, of.Claims
		return point, nil
	}
	used := map[string]bool{}
	var troubled []Problems
	all := 0
	for values := range combinations(s.Parameters) {
		all++
		point, r := first.atPoint(s, places, values)
		maps.Copy(d.vars, r.d.vars)
		for name := range r.d.filled {
			used[name] = true
		}
		if len(r.d.problems) > 0 {
			own := r.d.problems
			for i := range own {
				own[i].point = point.At.String()
			}
			troubled = append(troubled, own)
			continue
		}
		s.Points = append(s.Points, point)
	}
	d.problems = append(d.problems, together(troubled, all)...)
	for i := range s.Parameters { // a text that could not be read may have held it
		if p := &s.Parameters[i]; len(p.Sets) == 0 && !used[p.Name] && len(troubled) == 0 {
			first.fault(plan.JoinKeys("sweep.over", p.Name), fmt.Sprintf(
				"write {{%s}} where it belongs, or sets: with a key of the plan", p.Name,
			), "nothing in the plan depends on %s", p.Name)
		}
	}
	if len(d.problems) > 0 {
		return nil
	}
	p := *s.Points[0].Plan
	p.Sweep = s
	first.completeSweep(&p)
	for i := range s.Points {
		own := s.Points[i].Plan
		own.Rounds, own.Decides, own.Claims = p.Rounds, p.Decides, p.Claims
	}
	return &p
}

// combinations yields the values of every point, those of the first parameter varying fastest.
func combinations(params []plan.Parameter) func(yield func([]plan.Value) bool) {
	return func(yield func([]plan.Value) bool) {
		outer := []plan.Value{{}}
		if len(params) > 1 {
			outer = params[1].Values
		}
		for _, b := range outer {
			for _, a := range params[0].Values {
				if !yield([]plan.Value{a, b}[:len(params)]) {
					return
				}
			}
		}
	}
}

// together are the problems of points, each once: what all have as it is, what some have with the first of them.
func together(of []Problems, points int) (out Problems) {
	type same struct{ what, try string }
	count := map[same]int{}
	for _, list := range of {
		for _, p := range list.once() {
			count[same{p.What, p.Try}]++
		}
	}
	said := map[same]bool{}
	for _, list := range of {
		for _, p := range list.once() {
			key := same{p.What, p.Try}
			if said[key] {
				continue
			}
			said[key] = true
			if count[key] < points {
				p.What = "at " + p.point + ": " + p.What
			}
			p.point = ""
			out = append(out, p)
		}
	}
	return out
}

// atPoint reads the plan at one point, with a decoder of its own. The reader's problems say what is wrong there.
func (r *reader) atPoint(s *plan.Sweep, places map[string]map[string]Pos, values []plan.Value) (plan.Point, *reader) {
	d := &decoder{
		file: r.file, lookup: r.d.lookup, anchors: r.d.anchors, places: map[string]Pos{}, vars: map[string]string{},
		params: map[string]string{}, filled: map[string]bool{},
	}
	own := &reader{d: d, opt: r.opt, dir: r.dir, file: r.file, source: r.source, params: s.Parameters}
	for i := range s.Parameters {
		d.params[s.Parameters[i].Name] = values[i].Text
	}
	for _, l := range r.layers {
		own.layer(l.file, l.node)
	}
	for i := range s.Parameters {
		p := &s.Parameters[i]
		at, known := places[p.Name][values[i].Text]
		if !known {
			at = r.at(plan.JoinKeys("sweep.over", p.Name))
		}
		path := plan.JoinKeys("sweep.over", p.Name)
		for j, key := range p.Sets {
			keyAt := r.at(path)
			for _, k := range []string{path + ".sets", fmt.Sprintf("%s.sets[%d]", path, j)} {
				if pos, said := r.d.places[k]; said {
					keyAt = pos
				}
			}
			own.laySetting(setting{strings.Split(key, "."), values[i], at, keyAt})
		}
	}
	d.file = r.file
	point := plan.Point{At: plan.PointAt(s.Parameters, values), Values: values, Plan: own.build()}
	if point.Plan != nil {
		point.Plan.File, point.Plan.Source, point.Plan.Sets = r.file, r.source, slices.Clone(r.opt.Sets)
	}
	return point, own
}

// laySetting lays a value over a key: of a contender by its name, of all contenders where the key begins with their
// kind or with service, else of the plan.
func (r *reader) laySetting(s setting) {
	file := r.d.file
	r.d.fixed = &s.at
	defer func() { r.d.file, r.d.fixed = file, nil }()
	r.d.file = s.at.File
	head := s.keys[0]
	switch names := r.contenderNames(); {
	case slices.Contains(kindNames(r.opt.Kinds), head) || slices.Contains(courseKeys, head):
		r.laid = append(r.laid, s)
	case slices.Contains(names, head) && len(s.keys) > 1:
		if node, ok := s.node(append([]string{"contenders"}, s.keys...)); ok {
			r.layer(s.at.File, node)
		}
	case slices.Contains(keysOf(reflect.TypeFor[document]()), head):
		if head == "sweep" || head == "duel" || head == "baseline" || head == "rounds" || head == "seed" ||
			head == "claims" {
			r.d.problems = append(r.d.problems, Problem{
				Pos: s.keyAt, What: fmt.Sprintf("%s is of the sweep as a whole, no parameter sets it", head),
			})
			return
		}
		if node, ok := s.node(s.keys); ok {
			r.layer(s.at.File, node)
		}
	default:
		known := slices.Concat(keysOf(reflect.TypeFor[document]()), kindNames(r.opt.Kinds), names, courseKeys)
		r.d.problems = append(r.d.problems, Problem{
			Pos: s.keyAt, What: fmt.Sprintf("no key of the plan is called %s", strings.Join(s.keys, ".")),
			Try: plan.PointTo(head, known),
		})
	}
}

// node is the part of a plan that says so.
func (s setting) node(keys []string) (ast.Node, bool) {
	var text strings.Builder
	for i, key := range keys {
		fmt.Fprintf(&text, "%s%s:", strings.Repeat(" ", i), strconv.Quote(key))
		if i < len(keys)-1 {
			text.WriteString("\n")
		}
	}
	value := s.value.Text
	if s.value.Quoted {
		value = strconv.Quote(value)
	}
	node, problem := parse(s.at.File, []byte(text.String()+" "+value+"\n"))
	if problem != nil { // a value that needs quotes to be one
		node, problem = parse(s.at.File, []byte(text.String()+" "+strconv.Quote(value)+"\n"))
	}
	return node, problem == nil
}

// laidOver lays what points set of contenders of a kind over one of them.
func (r *reader) laidOver(kind plan.Kind, own *entry, settings plan.Settings, path string) {
	for _, s := range r.laid {
		beside := s.keys[0] == "service" && own.Service != nil || s.keys[0] == "watch" && own.Watch != nil ||
			s.keys[0] == "traces" && own.Traces != nil
		if s.keys[0] != kind.Name && !beside {
			continue
		}
		node, ok := s.node(s.keys)
		if !ok {
			continue
		}
		r.d.file, r.d.fixed = s.at.File, &s.at
		r.layKind(node, kind, own, false, settings, path, path)
		r.d.fixed = nil
	}
}

// contenderNames are those that the plan's layers name.
func (r *reader) contenderNames() (names []string) {
	for _, src := range r.contenders {
		pairs, _ := r.d.entries(src.node, "contenders")
		for _, p := range pairs {
			names = append(names, keyName(p))
		}
	}
	return names
}

// completeSweep fills in how often a sweep is run and by which figure it is judged, and finds fault with what does not
// go together.
func (r *reader) completeSweep(p *plan.Plan) {
	s := p.Sweep
	if p.Until != nil || len(p.Looks) > 0 {
		r.fault("sweep", "set rounds: to a number, or within: in the sweep", "a sweep ends after its rounds or its time")
	}
	if s.Within > 0 && s.Within.D().Seconds() > plan.LongestWithin {
		r.fault("sweep.within", "the longest is 24h", "%s is too long for a run", s.Within.D())
	}
	if _, said := r.d.places["rounds"]; said && s.Within > 0 {
		r.fault("sweep.within", "keep one of them", "both within and rounds say how long the sweep goes on")
	}
	if p.Decides == "" && p.Pace.Climb == nil {
		p.Decides = leads(p)
	}
	challengers := (len(p.Contenders) - 1) * len(p.States())
	if _, said := r.d.places["rounds"]; !said {
		p.Rounds = plan.RoundsForSweep(challengers * len(s.Points))
	}
	if heats := p.Rounds * len(s.Points) * (challengers + len(p.States())); heats > plan.MaxSweepHeats {
		r.fault("sweep.over", "leave some values out, or set rounds: lower", "%s heats are more than the %s of a run",
			units.Count(int64(heats)), units.Count(plan.MaxSweepHeats))
	}
	for i := range s.Points {
		own := s.Points[i].Plan
		for j := range p.Contenders {
			if own.Contenders[j].Kind != p.Contenders[j].Kind {
				r.fault("sweep.over", "", "at %s, %s is of another kind", s.Points[i].At, p.Contenders[j].Name)
				return
			}
		}
		if (own.Pace.Climb == nil) != (p.Pace.Climb == nil) || own.Pace.Open() != p.Pace.Open() ||
			own.Pace.Sequential() != p.Pace.Sequential() {
			r.fault("sweep.over", "vary the amount only", "at %s the pace is of another kind than at %s", s.Points[i].At,
				s.Points[0].At)
			return
		}
	}
}

// fewRuns is how many runs a heat needs so that their median says more than their mean.
const fewRuns = 20

// leads is the figure that a sweep is judged by unless its plan says: its first rung, the median, or the mean where
// heats have few shots.
func leads(p *plan.Plan) figure.Name {
	switch {
	case len(p.Rungs) > 0:
		return p.Rungs[0]
	case p.Pace.Sequential() && p.Pace.Repeat < fewRuns, p.Pace.Shots > 0 && p.Pace.Shots < fewRuns:
		return figure.Mean
	}
	return figure.P50
}
