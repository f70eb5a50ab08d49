package rounds

import (
	"time"

	"paceduel/core/cell"
	"paceduel/core/mask"
	"paceduel/core/pace"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Event is something that happened in a run. Events come in one stream, in order; whoever takes them owns them. Where
// one changes what is known of the run as a whole, it carries its head as it is now: the result without heats.
type Event interface{ event() }

// Started is the first event: the result's head, without heats.
type Started struct{ Result *result.Result }

// Building says that a contender's program is about to be built from a commit.
type Building struct {
	Contender string `text:"name"`
	Revision  string
	Line      string // empty: the copy of the commit is taken as it is
}

// WasBuilt says what was built.
type WasBuilt struct {
	Contender string `text:"name"`
	Build     result.Build
}

// Footed says what runs start from, and what of it this machine cannot do; it comes before anything is run.
type Footed struct {
	Footing result.Footing
	Head    *result.Result `text:"ours"` // hidden where the result is
}

// Asking says whom the weigh-in is at, and since when; it comes again while that lasts.
type Asking struct {
	cell.Cell
	Took time.Duration
}

// Touched is a contender's first shot, in the order of the plan.
type Touched struct {
	Contender string `text:"name"`
	Touch     *result.Touch
	Head      *result.Result `text:"ours"`
}

// Weighed says what the comparison of the answers found; it comes when all contenders passed.
type Weighed struct {
	Weighing *result.Weighing
	Head     *result.Result `text:"ours"`
}

// HeatBegan says that a heat is about to begin.
type HeatBegan struct {
	Round int // from 1
	cell.Cell
	At   time.Duration // since the start of the run
	Left time.Duration // estimate for the whole run; negative when there is nothing to go by
}

// StageBegan says that a heat's warm-up or judged part begins. It is left out when nobody keeps up.
type StageBegan struct {
	Round int
	cell.Cell
	Stage pace.Stage
	At    time.Duration
}

// Progress is a glance at a heat under way. Some are left out when nobody keeps up.
type Progress struct {
	Round int
	cell.Cell
	Stage    pace.Stage
	At       time.Duration
	Left     time.Duration
	Shots    int64         // of this stage so far
	Rate     float64       // shots a second over this stage so far
	Recent   []result.Dot  // some of the shots since the last glance, oldest first
	Said     string        // the end of what the contender's service printed
	P50, P99 time.Duration // of the latest shots, to watch by; the judged figures are computed after the heat
	// Waits is how many shots wait for what they bring about, and Longest for how long the one that began first.
	Waits   int
	Longest time.Duration
	// Agents are those who drive it from elsewhere.
	Agents []AgentGlance
}

// HeatEnded carries a finished heat, or one that was cut.
type HeatEnded struct {
	Heat result.Heat
	Left time.Duration
}

// Ended is the last event: the whole result, and what kept the run from completing, if anything did.
type Ended struct {
	Result *result.Result
	Err    error
}

// Crashed is a contender that was ended while it worked, of so many in all.
type Crashed struct {
	Crash result.Crash
	Of    int
}

func (Crashed) event()    {}
func (Started) event()    {}
func (Building) event()   {}
func (WasBuilt) event()   {}
func (Footed) event()     {}
func (Asking) event()     {}
func (Touched) event()    {}
func (Weighed) event()    {}
func (HeatBegan) event()  {}
func (StageBegan) event() {}
func (Progress) event()   {}
func (HeatEnded) event()  {}
func (Ended) event()      {}

// NotKept says that the run goes on but is not stored, or, without an error, that it is again. It comes from whoever
// stores it.
type NotKept struct{ Err error }

func (NotKept) event() {}

// send hands out an event: the one way, with offer, on which anything leaves a run while it goes on. Values that the
// plan took from the environment stay behind.
func (r *runner) send(e Event) {
	switch e.(type) {
	case Ended, HeatEnded: // hidden before, as the result has them
	default:
		r.texts(&e)
	}
	r.out <- e
}

// texts makes the texts of others that v leads to fit to leave us: without values of the environment, and without what
// a terminal would obey.
func (r *runner) texts(v any) {
	masks := r.cfg.Plan.Masks()
	mask.Others(v, func(text string) string { return units.PrintableLines(masks.Text(text)) })
}

// hide hides values of the environment in a result, but for its heats, in which they are hidden as each of them ends.
func (r *runner) hide(res *result.Result) {
	heats := res.Heats
	res.Heats = nil
	r.texts(res)
	res.Heats = heats
}
