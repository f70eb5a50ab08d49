package read

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"paceduel/core/figure"
	"paceduel/core/files"
	"paceduel/core/guard"
	"paceduel/core/mask"
	"paceduel/core/plan"
	"paceduel/core/units"
)

// MaxBytes bounds a plan file; a real one has a few kilobytes.
const MaxBytes = 1 << 20

// Options are what a plan is read with.
type Options struct {
	Kinds  []plan.Kind
	Lookup func(name string) (string, bool) // environment; nil: nothing is set
	Sets   []string                         // KEY=VALUE with dotted keys, laid over the file in order
	Only   []string                         // keep these contenders and the baseline; empty: all
	Mirror bool                             // add the baseline's twin, to know the machine's own noise
	// Blind looks at no file: of a plan that comes from somebody else, who could learn from its problems what stands in
	// ours. It has been checked where it comes from.
	Blind bool
}

// document is the plan file as written. Its tags are the reference of the top-level keys.
type document struct {
	Duel       string                   `json:"duel" variables:"no" jsonschema:"required,minLength=1" jsonschema_description:"the name of the duel"`
	Question   string                   `json:"question,omitempty" variables:"no" jsonschema_description:"what is to be decided, in a sentence"`
	Baseline   string                   `json:"baseline" variables:"no" jsonschema:"required,minLength=1" jsonschema_description:"the contender that the others are compared with"`
	Course     ast.Node                 `json:"course,omitempty" jsonschema_description:"what all are asked; a contender's own settings are laid over it"`
	Contenders ast.Node                 `json:"contenders" jsonschema:"required" jsonschema_description:"two to eight alternatives by name"`
	Pace       plan.Pace                `json:"pace" jsonschema:"required" jsonschema_description:"how each is driven in a heat"`
	Rounds     plan.Often               `json:"rounds,omitempty" jsonschema_description:"how often every contender has its heat; 10 unless said, 12 or 14 from three or five challengers on; auto: as many of 5, 10, 20 and 40 as it takes to settle every figure that carries the verdict, or auto up to 20"`
	Seed       uint64                   `json:"seed,omitempty" jsonschema:"minimum=1" jsonschema_description:"of the running order; drawn unless said"`
	Interest   plan.Fraction            `json:"interest,omitempty" jsonschema_description:"the smallest difference worth telling apart; 2% unless said"`
	Interests  map[string]plan.Fraction `json:"interests,omitempty" jsonschema_description:"the same for single figures, as p99: 5%"`
	Rungs      []string                 `json:"rungs,omitempty" jsonschema_description:"the figures that carry the verdict and stand on the ladder; those of the pace unless said. All others are judged too, with less weight"`
	Stakes     *plan.Stakes             `json:"stakes,omitempty" jsonschema_description:"your own figures, to translate the difference into time, servers and money"`
	Claims     []string                 `json:"claims,omitempty" jsonschema_description:"statements that the run upholds, refutes or leaves undecided, as: joined p95 at least 2x faster than per-vessel"`
	Until      *plan.Until              `json:"until,omitempty" jsonschema_description:"go on, from rounds on, until a figure's ratio is known well enough: by the width of its interval, never by its verdict"`
	Sweep      ast.Node                 `json:"sweep,omitempty" jsonschema_description:"the same duel over the values of one or two parameters"`
	Decides    string                   `json:"decides,omitempty" jsonschema_description:"the figure that carries the verdict, named beforehand; unless said all do, corrected for their number"`
	Footing    plan.Footing             `json:"footing,omitempty" jsonschema_description:"the state that every run starts from"`
	Same       *plan.Same               `json:"same,omitempty" jsonschema_description:"what the contenders' answers must have in common; looked at once, before any timing"`
	Allow      []string                 `json:"allow,omitempty" jsonschema_description:"hosts other than this machine that may be driven"`
	Load       *plan.Load               `json:"load,omitempty" jsonschema_description:"who drives it from other machines: agents that have joined a bus"`
}

// entry is one contender as written; its kind's key stands beside these.
type entry struct {
	Note    string        `json:"note,omitempty" variables:"no" jsonschema_description:"why it is there"`
	Avoid   string        `json:"avoid,omitempty" variables:"no" jsonschema_description:"when it must not be used"`
	Service *plan.Service `json:"service,omitempty" jsonschema_description:"a process that it needs, started and stopped for it"`
	Watch   *plan.Watch   `json:"watch,omitempty" jsonschema_description:"a database that it uses: what that counts is read around each heat"`
	Traces  *plan.Traces  `json:"traces,omitempty" jsonschema_description:"what happens inside some shots: an instrumented service is handed where to send its spans (OpenTelemetry)"`
	From    *plan.From    `json:"from,omitempty" jsonschema_description:"its program is built from a commit of a git repository"`
	Footing plan.Ground   `json:"footing,omitempty" jsonschema_description:"what its runs start from, laid over the plan's footing"`
	Crash   *crashed      `json:"crash,omitempty" jsonschema_description:"it is ended with SIGKILL while it works, in heats of its own: what is there of what it had acknowledged?"`
	// Bystander has a key of its kind beside those of plan.Bystander.
	Bystander ast.Node `json:"bystander,omitempty" jsonschema_description:"a light probe at a set rate while it works, to see who waits meanwhile: what it does is said by tcp:, line:, ping: or the key of a kind"`
}

// File reads the plan at path. The error is Problems when the file was read but is no good plan.
func File(path string, opt Options) (*plan.Plan, error) {
	src, err := files.Read(path, MaxBytes)
	if err != nil {
		return nil, fmt.Errorf("read plan: %w; name a %s file", err, plan.Suffix)
	}
	return Plan(path, src, opt)
}

// Plan reads a plan from src; file names it in messages, and its folder is where relative paths start.
func Plan(file string, src []byte, opt Options) (*plan.Plan, error) {
	if opt.Lookup == nil {
		opt.Lookup = func(string) (string, bool) { return "", false }
	}
	d := &decoder{
		file: file, lookup: opt.Lookup, anchors: map[string]ast.Node{}, places: map[string]Pos{}, vars: map[string]string{},
	}
	body, problem := parse(file, src)
	if problem != nil {
		return nil, Problems{*problem}
	}
	ast.Walk(d, body)

	r := &reader{d: d, opt: opt, dir: filepath.Dir(file), file: file, source: string(src)}
	r.layers = []source{{file, body}}
	for _, set := range opt.Sets {
		node, problem := parseSet(set)
		if problem != nil {
			d.problems = append(d.problems, *problem)
			continue
		}
		r.layers = append(r.layers, source{setPrefix + set, node})
	}
	p := r.read()
	masks := mask.New(d.vars)
	if len(d.problems) > 0 {
		return nil, d.problems.tell(masks)
	}
	p.File, p.Source, p.Sets = file, string(src), slices.Clone(opt.Sets)
	p.TakeVars(d.vars, masks)
	if p.Sweep != nil {
		for i := range p.Sweep.Points {
			p.Sweep.Points[i].Plan.TakeVars(d.vars, masks)
		}
	}
	return p, nil
}

// tell puts problems as they may leave us: in the order of the file, each once, without values of the environment.
func (ps Problems) tell(masks *mask.Mask) Problems {
	slices.SortStableFunc(ps, byPlace)
	problems := ps.once()
	mask.Each(&problems, func(text string) string { return brief(masks.Text(text)) }) // they say what they found
	return problems
}

// read builds the plan out of its layers; with a sweep, out of one plan for each of its points.
func (r *reader) read() *plan.Plan {
	before := len(r.d.problems)
	for _, l := range r.layers {
		r.layer(l.file, l.node)
	}
	if len(r.sweeps) == 0 {
		return r.build()
	}
	r.d.problems = r.d.problems[:before] // every point finds them, too
	s, places := r.readSweep()
	if s == nil || len(r.d.problems) > before {
		return nil
	}
	return swept(r, s, places)
}

// brief is a text of a problem, in a line of a sane length whatever it quotes.
func brief(text string) string {
	const longest = 400
	text = units.Printable(text)
	if runes := []rune(text); len(runes) > longest {
		return string(runes[:longest-1]) + "…"
	}
	return text
}

func byPlace(a, b Problem) int {
	return cmp.Or(
		cmp.Compare(a.Pos.File, b.Pos.File), cmp.Compare(a.Pos.Line, b.Pos.Line), cmp.Compare(a.Pos.Column, b.Pos.Column),
	)
}

// parse turns text into the node of its one document. The parser is given no chance to take the program down.
func parse(file string, src []byte) (body ast.Node, problem *Problem) {
	defer func() {
		if r := recover(); r != nil {
			body, problem = nil, &Problem{
				Pos: Pos{File: file}, What: "this is not YAML that can be read",
				Try: "paceduel new prints a plan to start from",
			}
		}
	}()
	src = normal(src)
	if problem := withinBounds(file, src); problem != nil {
		return nil, problem
	}
	tree, err := parser.ParseBytes(src, 0)
	if err != nil {
		p := Problem{Pos: Pos{File: file}, What: "this is not YAML", Try: "paceduel new prints a plan to start from"}
		var syntax *yaml.SyntaxError
		if errors.As(err, &syntax) {
			p.What = "this is not YAML: " + syntax.Message
			p.Pos = tokenPos(file, syntax.Token)
		}
		return nil, &p
	}
	if len(tree.Docs) == 0 || isNull(tree.Docs[0].Body) {
		return nil, &Problem{Pos: Pos{File: file}, What: "the plan is empty", Try: "paceduel new prints one to start from"}
	}
	if len(tree.Docs) > 1 {
		return nil, &Problem{
			Pos: tokenPos(file, tree.Docs[1].Start), What: "more than one document in a plan",
			Try: "give each duel its own file",
		}
	}
	return tree.Docs[0].Body, nil
}

// normal is a text without what some editors add: a mark of its byte order at the start, carriage returns at the ends
// of lines.
func normal(src []byte) []byte {
	src = bytes.TrimPrefix(src, []byte("\xef\xbb\xbf"))
	return bytes.ReplaceAll(src, []byte("\r\n"), []byte("\n"))
}

func tokenPos(file string, t *token.Token) Pos {
	p := Pos{File: file}
	if t != nil && t.Position != nil {
		p.Line, p.Column = t.Position.Line, t.Position.Column
	}
	return p
}

// setPrefix begins the name under which a --set is reported.
const setPrefix = "--set "

// parseSet turns "pace.clients=16" into the plan fragment that says the same.
func parseSet(set string) (ast.Node, *Problem) {
	file := setPrefix + set
	key, value, ok := strings.Cut(set, "=")
	if !ok || key == "" || strings.ContainsAny(key, " \t\n{}[],#&*'\"") {
		return nil, &Problem{Pos: Pos{File: file}, What: "this is not KEY=VALUE", Try: "for example --set pace.clients=16"}
	}
	names := strings.Split(key, ".")
	var text strings.Builder
	for i, name := range names {
		fmt.Fprintf(&text, "%s%s:", strings.Repeat(" ", i), name)
		if i < len(names)-1 {
			text.WriteString("\n")
		}
	}
	return parse(file, []byte(text.String()+" "+value+"\n"))
}

// reader gathers the layers of a plan (the file, then each --set) and builds the plan from them.
type reader struct {
	d            *decoder
	opt          Options
	file, source string // the plan's name and text
	dir          string
	layers       []source // the file, then each --set
	doc          document
	courses      []source
	contenders   []source
	sweeps       []source
	params       []plan.Parameter // of the sweep that the plan is read for a point of
	laid         []setting        // what the point sets of contenders by their kind
	names        []string         // of the contenders, readable or not
	refused      []plan.Contender
}

// source is a node and the file it stands in.
type source struct {
	file string
	node ast.Node
}

func (r *reader) layer(file string, n ast.Node) {
	r.d.file = file
	r.doc.Course, r.doc.Contenders, r.doc.Sweep = nil, nil, nil
	r.d.lay(n, reflect.ValueOf(&r.doc).Elem(), "", 0)
	if r.doc.Course != nil {
		r.courses = append(r.courses, source{file, r.doc.Course})
	}
	if r.doc.Contenders != nil {
		r.contenders = append(r.contenders, source{file, r.doc.Contenders})
	}
	if r.doc.Sweep != nil {
		r.sweeps = append(r.sweeps, source{file, r.doc.Sweep})
	}
}

func (r *reader) at(path string) Pos {
	if p, ok := r.d.places[path]; ok {
		return p
	}
	return Pos{File: r.d.file}
}

func (r *reader) fault(path, try, what string, args ...any) {
	r.d.problems = append(r.d.problems, Problem{Pos: r.at(path), What: fmt.Sprintf(what, args...), Try: try})
}

func (r *reader) build() *plan.Plan {
	p := &plan.Plan{
		Name: r.doc.Duel, Question: r.doc.Question, Baseline: r.doc.Baseline, Pace: r.doc.Pace, Rounds: r.doc.Rounds.N,
		Seed: r.doc.Seed, Interest: r.doc.Interest, Same: r.doc.Same, Dir: r.dir, Allow: r.doc.Allow,
	}
	for _, required := range []string{"duel", "baseline", "contenders", "pace"} {
		if _, ok := r.d.places[required]; !ok {
			r.fault("", "add "+required+": …", "the key %q is missing", required)
		}
	}
	if _, said := r.d.places["duel"]; said && p.Name != "" && !printable(p.Name, maxTitle) {
		r.fault(
			"duel", fmt.Sprintf("use 1 to %d printable characters", maxTitle), "%q is not a name for a duel", short(p.Name),
		)
	}
	if len(r.contenders) == 0 {
		return nil
	}
	if _, said := r.d.places["interest"]; !said {
		p.Interest = plan.DefaultInterest
	}
	r.completePace(&p.Pace)
	p.Until = r.doc.Until
	r.completeUntil(p)
	if r.doc.Rounds.Auto {
		p.Looks = plan.Looks[:slices.Index(plan.Looks, p.Rounds)+1]
		if p.Until != nil {
			r.fault("until", "set a number of rounds", "rounds: auto and until are two ways to end a run")
		}
	}
	p.Stakes = r.doc.Stakes
	r.checkStakes(p.Stakes)
	r.checkSame(p.Same)
	p.Footing = r.doc.Footing
	r.checkFooting(&p.Footing, p.Pace)
	p.Contenders = r.readContenders(p)
	r.checkMany(p)
	r.checkLoad(p)
	r.readFigures(p)
	if p.Baseline != "" && len(r.names) > 0 && !slices.Contains(r.names, p.Baseline) {
		r.fault("baseline", plan.PointTo(p.Baseline, r.names), "no contender is called %q", p.Baseline)
	}
	if len(r.d.problems) > 0 {
		return p
	}
	r.readClaims(p)
	r.keepOnly(p)
	r.addMirror(p)
	n := len(p.Contenders)
	if r.opt.Mirror && n > plan.MinContenders {
		n-- // the twin does not count, unless it is the only other
	}
	if n < plan.MinContenders || n > plan.MaxContenders {
		r.fault("contenders", fmt.Sprintf(
			"name %d to %d", plan.MinContenders, plan.MaxContenders,
		), "a duel needs %d to %d contenders, this one has %d", plan.MinContenders, plan.MaxContenders, n)
	}
	if p.Rounds == 0 && p.Decides != "" {
		p.Rounds = plan.DefaultRounds
	} else if p.Rounds == 0 {
		p.Rounds = plan.RoundsFor((len(p.Contenders) - 1) * len(p.States()))
	}
	return p
}

func (r *reader) completePace(p *plan.Pace) {
	_, given := r.d.places["pace"]
	troubled := len(r.d.problems) > 0 // then a figure may only seem to be missing
	kinds := 0
	for _, set := range []bool{p.Repeat > 0, p.Clients > 0, p.Rate > 0, p.Climb != nil} {
		if set {
			kinds++
		}
	}
	switch {
	case troubled && kinds == 0, !given:
	case kinds > 1:
		r.fault("pace", "keep one of them", "more than one of repeat, clients, rate and climb is set")
	case kinds == 0:
		r.fault(
			"pace", "set repeat: N for one after another, clients: N for many at once, rate: N/s, or climb: from one to "+
				"another",
			"no pace is set",
		)
	case p.Climb != nil && (troubled || !r.completeClimb(p)):
	case p.Repeat > 0 && (p.For > 0 || p.Shots > 0):
		r.fault("pace", "repeat alone sets how many shots a heat has", "for and shots belong to clients and rate")
	case p.Rush && (p.Rate == 0 || p.Climb != nil):
		r.fault("pace.rush", "set rate: 100/s", "rush has shots come at a rate from the first moment on")
	case p.Rush && p.WarmsUp():
		r.fault("pace.warmup", "leave it out", "with rush there is nothing before the start that could be warmed up")
	case p.Wake.D() > plan.MaxHeat:
		r.fault("pace.wake", "the longest is "+plan.MaxHeat.String(), "%s is too long a silence", p.Wake.D())
	case p.Rate == 0 && (p.Spread != "" && p.Think == 0 || p.Most > 0):
		r.fault("pace", "set rate:", "spread and most belong to rate")
	case (p.Think > 0 || p.Stagger > 0) && (p.Clients == 0 || p.Climb != nil):
		r.fault("pace", "set clients:", "think and stagger belong to clients")
	case max(p.Think, p.Stagger).D() > plan.MaxHeat:
		r.fault("pace", "the longest is "+plan.MaxHeat.String(), "clients that wait longer than a heat may last")
	case p.For > 0 && p.Shots > 0:
		r.fault("pace", "keep one of them", "both for and shots are set")
	case p.For.D() > plan.MaxHeat:
		r.fault("pace.for", "the longest is "+plan.MaxHeat.String(), "%s is too long for a heat", p.For.D())
	case p.Warmup != nil && p.Warmup.For.D() > plan.MaxHeat:
		r.fault("pace.warmup", "the longest is "+plan.MaxHeat.String(), "%s is too long for a warm-up", p.Warmup.For.D())
	case p.Repeat == 0 && p.For == 0 && p.Shots == 0:
		p.For = plan.Span(plan.DefaultFor)
	case p.Clients > p.Shots && p.Shots > 0:
		r.fault(
			"pace.shots", "ask for at least one shot a client", "%d shots leave some of %d clients without one", p.Shots,
			p.Clients,
		)
	}
	if p.Rate > 0 && p.Most == 0 {
		p.Most = plan.DefaultMost
	}
	if p.Warmup == nil {
		if p.Rush {
			p.Warmup = &plan.Warmup{}
		} else if p.Sequential() {
			p.Warmup = &plan.Warmup{Shots: 1}
		} else {
			p.Warmup = &plan.Warmup{For: plan.Span(plan.DefaultWarmup)}
		}
	}
}

// completeClimb reports false when it found fault.
func (r *reader) completeClimb(p *plan.Pace) bool {
	c := p.Climb
	before := len(r.d.problems)
	switch {
	case c.From.Value() == 0 || c.To.Value() == 0:
		r.fault("pace.climb", "set from: 100/s and to: 2000/s", "a climb goes from one load to another")
	case (c.From.Clients > 0) != (c.To.Clients > 0):
		r.fault(
			"pace.climb", "give both as rates or both as clients",
			"a climb goes from a rate to a rate, or from clients to clients",
		)
	case c.From.Value() >= c.To.Value():
		r.fault("pace.climb.to", "set it above from", "this is not a climb: it ends where it began, or below")
	case c.From.Clients > 0 && c.Steps > c.To.Clients-c.From.Clients+1:
		r.fault("pace.climb.steps", fmt.Sprintf(
			"set up to %d", c.To.Clients-c.From.Clients+1,
		), "more steps than there are numbers of clients")
	case c.Under == 0:
		r.fault("pace.climb", "set under: 20ms, or what your users bear",
			"nothing says what a level has to keep to be held")
	case p.Shots > 0:
		r.fault("pace.shots", "set for: instead, or leave it out", "a climb lasts for a time")
	}
	if c.At == "" {
		c.At = string(figure.P99)
	}
	p.Rate, p.Clients = c.To.Rate, c.To.Clients
	if p.For == 0 {
		p.For = plan.Span(plan.DefaultStep * time.Duration(cmp.Or(c.Steps, plan.Stretches)))
	}
	return len(r.d.problems) == before
}

// completeUntil fills in and checks what ends a duel early.
func (r *reader) completeUntil(p *plan.Plan) {
	u := p.Until
	if u == nil {
		return
	}
	p.Rounds = cmp.Or(p.Rounds, plan.DefaultRounds)
	if u.Most == 0 {
		u.Most = max(plan.DefaultUntilMost, p.Rounds)
	}
	p.Rounds = max(p.Rounds, plan.UntilFrom)
	switch {
	case u.Figure == "":
		r.fault("until", "set figure: p99", "nothing says which figure is to be known")
	case u.Within == 0:
		r.fault("until", "set within: 5%", "nothing says how well it is to be known")
	case u.Most < p.Rounds:
		r.fault(
			"until.most", fmt.Sprintf("set at least %d", p.Rounds), "%d rounds are fewer than are run in any case", u.Most,
		)
	case p.Pace.Climb != nil:
		r.fault(
			"until", "set rounds: alone",
			"the figure of a climb comes in steps, so its interval may never be as narrow as wanted",
		)
	}
}

// checkMany finds fault with more shots at once than the kinds of the contenders are for, and lets more of them be
// under way unless the plan says how many where they all wait more than they do.
func (r *reader) checkMany(p *plan.Plan) {
	many := !slices.ContainsFunc(p.Contenders, func(c plan.Contender) bool {
		return slices.ContainsFunc(r.opt.Kinds, func(k plan.Kind) bool { return k.Name == c.Kind && !k.Many })
	})
	if _, said := r.d.places["pace.most"]; !said && many && p.Pace.Rate > 0 && len(p.Contenders) > 0 {
		due := cmp.Or(float64(p.Pace.Shots), float64(p.Pace.Rate)*p.Pace.For.D().Seconds()) // no more can be under way
		p.Pace.Most = min(plan.DefaultWaiting, max(int(due)+1, plan.DefaultMost))
	}
	if p.Pace.Most > plan.MaxClients && !many {
		r.fault("pace.most", fmt.Sprintf("set up to %d", plan.MaxClients), "%d shots at once are too many", p.Pace.Most)
	}
}

// readFigures reads the figures that the plan names: on the ladder, to decide, to go on until they are known, and the
// differences of interest of single ones.
func (r *reader) readFigures(p *plan.Plan) {
	marks := r.brought(p)
	for i, name := range r.doc.Rungs {
		if f, ok := r.figure(p, fmt.Sprintf("rungs[%d]", i), name, figure.InRungs, marks); ok {
			p.Rungs = append(p.Rungs, f)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(r.doc.Interests)) {
		if f, ok := r.figure(p, "interests."+name, name, figure.InRungs, marks); ok {
			if p.Interests == nil {
				p.Interests = map[figure.Name]plan.Fraction{}
			}
			p.Interests[f] = r.doc.Interests[name]
		}
	}
	r.readPrices(p, marks)
	if r.doc.Decides != "" {
		p.Decides, _ = r.figure(p, "decides", r.doc.Decides, figure.InDecides, marks)
	}
	if p.Until != nil && p.Until.Figure != "" && p.Pace.Climb == nil {
		if f, ok := r.figure(p, "until.figure", p.Until.Figure, figure.InUntil, marks); ok {
			p.Until.Figure = string(f)
		}
	}
	if len(p.Rungs) > 0 && p.Pace.Climb != nil {
		r.fault("rungs", "leave it out", "a climb has one figure, the load that is held")
	}
}

// readPrices reads what amounts of figures cost.
func (r *reader) readPrices(p *plan.Plan, marks []figure.Name) {
	if p.Stakes == nil {
		return
	}
	p.Stakes.Each = map[figure.Name]float64{}
	for _, name := range slices.Sorted(maps.Keys(p.Stakes.Prices)) {
		path := "stakes.prices." + name
		f, ok := r.figure(p, path, name, figure.InRungs, marks)
		if !ok {
			continue
		}
		each, err := p.Stakes.Prices[name].Each(f.Unit())
		switch {
		case !f.Row().Adds:
			r.fault(path, "name one that shots have an amount of, as cpu or bytes", "%s of shots do not add up", f.Spoken())
		case err != nil:
			r.fault(path, "", "%s", err)
		default:
			p.Stakes.Each[f] = each
		}
	}
}

// brought are the figures that the plan's contenders bring along: their marks, and what their kinds count.
func (r *reader) brought(p *plan.Plan) []figure.Name {
	contenders := slices.Concat(p.Contenders, r.refused) // what is wrong with one is told once
	all := plan.MarkNames(contenders)
	for _, k := range r.opt.Kinds {
		if slices.ContainsFunc(contenders, func(c plan.Contender) bool { return c.Kind == k.Name }) {
			all = append(all, k.Brings...)
		}
		if slices.ContainsFunc(contenders, func(c plan.Contender) bool { return c.Ground.Watch != nil }) {
			all = append(all, k.Counts...)
		}
	}
	return all
}

// mayTell reports whether a contender is of a kind that may tell times of itself without a mark, as Server-Timing does.
func (r *reader) mayTell(p *plan.Plan) bool {
	contenders := slices.Concat(p.Contenders, r.refused) // as in brought
	return slices.ContainsFunc(r.opt.Kinds, func(k plan.Kind) bool {
		return k.Tells && slices.ContainsFunc(contenders, func(c plan.Contender) bool { return c.Kind == k.Name })
	})
}

// figure finds the figure that a plan calls so in the place of path; ok is false, and told, where there is none, where
// it may not stand there, or where the plan gives it nothing to be read from.
func (r *reader) figure(p *plan.Plan, path, name string, use figure.Use, marks []figure.Name) (f figure.Name, ok bool) {
	known := figure.For(use)
	if at := slices.Index(known, figure.Name(name)); at >= 0 {
		f, ok = known[at], true
	}
	for _, called := range []string{name, name + "/s"} { // a mark that is judged by the second goes by its name, too
		for _, m := range marks {
			if !ok && m.Spoken() == called {
				f, ok = m, true
			}
		}
	}
	if !ok && r.mayTell(p) {
		f, ok = plan.TakeOwn(name)
	}
	if !ok { // of one of its streams, or of a time that it tells
		f, ok = figure.ParseOf(name)
	}
	if !ok {
		var names []string
		for _, k := range append(known, marks...) {
			names = append(names, k.Spoken())
		}
		what := "no figure is called %q"
		if figure.Name(name).Known() {
			what = "%q cannot stand here"
		}
		r.fault(path, plan.PointTo(name, names), what, name)
		return "", false
	}
	if use == figure.InRungs {
		return f, true // it has no rung then
	}
	if try, lacks := lacking(p, f); lacks != "" {
		r.fault(path, try, "%s", lacks)
		return "", false
	}
	return f, true
}

// lacking says what a plan does not have that a figure needs, and what to do; empty where it has it all.
func lacking(p *plan.Plan, f figure.Name) (try, what string) {
	need := f.Row().Need
	if (need&figure.AClimb != 0) != (p.Pace.Climb != nil) {
		return "", string(figure.Holds) + " is the figure of a climb, and its only one"
	}
	switch {
	case need&figure.AtOnce != 0 && p.Pace.Sequential():
		return "name mean", "with repeat, " + string(f) + " says no more than the mean does"
	case need&figure.AtOnce != 0 && p.Pace.Open():
		return "name p99", "at a set rate, " + string(f) + " is what the plan says"
	case need&figure.AService != 0 &&
		!slices.ContainsFunc(p.Contenders, func(c plan.Contender) bool { return c.Starts() }):
		return "add service:, or name another figure", string(f) + " is a figure of services, and no contender has one"
	case need&figure.ABystander != 0 &&
		!slices.ContainsFunc(p.Contenders, func(c plan.Contender) bool { return c.Ground.Bystander != nil }):
		return "add bystander: to the course", "nobody asks meanwhile whose waiting could be told"
	case need&figure.AWake != 0 && p.Pace.Wake == 0:
		return "set pace: { wake: 500ms }", string(f) + " is of the shot after a silence, and the pace has none"
	case need&figure.SameShots != 0 && p.Pace.Repeat < 2 && (p.Pace.Shots < 2 || p.Pace.Open()):
		return "set shots:, or name throughput", string(f) +
			" compares heats of as many shots, and the pace does not say how many"
	}
	return "", ""
}

// addMirror puts the baseline's twin behind the contenders.
func (r *reader) addMirror(p *plan.Plan) {
	if !r.opt.Mirror {
		return
	}
	twin, ok := p.Find(p.Baseline)
	if !ok {
		return
	}
	twin.Name, twin.Mirror = p.Baseline+plan.MirrorSuffix, true
	if slices.Contains(r.names, twin.Name) {
		r.fault("contenders", "give that contender another name", "%q is what the baseline's twin is called", twin.Name)
		return
	}
	twin.Note, twin.Avoid = "the baseline once more, to know the machine's own noise", ""
	p.Contenders = append(p.Contenders, twin)
}

// readClaims reads the claims and points to the word at which one cannot be understood.
func (r *reader) readClaims(p *plan.Plan) {
	for i, text := range r.doc.Claims {
		rest, at, err := plan.SplitAlong(text, r.params)
		var c plan.Claim
		if err == nil {
			c, err = plan.ParseClaim(rest, r.names, placesOf(p), r.brought(p)...)
			c.Text, c.At = text, at
		}
		var wrong *plan.ClaimError
		if errors.As(err, &wrong) {
			said := rest
			if rest == "" {
				said = text
			}
			r.fault(
				fmt.Sprintf("claims[%d]", i), wrong.Try, "%s in %q after %q", wrong.What, text,
				strings.TrimSpace(said[:wrong.At]),
			)
			continue
		}
		if c.State != "" && !slices.Contains(p.States(), plan.State(c.State)) {
			var states []string
			for _, s := range p.States() {
				if s != plan.AsFound {
					states = append(states, string(s))
				}
			}
			try := "set footing: { caches: " + c.State + " }"
			if len(states) > 0 {
				try = plan.PointTo(c.State, states)
			}
			r.fault(fmt.Sprintf("claims[%d]", i), try, "nothing is run %s, as %q has it", c.State, text)
			continue
		}
		if try, what := untold(p, &c); what != "" {
			r.fault(fmt.Sprintf("claims[%d]", i), try, "%s, as %q has it", what, text)
			continue
		}
		p.Claims = append(p.Claims, c)
	}
}

// untold says why nothing in the plan can tell what a claim is about, and what to do; empty where something can.
func untold(p *plan.Plan, c *plan.Claim) (try, what string) {
	who, ok := p.Find(c.Contender)
	if !ok || c.Figure == "" {
		return "", ""
	}
	switch need := c.Figure.Row().Need; {
	case need&figure.Crashes != 0 && who.Ground.Crash == nil:
		return "add crash: to " + c.Contender, c.Contender + " is not ended while it works"
	case need&figure.ABystander != 0 && who.Ground.Bystander == nil:
		return "add bystander: to " + c.Contender, "nobody asks while " + c.Contender + " works"
	}
	return "", ""
}

func (r *reader) checkSame(s *plan.Same) {
	if s == nil {
		return
	}
	for key, pattern := range map[string]string{"same.match": s.Match, "same.count": s.Count} {
		if _, err := regexp.Compile(pattern); err != nil {
			r.fault(key, "see RE2 syntax", "%s", err)
		}
	}
	for key, list := range map[string][]string{"same.ignore": s.Ignore, "same.at": s.At, "same.list": {s.List}} {
		for _, pointer := range list {
			if pointer != "" && !strings.HasPrefix(pointer, "/") {
				r.fault(
					key, fmt.Sprintf("write it as /%s", strings.ReplaceAll(pointer, ".", "/")), "%q is not a JSON Pointer",
					pointer,
				)
			}
		}
	}
	if s.Key != "" && !strings.HasPrefix(string(s.Key), "/") {
		if pattern, err := regexp.Compile(string(s.Key)); err != nil || pattern.NumSubexp() < 1 {
			r.fault(
				"same.key", "write a JSON Pointer as /id, or a regular expression with a group, as ^(\\d+);",
				"%q identifies no rows", s.Key,
			)
		}
	}
	if (s.Key != "" || s.List != "") && s.Body != "rows" {
		r.fault("same", "set body: rows", "key and list belong to body: rows")
	}
	if s.List != "" && !strings.HasPrefix(string(s.Key), "/") {
		r.fault(
			"same.list", "set key: to a JSON Pointer into a row",
			"list says where rows of JSON are, which takes a key that is a pointer",
		)
	}
	if s.Through != "" && s.Body == "" && s.Match == "" && s.Count == "" && len(s.At) == 0 {
		r.fault("same.through", "set body: exact", "nothing looks at what comes through")
	}
	if s.Body != "json" && (len(s.Ignore) > 0 || s.Unordered || s.Tolerance > 0) {
		r.fault("same", "set body: json", "ignore, unordered and tolerance belong to body: json")
	}
}

// plan.MaxName bounds a contender's name, which has to fit beside its bars, maxTitle that of a duel, which names files.
const (
	maxTitle = 120
)

// printable reports whether a name is one that people can read, of at most so many characters.
func printable(name string, most int) bool {
	return len([]rune(name)) <= most && strings.TrimSpace(name) != "" && units.Printable(name) == name
}

// readContenders decodes each contender over the course, layer by layer.
func (r *reader) readContenders(p *plan.Plan) (list []plan.Contender) {
	type layered struct {
		name   string
		layers []source
	}
	var all []layered
	for _, src := range r.contenders {
		r.d.file = src.file
		pairs, ok := r.d.entries(src.node, "contenders")
		if !ok {
			r.d.fault(
				src.node, "name each and say how it differs", "contenders must hold names and settings, this is %s",
				describe(r.d.bare(src.node)),
			)
			return nil
		}
		for _, pair := range pairs {
			name := keyName(pair)
			i := slices.IndexFunc(all, func(l layered) bool { return l.name == name })
			if i < 0 {
				i = len(all)
				all = append(all, layered{name: name})
			}
			if !printable(name, plan.MaxName) {
				r.d.fault(
					pair.Key, fmt.Sprintf(
						"use 1 to %d printable characters", plan.MaxName,
					), "%q is not a name for a contender", short(name),
				)
			}
			all[i].layers = append(all[i].layers, source{src.file, pair.Value})
		}
	}
	for _, l := range all {
		r.names = append(r.names, l.name)
		if c, ok := r.readContender(p, l.name, l.layers); ok {
			list = append(list, c)
		}
	}
	return list
}

func (r *reader) readContender(p *plan.Plan, name string, layers []source) (plan.Contender, bool) {
	path := plan.JoinKeys("contenders", name)
	kind, ok := r.kindOf(name, layers)
	if !ok {
		return plan.Contender{}, false
	}
	before := len(r.d.problems)
	r.d.port, r.d.data, r.d.tree = nil, nil, nil
	settings := kind.New()
	own := entry{}
	// The base is the course, written under the contender's own path so that a fault there finds its place; what is said
	// of it names the course, and is the same for every contender.
	for _, c := range r.courses {
		r.d.file = c.file
		r.layKind(c.node, kind, &own, true, settings, path, "course")
	}
	for i := before; i < len(r.d.problems); i++ {
		r.d.problems[i].What = strings.ReplaceAll(r.d.problems[i].What, path+".", "course.")
	}
	for _, l := range layers {
		r.d.file = l.file
		r.layKind(l.node, kind, &own, false, settings, path, path)
	}
	r.laidOver(kind, &own, settings, path)
	c := plan.Contender{
		Name: name, Note: own.Note, Avoid: own.Avoid, Kind: kind.Name, Settings: settings, Ground: own.Footing,
		Defaults: kind.New(),
	}
	if own.Service != nil && len(r.d.problems) == before {
		c.Ground.Service = own.Service.Complete()
		r.checkService(name, c.Ground.Service, p.Pace, plan.JoinKeys(path, "service"))
	}
	r.checkGiven(name, own.Service)
	c.Ground.Bystander = r.readBystander(&own, settings, plan.JoinKeys(path, "bystander"))
	c.Ground.Crash = r.readCrash(&own, &c, plan.JoinKeys(path, "crash"))
	r.checkFrom(&own, &c, kind, plan.JoinKeys(path, "from"))
	c.Ground.Watch = own.Watch
	r.checkWatch(c.Ground.Watch, plan.JoinKeys(path, "watch"))
	c.Ground.Traces = own.Traces
	r.checkTraces(&c, own.Service, kind, plan.JoinKeys(path, "traces"))
	if p.Pace.Rush && own.Service == nil {
		r.fault("pace.rush", "add service: to "+name+", or leave rush out", "%s has no service that could be rushed", name)
	}
	for _, s := range []plan.Settings{settings, c.Defaults} {
		if s, ok := s.(plan.Completer); ok {
			s.Complete()
		}
	}
	if len(r.d.problems) == before {
		c.Ground.Over(&p.Footing)
		if !r.opt.Blind {
			r.checkGround(&c, &p.Footing, p.Pace, plan.JoinKeys(path, "footing"))
		}
	}
	if len(r.d.problems) == before && !r.opt.Blind {
		r.checkSettings(&c, plan.JoinKeys(path, kind.Name), path)
	}
	if ok = len(r.d.problems) == before; !ok && len(r.refused) < plan.MaxContenders {
		r.refused = append(r.refused, c)
	}
	return c, ok
}

// checkSettings has the kind find fault with a contender's settings, which stand there, or else where the contender
// does.
func (r *reader) checkSettings(c *plan.Contender, there, path string) {
	for _, f := range c.Settings.Check(plan.Surroundings{
		Dir: r.dir, Allow: r.doc.Allow, Fixtures: c.Ground.Fixtures(r.dir),
	}) {
		at := plan.JoinKeys(there, f.Key)
		if _, ok := r.d.places[at]; !ok {
			at = path
		}
		r.fault(at, f.Try, "%s", f.What)
		r.d.problems[len(r.d.problems)-1].who = c.Name
	}
}

// crashed is a crash as the plan has it: what counts has a key of its kind.
type crashed struct {
	plan.Crash
	Count ast.Node `json:"count" jsonschema:"required" jsonschema_description:"what says afterwards what is there: a shell line, where the contender stands, with PORT, DATA and ACKNOWLEDGED in its environment, or a shot by the key of its kind, as query: or http:. It says a number of records, and torn N and doubled N where there are such"`
}

// readCrash reads when a contender is ended and what counts then; nil for never.
func (r *reader) readCrash(own *entry, c *plan.Contender, path string) *plan.Crash {
	if own.Crash == nil {
		return nil
	}
	out := &own.Crash.Crash
	out.Complete()
	before := len(r.d.problems)
	if n := own.Crash.Count; n != nil && !isNull(r.d.bare(n)) {
		r.faultsAt(path, r.readCount(n, &out.Count, c, plan.JoinKeys(path, "count")))
	}
	if len(r.d.problems) == before {
		r.faultsAt(path, out.Check(own.Service != nil && own.Service.Running != nil))
	}
	if r.doc.Sweep != nil {
		r.fault(path, "leave the sweep out", "what is ended while it works is no matter of a sweep")
	}
	return out
}

// readCount reads what counts. Settings of the contender's own kind are laid over the contender's.
func (r *reader) readCount(n ast.Node, into *plan.Count, c *plan.Contender, path string) (faults []plan.Fault) {
	if _, text := r.d.bare(n).(ast.ScalarNode); text {
		r.d.lay(n, reflect.ValueOf(&into.Shell).Elem(), path, 0)
		return nil
	}
	before := len(r.d.problems)
	pairs, ok := r.d.entries(n, path)
	if !ok || len(pairs) != 1 {
		r.d.fault(n, "write it as count: { query: { at: …, statement: … } }",
			"%s must be a shell line or have the key of one kind, this is %s", path, describe(r.d.bare(n)))
		return nil
	}
	name := keyName(pairs[0])
	kind := slices.IndexFunc(r.opt.Kinds, func(k plan.Kind) bool { return k.Name == name })
	if kind < 0 {
		r.d.fault(pairs[0].Key, plan.PointTo(name, kindNames(r.opt.Kinds)), "no kind is called %q in %s", name, path)
		return nil
	}
	base := r.opt.Kinds[kind].New()
	if name == c.Kind {
		base = copied(reflect.ValueOf(c.Settings)).Interface().(plan.Settings)
	}
	into.Kind, into.Settings = name, r.layShot(pairs[0].Value, base, plan.JoinKeys(path, name))
	if len(r.d.problems) > before {
		return nil
	}
	if r.opt.Blind {
		return faults
	}
	for _, f := range into.Settings.Check(plan.Surroundings{Dir: r.dir, Allow: r.doc.Allow}) {
		f.Key = plan.JoinKeys(plan.JoinKeys("count", name), f.Key)
		faults = append(faults, f)
	}
	return faults
}

// layShot reads the settings of a shot that is none of a contender's.
func (r *reader) layShot(n ast.Node, settings plan.Settings, path string) plan.Settings {
	r.d.lay(n, reflect.ValueOf(settings).Elem(), path, 0)
	if s, ok := settings.(plan.Completer); ok {
		s.Complete()
	}
	return settings
}

// copied is a copy of settings that shares nothing with them which is laid over in place.
func copied(v reflect.Value) reflect.Value {
	out := reflect.New(v.Type()).Elem()
	out.Set(v)
	switch {
	case v.Kind() == reflect.Pointer && !v.IsNil():
		out.Set(reflect.New(v.Type().Elem()))
		out.Elem().Set(copied(v.Elem()))
	case v.Kind() == reflect.Map && !v.IsNil():
		out.Set(reflect.MakeMap(v.Type()))
		for name, value := range v.Seq2() {
			out.SetMapIndex(name, copied(value))
		}
	case v.Kind() == reflect.Struct:
		for i := range v.NumField() {
			if field := out.Field(i); field.CanSet() {
				field.Set(copied(v.Field(i)))
			}
		}
	}
	return out
}

// faultsAt says what is wrong with a part of the plan, where it stands.
func (r *reader) faultsAt(path string, faults []plan.Fault) {
	for _, f := range faults {
		at := plan.JoinKeys(path, f.Key)
		if _, ok := r.d.places[at]; !ok {
			at = path
		}
		r.fault(at, f.Try, "%s", f.What)
	}
}

// readBystander reads who asks meanwhile; nil for nobody, or what is wrong.
func (r *reader) readBystander(own *entry, settings plan.Settings, path string) *plan.Bystander {
	if own.Bystander == nil || isNull(r.d.bare(own.Bystander)) {
		return nil
	}
	before := len(r.d.problems)
	pairs, ok := r.d.entries(own.Bystander, path)
	if !ok {
		r.d.fault(own.Bystander, "write it as bystander: { http: { url: … } }", "%s must hold keys and values, this is %s",
			path, describe(r.d.bare(own.Bystander)))
		return nil
	}
	b := &plan.Bystander{}
	into := reflect.ValueOf(b).Elem()
	known := append(keysOf(into.Type()), kindNames(r.opt.Kinds)...)
	for _, p := range pairs {
		key := keyName(p)
		at := plan.JoinKeys(path, key)
		kind := slices.IndexFunc(r.opt.Kinds, func(k plan.Kind) bool { return k.Name == key })
		field, ok := fieldOf(into.Type(), key)
		switch {
		case ok:
			r.d.lay(p.Value, into.FieldByIndex(field.Index), at, 1)
		case kind < 0:
			r.d.fault(p.Key, plan.PointTo(key, known), "unknown key %q in %s", key, path)
		case b.Kind != "":
			r.d.fault(p.Key, "keep one of them", "a bystander does one thing")
		default:
			b.Kind, b.Settings = key, r.layShot(p.Value, r.opt.Kinds[kind].New(), at)
		}
	}
	b.Complete()
	_, lasts := settings.(plan.Housed)
	faults := b.Check(own.Service != nil, lasts)
	if b.Kind != "" && len(r.d.problems) == before && !r.opt.Blind {
		for _, f := range b.Settings.Check(plan.Surroundings{Dir: r.dir, Allow: r.doc.Allow}) {
			f.Key = plan.JoinKeys(b.Kind, f.Key)
			faults = append(faults, f)
		}
	}
	if host, _, err := net.SplitHostPort(string(b.TCP)); err == nil && guard.New(r.doc.Allow).Check(host) != nil {
		faults = append(faults, plan.Fault{Key: "tcp", What: host + " is not this machine", Try: guard.Try(host)})
	}
	r.faultsAt(path, faults)
	return b
}

// checkTraces looks at who is to send spans, and where to: s is the service as the plan has it, path where it stands.
func (r *reader) checkTraces(c *plan.Contender, s *plan.Service, kind plan.Kind, path string) {
	t := c.Ground.Traces
	if t == nil {
		return
	}
	switch {
	case !kind.Traces:
		r.fault(path, "take it out", "contenders of kind %s do not mark shots for a service to trace", kind.Name)
	case t.Of > 0 && t.Share > 0:
		r.fault(plan.JoinKeys(path, "share"), "keep one of them", "both of and share are set")
	case t.Listen == "" && (s == nil || s.Running != nil):
		r.fault(path,
			"add service:, or listen: 127.0.0.1:4318 and start yours with OTEL_EXPORTER_OTLP_ENDPOINT=http://127.0.0.1:4318",
			"%s has no service of ours that could be told where to send spans", c.Name)
	case t.Listen != "" && !onThisMachine(t.Listen):
		r.fault(plan.JoinKeys(path, "listen"), "write it as 127.0.0.1:4318", "%q is not an address of this machine's own",
			t.Listen)
	}
	for _, f := range t.Lines.Check(true) {
		r.fault(plan.JoinKeys(path, "lines."+f.Key), f.Try, "%s", f.What)
	}
	if t.Lines != nil && t.Lines.From != "" {
		r.fault(plan.JoinKeys(path, "lines.from"), "take it out", "all that a service prints is read")
	}
	if t.Lines != nil && (s == nil || s.Running != nil) {
		r.fault(plan.JoinKeys(path, "lines"), "add service:", "%s has no service of ours that prints", c.Name)
	}
	if t.Of == 0 && t.Share == 0 {
		t.Of = plan.DefaultTraced
	}
}

// onThisMachine reports whether an address with a port is one that only this machine reaches.
func onThisMachine(address string) bool {
	host, port, err := net.SplitHostPort(address)
	ip := net.ParseIP(host)
	n, bad := strconv.Atoi(port)
	return err == nil && bad == nil && n > 0 && n < 1<<16 && (host == "localhost" || ip != nil && ip.IsLoopback())
}

// checkWatch has the kind that watches databases look at one; path is where it stands.
func (r *reader) checkWatch(w *plan.Watch, path string) {
	if w == nil {
		return
	}
	for _, k := range r.opt.Kinds {
		if k.Watches == nil {
			continue
		}
		for _, f := range k.Watches(w, plan.Surroundings{Dir: r.dir, Allow: r.doc.Allow}) {
			at := plan.JoinKeys(path, f.Key)
			if _, ok := r.d.places[at]; !ok {
				at = path
			}
			r.fault(at, f.Try, "%s", f.What)
		}
	}
}

// checkGiven finds fault with what is only given to a contender with a service.
func (r *reader) checkGiven(name string, s *plan.Service) {
	lacks := func(at *Pos, variable, what, try string) {
		r.d.problems = append(r.d.problems, Problem{
			Pos: *at, What: fmt.Sprintf("the variable %s is not set, and %s has no service %s", variable, name, what),
			Try: fmt.Sprintf("set it before the run: export %s=…, or add %s", variable, try),
		})
	}
	if at := r.d.port; at != nil && s == nil {
		lacks(at, "PORT", "that would be given one", "service:")
	}
	if at := r.d.data; at != nil && (s == nil || len(s.Data) == 0) {
		lacks(at, "DATA", "with data:, which would be given a folder", "data: to its service")
	}
}

// checkFrom enters the commit that a contender is built from, and finds fault with what cannot come from one. A course
// may say how everybody builds who names a revision.
func (r *reader) checkFrom(own *entry, c *plan.Contender, kind plan.Kind, path string) {
	f := own.From
	_, said := r.d.places[path]
	switch {
	case f != nil && f.Git != "":
		if !kind.Programs && own.Service == nil {
			r.fault(path, "leave it out, or add service:", "no program of %s is started here that could be built", c.Name)
		}
		if f.Limit() > plan.MaxBuild {
			r.fault(path+".within", "the longest is "+plan.MaxBuild.String(), "%s is too long for a build", f.Limit())
		}
		c.Ground.From = f
		return
	case f != nil && said && len(r.courses) == 0:
		r.fault(path, "add git: REVISION, as HEAD~1", "nothing says which commit %s is built from", c.Name)
	}
	if at := r.d.tree; at != nil {
		r.d.problems = append(r.d.problems, Problem{
			Pos: *at, What: fmt.Sprintf("the variable TREE is not set, and %s comes from no commit", c.Name),
			Try: "set it before the run: export TREE=…, or add from: { git: REVISION }",
		})
	}
}

// kindOf finds the one kind that a contender, or else the course, names.
func (r *reader) kindOf(name string, layers []source) (plan.Kind, bool) {
	mentioned := func(srcs []source) (found []plan.Kind) {
		for _, k := range r.opt.Kinds {
			for _, s := range srcs {
				pairs, _ := r.d.entries(s.node, "")
				if slices.ContainsFunc(pairs, func(p *ast.MappingValueNode) bool { return keyName(p) == k.Name }) {
					found = append(found, k)
					break
				}
			}
		}
		return found
	}
	found := mentioned(layers)
	if len(found) == 0 {
		found = mentioned(r.courses)
	}
	if len(found) == 1 {
		return found[0], true
	}
	r.d.file = layers[0].file
	choice := "say one of " + strings.Join(kindNames(r.opt.Kinds), ", ")
	if len(found) == 0 {
		// An unknown key is the likelier mistake, and the more useful message.
		before := len(r.d.problems)
		r.layKind(
			layers[0].node, plan.Kind{}, &entry{}, false, nil, plan.JoinKeys("contenders", name),
			plan.JoinKeys("contenders", name),
		)
		if len(r.d.problems) == before {
			r.d.fault(layers[0].node, choice, "%s: nothing says what kind of contender this is", name)
		}
	} else {
		r.d.fault(layers[0].node, choice, "%s: more than one kind is named: %s", name, strings.Join(kindNames(found), ", "))
	}
	return plan.Kind{}, false
}

// courseKeys are the keys of a contender that a course may have, too.
var courseKeys = []string{"bystander", "crash", "from", "service", "traces", "watch"}

// layKind lays one node of course or contender: the kind's key over settings, the rest over own. In a course other
// kinds' keys may stand too.
func (r *reader) layKind(
	n ast.Node, kind plan.Kind, own *entry, course bool, settings plan.Settings, path, shown string,
) {
	if isNull(r.d.bare(n)) {
		return
	}
	entryKeys := keysOf(reflect.TypeFor[entry]())
	if course {
		entryKeys = courseKeys
	}
	known := append(kindNames(r.opt.Kinds), entryKeys...)
	pairs, ok := r.d.entries(n, shown)
	if !ok {
		r.d.fault(
			n, "its keys: "+strings.Join(known, ", "), "%s must hold keys and values, this is %s", shown,
			describe(r.d.bare(n)),
		)
		return
	}
	r.d.places[path] = r.d.pos(n)
	for _, p := range pairs {
		key := keyName(p)
		switch {
		case key == kind.Name && settings != nil:
			r.d.lay(p.Value, reflect.ValueOf(settings).Elem(), plan.JoinKeys(path, key), 0)
		case slices.Contains(entryKeys, key):
			field, _ := fieldOf(reflect.TypeFor[entry](), key)
			if r.d.refusesVariable(p.Value, field, plan.JoinKeys(shown, key)) {
				continue
			}
			r.d.lay(p.Value, reflect.ValueOf(own).Elem().FieldByIndex(field.Index), plan.JoinKeys(path, key), 0)
		case slices.Contains(known, key):
			// Another kind's settings in the course: not this contender's business.
		default:
			r.d.fault(p.Key, plan.PointTo(key, known), "unknown key %q in %s", key, shown)
		}
	}
}

// keepOnly drops the contenders that were not asked for; the baseline always stays.
func (r *reader) keepOnly(p *plan.Plan) {
	for _, name := range r.opt.Only {
		if _, ok := p.Find(name); !ok {
			r.d.problems = append(r.d.problems, Problem{Pos: Pos{
				File: "--only " + name,
			}, What: fmt.Sprintf("no contender is called %q", name), Try: plan.PointTo(name, names(p.Contenders))})
		}
	}
	if len(r.opt.Only) > 0 {
		p.Contenders = slices.DeleteFunc(p.Contenders, func(c plan.Contender) bool {
			return c.Name != p.Baseline && !slices.Contains(r.opt.Only, c.Name)
		})
		p.Claims = slices.DeleteFunc(p.Claims, func(c plan.Claim) bool {
			_, own := p.Find(c.Contender)
			_, than := p.Find(c.Than)
			return !own || c.Than != "" && !than
		})
	}
}

func names(cs []plan.Contender) (out []string) {
	for _, c := range cs {
		out = append(out, c.Name)
	}
	return out
}

func kindNames(ks []plan.Kind) (out []string) {
	for _, k := range ks {
		out = append(out, k.Name)
	}
	return out
}
