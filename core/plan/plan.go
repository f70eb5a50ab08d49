// Package plan reads the plan file of a duel: what is asked, of whom, how they are driven.
//
// It promises that a plan it returns can be run as far as the file can tell: every key known, every number in range,
// every variable set. What is wrong comes back as Problems, all at once, each with file, line and column.
// What a kind of contender may be told is the kind's own business: kinds hand in their settings type, and reader and
// published schema both derive from that one type. Running anything is left to the other packages.
package plan

import (
	"fmt"
	"io/fs"
	"maps"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"time"
	"unicode"

	"paceduel/core/figure"
	"paceduel/core/mask"
)

// Suffix is how plan files end.
const Suffix = ".duel.yaml"

// Limits of a plan. They keep a slip of the keyboard from becoming a flood.
const (
	MinContenders = 2
	MaxContenders = 8
	MaxRounds     = 1000
	MaxClients    = 1024
	MaxWaiting    = 20_000 // shots under way of kinds that wait more than they do
	MaxShots      = 10_000_000
	MaxHeat       = time.Hour
	MaxName       = 40 // characters of a contender's name, which has to fit beside its bars
)

// Defaults for what a plan leaves out.
const (
	DefaultRounds   = 10 // see RoundsFor
	DefaultInterest = 0.02
	DefaultFor      = 2 * time.Second
	DefaultWarmup   = 500 * time.Millisecond
)

// Plan is a duel ready to run. It is not modified after Read.
type Plan struct {
	Name       string
	Question   string
	Baseline   string
	Contenders []Contender // two to eight, in the order of the file
	Pace       Pace
	Rounds     int    // at least, with Until
	Until      *Until // nil: as many as Rounds says
	// rounds after which it is looked at, the last of them the most; nil: as many as Rounds says
	Looks     []int
	Seed      uint64                   // 0: one is drawn at the start of the run
	Interest  Fraction                 // the smallest difference worth telling apart
	Interests map[figure.Name]Fraction // the same of single figures
	Rungs     []figure.Name            // that carry the verdict; empty: those of the pace
	Stakes    *Stakes                  // what the difference is worth; nil: not said
	Decides   figure.Name              // the figure that carries the verdict; empty: all, corrected for their number
	Claims    []Claim                  // statements that the run is held to
	Same      *Same                    // what their answers must have in common; nil: only looked at
	Footing   Footing                  // what runs start from, as far as all share it
	Allow     []string                 // hosts other than this machine that may be driven
	Sweep     *Sweep                   // over which values; nil: the one duel. The rest is then that of its first point
	Load      *Load                    // who drives it from elsewhere; nil: whoever runs it

	File string // as it was named
	Dir  string // the folder that relative paths start from
	// Options is how advice that speaks of the plan's keys is put to whoever gave options instead; nil: as it is.
	Options *strings.Replacer
	Source  string   // the file's text, before variables were filled in: safe to keep
	Sets    []string // KEY=VALUE laid over the file, in order

	vars  map[string]string // variables taken from the environment
	masks *mask.Mask
}

// Vars are the names of the variables that the plan takes from the environment, sorted.
func (p *Plan) Vars() []string { return slices.Sorted(maps.Keys(p.vars)) }

// TakeVars hands the plan what was taken from the environment, and what hides it. It is for whoever reads plans.
func (p *Plan) TakeVars(vars map[string]string, masks *mask.Mask) { p.vars, p.masks = vars, masks }

// Masks hides every value that the plan took from the environment, so that what is shown and kept says ${NAME} in its
// place. Values under mask.Shortest characters are left as they are.
func (p *Plan) Masks() *mask.Mask { return p.masks }

// Mask is a text with those values hidden.
func (p *Plan) Mask(text string) string { return p.masks.Text(text) }

// Contender is one alternative, with the course's settings already laid under its own.
type Contender struct {
	Name     string
	Note     string // why it is there
	Avoid    string // when it must not be used
	Kind     string
	Settings Settings
	Ground   Ground // where it stands, with the plan's footing laid under it
	Mirror   bool   // the baseline's twin

	Defaults Settings // of the kind
}

// MirrorSuffix is what the name of the baseline's twin ends in.
const MirrorSuffix = " again"

// Find returns the contender of that name.
func (p *Plan) Find(name string) (Contender, bool) {
	for _, c := range p.Contenders {
		if c.Name == name {
			return c, true
		}
	}
	return Contender{}, false
}

// Named are the figures that the plan names, in no order and some of them more than once.
func (p *Plan) Named() []figure.Name {
	names := append(slices.Clone(p.Rungs), p.Decides)
	for i := range p.Claims {
		names = append(names, p.Claims[i].Figure)
	}
	if p.Until != nil {
		names = append(names, figure.Name(p.Until.Figure))
	}
	return names
}

// Settings are what one kind of contender can be told, decoded from the plan. The struct's json tags name the keys.
type Settings interface {
	// Check reports what is wrong with the settings taken together. It starts nothing and sends nothing, but may look at
	// files.
	Check(Surroundings) []Fault
	// Summary is one line of what is done, for people: the command, the request.
	Summary() string
}

// Expecter are settings that may say themselves which outcome a good shot has.
type Expecter interface{ Expects() bool }

// Completer are settings of which some follow from others; they are completed before they are checked.
type Completer interface{ Complete() }

// Surroundings are what settings are checked against.
type Surroundings struct {
	Dir   string   // relative paths start here
	Allow []string // hosts other than this machine that may be driven
	// Fixtures are what the workspace is copied from, when there is one: relative paths are then looked for in these.
	Fixtures []string
}

// Find returns the place of a path that the contender will see, and whether it is there.
func (s Surroundings) Find(path string) (string, os.FileInfo, error) {
	if filepath.IsAbs(path) || len(s.Fixtures) == 0 {
		full := Resolve(s.Dir, path)
		info, err := os.Stat(full)
		return full, info, err
	}
	for _, fixture := range s.Fixtures {
		info, err := os.Stat(fixture)
		if err != nil {
			continue
		}
		full := filepath.Join(fixture, path)
		if !info.IsDir() {
			full = filepath.Join(filepath.Dir(fixture), path)
			if filepath.Base(fixture) != filepath.Clean(path) && filepath.Clean(path) != "." {
				continue
			}
		}
		if info, err := os.Stat(full); err == nil {
			return full, info, nil
		}
	}
	return path + " in the workspace", nil, fs.ErrNotExist
}

// Streaming is implemented by settings whose shots tell of streams: times with percentiles of their own. Floors says
// what the way in which some of them are seen may add to them.
type Streaming interface {
	Streams() []string
	Floors() map[string]time.Duration
}

// Caching is implemented by settings of contenders whose clients keep a cache of their own: it is what is cold for a
// first visit and warm for a returning one.
type Caching interface{ HoldsCache() bool }

// Fault is a problem of settings before the plan has given it a place in the file.
type Fault struct {
	Key  string // dotted, below the kind's key: "url"
	What string
	Try  string
}

// Kind is a kind of contender as far as plans are concerned.
type Kind struct {
	Name string          // the key in the plan
	Doc  string          // one line for the schema
	New  func() Settings // a pointer to a fresh struct with its defaults
	// Brings are the figures that its contenders have beside those of the table.
	Brings []figure.Name
	// Counts are figures that any contender has whose database the kind watches.
	Counts []figure.Name
	// Watches finds fault with a database that is to be watched; nil for kinds that watch none.
	Watches func(*Watch, Surroundings) []Fault
	// Programs says that its contenders are programs, which may be built from a commit.
	Programs bool
	// Traces says that its contenders can tell a service which shots to send spans of.
	Traces bool
	// Many says that its shots may be under way by the thousand, since they wait more than they do.
	Many bool
	// Afar lists the files that agents on other machines need to drive a contender, and finds fault with what they cannot
	// do; nil where they can drive none.
	Afar func(Settings) (files []string, faults []Fault)
	// Tells says that its contenders may tell times of themselves without a mark of the plan.
	Tells bool
}

// RoundsFor is how many rounds a plan has that does not say: as many as the words for six figures of each challenger
// need, corrected for their number, with some to spare from three challengers on. A challenger counts once for each
// state of caches.
func RoundsFor(challengers int) int {
	switch {
	case challengers <= 2:
		return DefaultRounds
	case challengers <= 4:
		return 12
	}
	return 14
}

// Pace is how every contender is driven: one shot after another (Repeat), Clients at once (a closed model), or shots
// due at a Rate whoever still waits (an open model). Exactly one of the three is set, and with Clients and Rate exactly
// one of For and Shots. With Climb, Clients or Rate is the highest that is reached.
type Pace struct {
	Repeat  int     `json:"repeat,omitempty" jsonschema:"minimum=1,maximum=10000000" jsonschema_description:"this many shots one after another in each heat"`
	Clients int     `json:"clients,omitempty" jsonschema:"minimum=1,maximum=1024" jsonschema_description:"this many at once, each asking again as soon as it has its answer"`
	Rate    Rate    `json:"rate,omitempty" jsonschema_description:"shots become due at this rate, whether earlier ones were answered or not; latency counts from when a shot was due"`
	Spread  string  `json:"spread,omitempty" jsonschema:"enum=even,enum=poisson" jsonschema_description:"with rate: evenly spaced, or at random gaps as independent users come; with think: always as long, or at random around it; even unless said"`
	Climb   *Climb  `json:"climb,omitempty" jsonschema_description:"from one rate or number of clients to another within each heat, to find how much a contender holds"`
	Think   Span    `json:"think,omitempty" jsonschema_description:"with clients: each waits this long between an answer and its next shot"`
	Stagger Span    `json:"stagger,omitempty" jsonschema_description:"with clients: they begin one after another, spread over this time"`
	Most    int     `json:"most,omitempty" jsonschema:"minimum=1,maximum=20000" jsonschema_description:"with rate: how many shots may be under way at once, up to 1024, of relays up to 20000; 64 unless said"`
	For     Span    `json:"for,omitempty" jsonschema_description:"how long a heat lasts, with clients or rate"`
	Shots   int     `json:"shots,omitempty" jsonschema:"minimum=1,maximum=10000000" jsonschema_description:"how many shots a heat has in all, with clients or rate"`
	Warmup  *Warmup `json:"warmup,omitempty"`
	Rush    bool    `json:"rush,omitempty" jsonschema_description:"with rate: shots come from the moment that the contender's service is created, not only once it is ready"`
	Wake    Span    `json:"wake,omitempty" jsonschema_description:"after the judged part of each heat nothing happens for this long, then one more shot: what it takes is a figure of its own"`
}

// Sequential reports whether shots follow one another, so that throughput says no more than the mean does.
func (p Pace) Sequential() bool { return p.Repeat > 0 }

// WarmsUp reports whether heats begin with shots that are not judged.
func (p Pace) WarmsUp() bool { return p.Warmup != nil && *p.Warmup != (Warmup{}) }

func (p Pace) String() string {
	text := p.load()
	if p.Rush {
		text += " from the creation of the service on"
	}
	if p.Wake > 0 {
		text += ", once more after " + p.Wake.D().String() + " of silence"
	}
	return text
}

func (p Pace) load() string {
	switch {
	case p.Climb != nil:
		return p.Climb.String() + p.spread() + " over " + p.For.D().String()
	case p.Repeat == 1:
		return "1 run a heat"
	case p.Repeat > 0:
		return plural(p.Repeat, "run") + " a heat, one after another"
	case p.Rate > 0 && p.Shots > 0:
		return plural(p.Shots, "shot") + " a heat at " + p.Rate.String() + p.spread()
	case p.Rate > 0:
		return p.Rate.String() + p.spread() + " for " + p.For.D().String()
	case p.Shots > 0:
		return plural(p.Clients, "client") + p.thinking() + ", " + plural(p.Shots, "shot") + " a heat"
	}
	return plural(p.Clients, "client") + p.thinking() + " for " + p.For.D().String()
}

func (p Pace) thinking() string {
	if p.Think == 0 {
		return ""
	}
	if p.Spread == Poisson {
		return " that think about " + p.Think.D().String()
	}
	return " that think " + p.Think.D().String()
}

// Open reports whether shots are due at a rate, whoever still waits.
func (p Pace) Open() bool { return p.Rate > 0 }

func (p Pace) spread() string {
	if p.Spread == Poisson {
		return ", as independent users come,"
	}
	return ""
}

// Poisson is the spread of shots that come independently of each other.
const Poisson = "poisson"

// DefaultMost is how many shots of an open model may be under way at once unless a plan says otherwise.
const DefaultMost = 64

// DefaultWaiting is the same of kinds whose shots wait more than they do.
const DefaultWaiting = 10_000

// Climb takes each heat from one level of load to another, and asks up to which a contender holds a limit.
type Climb struct {
	From  Level  `json:"from,omitempty" jsonschema_description:"where it begins: a rate, as 100/s, or a number of clients"`
	To    Level  `json:"to,omitempty" jsonschema_description:"where it ends, of the same kind and higher"`
	Steps int    `json:"steps,omitempty" jsonschema:"minimum=2,maximum=50" jsonschema_description:"so many levels, each a fixed multiple of the one before; smoothly unless said"`
	Under Span   `json:"under,omitempty" jsonschema_description:"the limit that a level has to keep to be held"`
	At    string `json:"at,omitempty" jsonschema:"enum=p50,enum=p90,enum=p99" jsonschema_description:"of which figure; p99 unless said"`
}

// Stretches is in how many a smooth climb is looked at.
const Stretches = 12

// DefaultStep is how long each level of a climb lasts unless its heat's length is said.
const DefaultStep = time.Second

// Levels are the rates or numbers of clients of the steps, the lowest first. A smooth climb has those of the middle of
// its stretches.
func (c *Climb) Levels() []float64 {
	n, first, last := c.Steps, 0.0, float64(c.Steps-1)
	if n == 0 {
		n, first, last = Stretches, 0.5, Stretches
	}
	out := make([]float64, n)
	for i := range out {
		out[i] = c.From.Value() * math.Pow(c.To.Value()/c.From.Value(), (first+float64(i))/last)
		if c.From.Clients > 0 {
			out[i] = math.Round(out[i])
		}
	}
	return out
}

func (c *Climb) String() string {
	how := " smoothly"
	if c.Steps > 0 {
		how = fmt.Sprintf(" in %d steps", c.Steps)
	}
	if c.From.Clients > 0 {
		return fmt.Sprintf("%d to %d clients%s", c.From.Clients, c.To.Clients, how)
	}
	return c.From.Rate.String() + " to " + c.To.Rate.String() + how
}

// Until has a duel go on until a figure's ratio is known well enough.
type Until struct {
	Figure string   `json:"figure,omitempty" jsonschema_description:"whose ratio is to be known, of every contender"`
	Within Fraction `json:"within,omitempty" jsonschema_description:"the half-width that its interval has to reach, as 5%"`
	Most   int      `json:"most,omitempty" jsonschema:"minimum=6,maximum=1000" jsonschema_description:"rounds after which it ends whatever was reached; 60 unless said"`
}

// DefaultUntilMost is how many rounds an until allows unless it says otherwise.
const DefaultUntilMost = 60

// UntilFrom is the least number of rounds after which an until may be reached: the interval is a sound one from there.
const UntilFrom = 6

// Same are the rules by which the contenders' answers are held to the baseline's. Status or exit code always count; a
// rule that is not set does not.
type Same struct {
	Body      string   `json:"body,omitempty" jsonschema:"enum=exact,enum=json,enum=lines,enum=rows" jsonschema_description:"exact: the same bytes; json: the same values, members in any order; lines: as many lines; rows: the same lines in any order"`
	Through   string   `json:"through,omitempty" jsonschema_description:"a shell line that each answer is put through before the rules look at it, as gzip -dc"`
	Ignore    []string `json:"ignore,omitempty" jsonschema_description:"with json: JSON Pointers left out; * stands for any member or index"`
	Unordered bool     `json:"unordered,omitempty" jsonschema_description:"with json: lists may be in any order"`
	Tolerance Fraction `json:"tolerance,omitempty" jsonschema_description:"with json: numbers may differ by this share"`
	At        []string `json:"at,omitempty" jsonschema_description:"JSON Pointers at which the values must be the same"`
	Match     string   `json:"match,omitempty" jsonschema_description:"a regular expression that every answer must match"`
	List      string   `json:"list,omitempty" jsonschema_description:"with rows and a key that is a pointer: the JSON Pointer of the list of rows; the answer itself unless said"`
	Key       Word     `json:"key,omitempty" jsonschema_description:"with rows: what identifies a row, a JSON Pointer into it or a regular expression whose first group is the key; then only keys are compared"`
	Files     string   `json:"files,omitempty" jsonschema:"enum=hash,enum=size,enum=names" jsonschema_description:"the files that a run writes in its workspace must have the same contents, sizes or names"`
	// of answers during the run
	Sample *Fraction `json:"sample,omitempty" jsonschema_description:"the share of answers that is held to the same rules during the run; 1% unless said"`
	Count  string    `json:"count,omitempty" jsonschema_description:"a regular expression whose matches are counted; the counts must be the same"`
}

// DefaultSample is the share of answers that is looked at during the run unless a plan says otherwise.
const DefaultSample = 0.01

// SampleFrac is the share of answers that is compared during the run; nil rules take the default.
func (s *Same) SampleFrac() float64 {
	if s == nil || s.Sample == nil {
		return DefaultSample
	}
	return float64(*s.Sample)
}

// Ruled reports whether anything but the sample is said, so that a difference is a breach and not only told.
func (s *Same) Ruled() bool {
	if s == nil {
		return false
	}
	rules := *s
	rules.Sample = nil
	return s.Sample == nil || !reflect.DeepEqual(rules, Same{})
}

// FileName is the name of the file that a duel of that name is kept in unless said otherwise.
func FileName(duel string) string { return Slug(duel) + Suffix }

// Slug makes a part of a file name of a title: lower case letters and digits, joined by hyphens.
func Slug(title string) string {
	words := strings.FieldsFunc(
		strings.ToLower(title), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) },
	)
	slug := []rune(strings.Join(words, "-"))
	if len(slug) == 0 {
		return "duel"
	}
	return strings.Trim(string(slug[:min(len(slug), 60)]), "-")
}
