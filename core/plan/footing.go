package plan

import (
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/invopop/jsonschema"
)

// State is what caches are like when a run starts.
type State string

// The states. AsFound is whatever the run before left. Asleep and First are cold, Awake and Returning warm, in the
// words that fit whoever has been idle, and visits with a cache of their own.
const (
	AsFound   State = "as found"
	Cold      State = "cold"
	Warm      State = "warm"
	Asleep    State = "asleep"
	Awake     State = "awake"
	First     State = "first"
	Returning State = "returning"
)

// pairs are the states that go together, the colder one first.
var pairs = [][2]State{{Cold, Warm}, {Asleep, Awake}, {First, Returning}}

// StateNames are all states that a plan may name.
var StateNames = func() (names []string) {
	for _, p := range pairs {
		names = append(names, string(p[0]), string(p[1]))
	}
	return append(names, string(AsFound))
}()

// IsCold reports whether nothing is left of earlier runs.
func (s State) IsCold() bool {
	return slices.ContainsFunc(pairs, func(p [2]State) bool { return s == p[0] })
}

// IsWarm reports whether earlier runs have left what they could.
func (s State) IsWarm() bool {
	return slices.ContainsFunc(pairs, func(p [2]State) bool { return s == p[1] })
}

// Pair are the cold and the warm one of some states that belong together; ok is false where there are not both.
func Pair(states []string) (cold, warm State, ok bool) {
	for _, p := range pairs {
		if slices.Contains(states, string(p[0])) && slices.Contains(states, string(p[1])) {
			return p[0], p[1], true
		}
	}
	return "", "", false
}

// Footing is the state that runs start from, as far as all contenders share it. What a contender may have of its own
// is its Ground, with this laid under it.
type Footing struct {
	Caches  States `json:"caches,omitempty" jsonschema_description:"what caches are like when a run starts: cold, warm or as found; [cold, warm] makes two figures of each contender, as do [asleep, awake] and [first, returning], which say the same in other words"`
	Machine bool   `json:"machine,omitempty" jsonschema_description:"cold drops all that this machine keeps of files in memory, where that is allowed"`
	OwnCPUs CPUs   `json:"own-cpus,omitempty" jsonschema_description:"processors that Pace Duel keeps to"` // ours
	Before  Steps  `json:"before,omitempty" jsonschema_description:"shell lines run before, untimed"`
	After   Steps  `json:"after,omitempty" jsonschema_description:"shell lines run afterwards, untimed"`
	Place
}

// Ground is the footing of one contender.
type Ground struct {
	Service *Service `json:"-"` // that it needs; it stands beside the footing in a plan
	Watch   *Watch   `json:"-"` // the same
	Traces  *Traces  `json:"-"` // the same
	Crash   *Crash   `json:"-"` // the same
	// Bystander is who asks meanwhile; nil: nobody. It stands beside the footing, too.
	Bystander *Bystander `json:"-"`
	// From is the commit that its program is built from, and Tree the folder in which it was; nil and empty for what is
	// there. From stands beside the footing, too.
	From   *From    `json:"-"`
	Tree   string   `json:"-"`
	Before RunSteps `json:"before,omitempty" jsonschema_description:"shell lines run before, untimed"`
	After  RunSteps `json:"after,omitempty" jsonschema_description:"shell lines run afterwards, untimed"`
	Place
}

// Place is where a contender stands and how it is kept there.
type Place struct {
	Workspace *Workspace `json:"workspace,omitempty" jsonschema_description:"a copy of files or folders in which a contender works; the originals are never written"`
	Stores    Lines      `json:"stores,omitempty" jsonschema_description:"folders that the contender keeps its own caches in: emptied before a cold run, kept for a warm one"`
	Pages     Lines      `json:"pages,omitempty" jsonschema_description:"files and folders that leave this machine's memory before a cold run and are read into it for a warm one; the whole workspace unless said"`
	Idle      Span       `json:"idle,omitempty" jsonschema_description:"how long nothing happens before each run"`
	CPUs      CPUs       `json:"cpus,omitempty" jsonschema_description:"processors that the contender's processes are kept to"`
	Nice      int        `json:"nice,omitempty" jsonschema:"minimum=-20,maximum=19" jsonschema_description:"niceness of the contender's processes"`
}

// Steps are shell lines, run untimed.
type Steps struct {
	Duel  Lines `json:"duel,omitempty" jsonschema_description:"once for the whole duel, in the plan's folder"`
	Round Lines `json:"round,omitempty" jsonschema_description:"once for each round, in the plan's folder"`
	RunSteps
}

// RunSteps are the steps that belong to a contender: where it stands.
type RunSteps struct {
	Heat Lines `json:"heat,omitempty" jsonschema_description:"for each heat, where the contender stands"`
	Run  Lines `json:"run,omitempty" jsonschema_description:"for each run, where the contender stands"`
}

// Workspace is a copy of files or folders in which a contender does its work; the originals are never written.
type Workspace struct {
	From  Lines  `json:"from" jsonschema:"required" jsonschema_description:"what is copied: a file by its name, a folder by what is in it"`
	Fresh string `json:"fresh,omitempty" jsonschema:"enum=run,enum=heat,enum=duel" jsonschema_description:"how often it is copied anew; for every heat unless said"`
	At    string `json:"at,omitempty" jsonschema_description:"the folder to keep copies in; the user's cache folder unless said"`
}

// How often a workspace is copied anew.
const (
	EveryRun   = "run"
	EveryHeat  = "heat"
	EveryRound = "round" // of services alone
	EveryDuel  = "duel"
)

// Short reads a workspace written as the one thing to copy.
func (w *Workspace) Short(text string) { w.From = Lines{text} }

// JSONSchema describes a workspace for the published schema.
func (Workspace) JSONSchema() *jsonschema.Schema {
	type keys Workspace // without this method
	r := jsonschema.Reflector{Anonymous: true, DoNotReference: true, RequiredFromJSONSchemaTags: true}
	whole := r.Reflect(keys{})
	whole.Version = ""
	return &jsonschema.Schema{
		Description: "a copy of files or folders in which a contender works; the originals are never written",
		OneOf:       []*jsonschema.Schema{{Type: "string", MinLength: new(uint64(1))}, whole},
	}
}

// Lines are one text or several.
type Lines []string

// JSONSchema describes lines for the published schema.
func (Lines) JSONSchema() *jsonschema.Schema {
	text := &jsonschema.Schema{Type: "string", MinLength: new(uint64(1))}
	return &jsonschema.Schema{OneOf: []*jsonschema.Schema{text, {Type: "array", Items: text, MinItems: new(uint64(1))}}}
}

// States are the states that each contender is run in, each a figure of its own.
type States []State

// JSONSchema describes states for the published schema.
func (States) JSONSchema() *jsonschema.Schema {
	one := &jsonschema.Schema{Type: "string"}
	for _, s := range StateNames {
		one.Enum = append(one.Enum, s)
	}
	return &jsonschema.Schema{
		Description: "what caches are like when a run starts: cold, warm or as found; [cold, warm] makes two figures of " +
			"each contender, as do [asleep, awake] and [first, returning], which say the same in other words",
		OneOf: []*jsonschema.Schema{
			one, {Type: "array", Items: one, MinItems: new(uint64(1)), MaxItems: new(uint64(2)), UniqueItems: true},
		},
	}
}

// CPUs are processors by number, written as in "0" or "2-5,8", sorted.
type CPUs []int

const (
	cpusPattern = `^[0-9]{1,4}(-[0-9]{1,4})?(,[0-9]{1,4}(-[0-9]{1,4})?)*$`
	maxCPU      = 1023 // what the kernel's set holds
)

// Read accepts numbers and ranges.
func (c *CPUs) Read(text string) error {
	wrong := fmt.Errorf("%q names no processors, write it as 0 or 2-5,8, up to %d", text, maxCPU)
	var list CPUs
	for part := range strings.SplitSeq(text, ",") {
		first, last, isRange := strings.Cut(part, "-")
		from, err := strconv.ParseUint(first, 10, 16)
		if err != nil {
			return wrong
		}
		to := from
		if isRange {
			if to, err = strconv.ParseUint(last, 10, 16); err != nil {
				return wrong
			}
		}
		if to < from || to > maxCPU {
			return wrong
		}
		for n := from; n <= to; n++ {
			list = append(list, int(n))
		}
	}
	slices.Sort(list)
	*c = slices.Compact(list)
	return nil
}

// String writes them the way they are read.
func (c CPUs) String() string {
	var out []string
	for i := 0; i < len(c); {
		j := i
		for j+1 < len(c) && c[j+1] == c[j]+1 {
			j++
		}
		if j == i {
			out = append(out, strconv.Itoa(c[i]))
		} else {
			out = append(out, fmt.Sprintf("%d-%d", c[i], c[j]))
		}
		i = j + 1
	}
	return strings.Join(out, ",")
}

// JSONSchema describes processors for the published schema.
func (CPUs) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Description: "processors by number, as 0 or 2-5,8", OneOf: []*jsonschema.Schema{
		{Type: "string", Pattern: cpusPattern}, {Type: "integer", Minimum: "0", Maximum: "1023"},
	}}
}

// Fixtures are the places that the workspace is copied from; nil without one. Relative ones start in dir.
func (g *Ground) Fixtures(dir string) (paths []string) {
	if g.Workspace != nil {
		for _, from := range g.Workspace.From {
			paths = append(paths, Resolve(dir, from))
		}
	}
	return paths
}

// Over lays what a contender says of its own ground over what all share.
func (g *Ground) Over(f *Footing) {
	replace := func(own *Lines, shared Lines) {
		if len(*own) == 0 {
			*own = shared
		}
	}
	replace(&g.Before.Heat, f.Before.Heat)
	replace(&g.Before.Run, f.Before.Run)
	replace(&g.After.Heat, f.After.Heat)
	replace(&g.After.Run, f.After.Run)
	replace(&g.Stores, f.Stores)
	replace(&g.Pages, f.Pages)
	if g.Workspace == nil {
		g.Workspace = f.Workspace
	}
	if g.Idle == 0 {
		g.Idle = f.Idle
	}
	if len(g.CPUs) == 0 {
		g.CPUs = f.CPUs
	}
	if g.Nice == 0 {
		g.Nice = f.Nice
	}
	if g.Workspace != nil && g.Workspace.Fresh == "" {
		copied := *g.Workspace
		copied.Fresh = EveryHeat
		g.Workspace = &copied
	}
	if g.Workspace != nil && len(g.Pages) == 0 {
		g.Pages = Lines{"."}
	}
}

// Resolve is a path that starts in dir unless it is absolute.
func Resolve(dir, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(dir, path)
}
