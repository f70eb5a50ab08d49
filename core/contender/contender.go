// Package contender says what every kind of contender must be able to do, so that whoever drives one need not know
// which kind it is.
//
// A kind is a plug: a folder beside this file with its settings and its driver, and one line in package all. The
// conformance suite in the folder conformance is the contract in executable form; every kind passes it.
// Deciding when a shot is due is left to package pace, recording to package tally.
package contender

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"paceduel/core/clock"
	"paceduel/core/draft"
	"paceduel/core/guard"
	"paceduel/core/launch"
	"paceduel/core/plan"
	"paceduel/core/shares"
	"paceduel/core/shots"
)

// Kind is a kind of contender: what its plan may say, and how a driver is made of that.
type Kind struct {
	plan.Kind
	// Open makes a driver. It may look at files and look up programs, but sends nothing and starts no shot. The error
	// says what was attempted and what to do.
	Open func(Setup, plan.Settings) (Driver, error)
	// Descriptors is about how many files and connections a client has open at once; 0: two.
	Descriptors int
	// Processes is how many processes and threads of ours a client takes; 0: none of its own.
	Processes int
	// Light says that a client more costs its contender a connection at most, and not a process or a session.
	Light bool
	// Watch, when set, keeps an account of a database that contenders of any kind use, by the names of its Account.
	Watch func(Setup, *plan.Watch) (Accounted, error)
	// Embeds says that drivers may be Embedded.
	Embeds bool
	// Draft is how plans for its contenders are drafted; nil: they are written by hand.
	Draft *draft.Kind
	// Shape is what its shots are made of.
	Shape shots.Shape
	// Floor, when set, gives the settings of the cheapest contender of the kind that can be driven like those given: what
	// it takes is what driving them costs at least. stop ends what stands behind it.
	Floor func(of []plan.Settings) (s plan.Settings, stop func(), err error)
	// Level, when set, is given the settings of all contenders of the kind and returns those to open them with: none of
	// them may be driven in a cheaper way than the others only because it asks for less. It changes none that it is
	// given.
	Level func([]plan.Settings) []plan.Settings
}

// PlanKinds is the part of some kinds that plans are read with.
func PlanKinds(kinds []Kind) (out []plan.Kind) {
	for _, k := range kinds {
		k.Brings = slices.Clone(k.Brings)
		for i := range k.Shape.Amounts {
			k.Brings = append(k.Brings, k.Shape.Amounts[i].Figures()...)
		}
		for i := range k.Shape.Account {
			k.Counts = append(k.Counts, k.Shape.Account[i].Figures()...)
		}
		k.Brings = append(k.Brings, k.Counts...)
		out = append(out, k.Kind)
	}
	return out
}

// Entry is a contender of a plan with its driver; Driver is nil when Err says why it could not be opened.
type Entry struct {
	plan.Contender
	Driver Driver
	Shape  *shots.Shape
	Err    error
}

// OpenAll opens a driver for every contender of p, in its order, with the setup that where has for it. The caller
// closes them with CloseAll.
func OpenAll(p *plan.Plan, kinds []Kind, where func(name string) Setup) []Entry {
	entries := make([]Entry, len(p.Contenders))
	settings := level(p, kinds)
	for i, c := range p.Contenders {
		entries[i] = Entry{Contender: c, Err: fmt.Errorf("open %s: no driver for kind %q", c.Name, c.Kind)}
		for j := range kinds {
			if k := &kinds[j]; k.Name == c.Kind {
				entries[i].Shape = &k.Shape // one for all of a kind: what is kept by shape is kept once
				entries[i].Driver, entries[i].Err = k.Open(where(c.Name), settings[i])
			}
		}
	}
	return entries
}

// Shapes are what shots of p's contenders are made of, taken together: parts in the order in which they follow one
// another, and amounts, each once; with services what these use, too.
func Shapes(p *plan.Plan, kinds []Kind) (parts []string, amounts []shots.Amount) {
	add := func(more []shots.Amount) {
		for _, a := range more {
			if !slices.ContainsFunc(amounts, func(o shots.Amount) bool { return o.Name == a.Name }) {
				amounts = append(amounts, a)
			}
		}
	}
	for i := range kinds {
		k := &kinds[i]
		if !slices.ContainsFunc(p.Contenders, func(c plan.Contender) bool { return c.Kind == k.Name }) {
			continue
		}
		for _, name := range k.Shape.Parts {
			if !slices.Contains(parts, name) {
				parts = append(parts, name)
			}
		}
		add(k.Shape.Amounts)
		add(k.Shape.Account)
		if k.Embeds {
			add(shots.Used)
		}
	}
	for i := range kinds {
		if kinds[i].Watch != nil &&
			slices.ContainsFunc(p.Contenders, func(c plan.Contender) bool { return c.Ground.Watch != nil }) {
			add(kinds[i].Shape.Account)
		}
	}
	if slices.ContainsFunc(p.Contenders, func(c plan.Contender) bool { return c.Ground.Service != nil }) {
		add(shots.Used)
	}
	return parts, amounts
}

// level returns the settings to open each contender of p with.
func level(p *plan.Plan, kinds []Kind) []plan.Settings {
	out := make([]plan.Settings, len(p.Contenders))
	for i, c := range p.Contenders {
		out[i] = c.Settings
	}
	for _, k := range kinds {
		if k.Level == nil {
			continue
		}
		var at []int
		var own []plan.Settings
		for i, c := range p.Contenders {
			if c.Kind == k.Name {
				at, own = append(at, i), append(own, c.Settings)
			}
		}
		if len(own) == 0 {
			continue
		}
		for j, s := range k.Level(own) {
			out[at[j]] = s
		}
	}
	return out
}

// CloseAll closes every driver that was opened.
func CloseAll(entries []Entry) {
	for _, e := range entries {
		if e.Err == nil {
			e.Driver.Close()
		}
	}
}

// Setup is what a driver is opened with.
type Setup struct {
	Dir     string // relative paths start here: a workspace, or the plan's folder
	PlanDir string // programs that are not found there may lie here; empty: none
	// Tree is where the contender's program was built from a commit, for ${TREE}; programs are looked for here first.
	// Empty for what was there.
	Tree string
	// Workspace is a copy of ours, in which shots may replace and remove what they like; empty without one.
	Workspace string
	Clock     *clock.Clock
	CPUs      plan.CPUs     // that its processes are kept to, as far as this machine has them; empty: any
	Port      string        // that the contender's service listens on, for ${PORT}; empty without one
	Data      string        // the folder of its data, for ${DATA}; empty without one
	As        *launch.User  // whom the service runs as; nil: as we do
	Nice      int           // of its processes, as far as this machine allows
	Fence     *launch.Fence // that its processes stand behind; nil: none
	Guard     guard.Guard   // of who may be reached
	// Traces has the driver mark shots for the contender's service to send spans of; nil: it marks none.
	Traces *Tracing
	// Printed takes what processes of the driver that last print while they work; nil for nobody.
	Printed io.Writer
	// Pings takes the line over which such a process answers pings; nil where nobody asks.
	Pings func(net.Conn)
	// Group makes a group for processes that are held to limits; nil where none can be made, which has been told.
	Group func(*plan.Limits) (Group, error)
}

// Tracing says which shots are marked as sampled, and how their traces are called.
type Tracing struct {
	Prefix [8]byte // the first half of their identifiers
	Of     int     // so many a heat, evenly chosen; 0: by the share
	Share  float64 // of all shots

	clients atomic.Uint64
}

// Client is the number of a client whose shots are traced, which is that of no other with the same prefix: the drivers
// of several points of a sweep share one.
func (t *Tracing) Client() uint64 { return t.clients.Add(1) }

// Place is where the contender's processes begin.
func (s Setup) Place() launch.Place { return launch.At(s.CPUs, s.Nice, s.Fence) }

// Fill puts the service's port, the folder of its data and that of what was built into a text.
func (s Setup) Fill(text string) string {
	return strings.NewReplacer(plan.PortMark, s.Port, plan.DataMark, s.Data, plan.TreeMark, s.Tree).Replace(text)
}

// Folders are where a program is looked for that stands in dir: what was built first, and last the plan's folder, since
// a workspace may hold a copy of the data alone.
func (s Setup) Folders(dir string) (out []string) {
	for _, folder := range []string{s.Tree, dir, s.PlanDir} {
		if folder != "" && !slices.Contains(out, folder) {
			out = append(out, folder)
		}
	}
	return out
}

// Driver performs shots of one contender. Client may be called at any time before Close; the clients are independent
// of each other and used by one goroutine each.
type Driver interface {
	// Client makes the i-th of n clients. It opens nothing until its first shot.
	Client(i, n int) Client
	// Close releases what the driver holds. It may be called twice, and while no shot is under way.
	Close() error
}

// Client performs one shot after another. It is not safe for concurrent use.
type Client interface {
	// Shoot performs one shot and fills in shot, which the caller has zeroed. It returns within 100 ms of ctx ending,
	// then with Class Cut unless the shot had finished. In steady state a shot that succeeds is formatted and logged
	// nowhere. When shot.View is set, what the contender answered is kept in view, which may cost time.
	Shoot(ctx context.Context, shot *shots.Shot)
	// Rewind makes the next shot use the first of the contender's rows again.
	Rewind()
	// Close releases connections and files; it may be called twice.
	Close()
}

// IsOwnLimit reports whether an error is that of a system call that failed since we may not have more of something. It
// says nothing of a contender; whoever meets it is to try less hard.
func IsOwnLimit(err error) bool {
	return errors.Is(err, syscall.EMFILE) || errors.Is(err, syscall.ENFILE)
}

// Hint is an error together with what can be done about it, for those who met it to read.
type Hint struct {
	Err error
	Try string // an imperative clause
}

func (h *Hint) Error() string { return h.Err.Error() }
func (h *Hint) Unwrap() error { return h.Err }

// Advised is an error of looking a program up, with what can be done about it apart.
func Advised(err error) error {
	var missing *launch.Missing
	if errors.As(err, &missing) {
		return &Hint{Err: errors.New(missing.What), Try: missing.Try}
	}
	return err
}

// HintOf is what can be done about an error; empty where it does not say.
func HintOf(err error) string {
	var h *Hint
	if errors.As(err, &h) {
		return h.Try
	}
	return ""
}

// TryLess is how long whoever met a limit of ours waits before the next shot.
const TryLess = 100 * time.Millisecond

// Sweeper is a driver whose shots may leave processes behind that only show later.
type Sweeper interface {
	// Sweep ends what shots left behind and no shot's LeftBehind counts, and returns how many processes it was.
	Sweep() int
}

// Lasting is a driver with processes that are still there after their shots, so that the kernel has not yet added what
// they used to what our children used.
type Lasting interface {
	// Used is the CPU time that they have used in shots so far. It may be called at any time.
	Used() time.Duration
}

// Housed is a driver with processes that do all of its shots, and last as a service does.
type Housed interface {
	Lasting
	// Begin has them be there for a heat of n clients, outside of any timing, and tells of those that it started for that
	// heat alone. The error says why they cannot be.
	Begin(ctx context.Context, n int) ([]Start, error)
	// End is called after each heat.
	End()
	// Resident is the process to be looked at meanwhile; its PID is 0 unless there is exactly one.
	Resident() Resident
}

// Waiting is a driver whose shots wait for long, so that it is worth telling meanwhile.
type Waiting interface {
	// Waits is how many shots wait just now, and for how long the one that began first. It may be called at any time.
	Waits() (n int, longest time.Duration)
	// Backlog is the most that waited at a time since it was last asked, and how many did over time: an even choice, by
	// when shots began.
	Backlog() (most int, over []Waited)
}

// Waited is how many shots waited when one of them began, itself included.
type Waited struct {
	At    time.Duration // on the clock
	Shots int
}

// Sorted is a driver whose shots may be of several sorts, which the rows name.
type Sorted interface {
	// Sorts says of which sort the shots for each row are; those of no names are of none.
	Sorts() shots.Sorts
}

// Embedded is a driver whose contender is a library that runs within our own process.
type Embedded interface {
	// Used is the CPU time that it has taken so far, which is none of ours. It may be called at any time.
	Used() time.Duration
	// Held is the most memory that it held at once since this was last asked, in bytes.
	Held() int64
}

// Accounted is a driver whose contender keeps an account of its own work, as databases do.
type Accounted interface {
	// BeginAccount reads it before a heat, EndAccount after it, when the heat's clients have been closed: it returns what
	// was counted between the two, by the names of the shape's Account, as amounts of shots are counted.
	BeginAccount(ctx context.Context) error
	EndAccount(ctx context.Context) (map[string]int64, error)
}

// Seated is an Accounted whose counting is done by a process of this machine that is not the contender's service.
type Seated interface {
	// Process is that process; 0 where it is on no machine of ours, or cannot be told.
	Process() int
}

// Visited is a driver whose clients keep caches of their own from shot to shot, as browsers do.
type Visited interface {
	// Visit says whether the shots from now on are first visits, before each of which the client's cache is empty, or
	// returning ones. It is called before a heat.
	Visit(first bool)
}

// Explained is a driver whose contender can say how it would carry its work out, as databases can.
type Explained interface {
	// Explain says so in the contender's own form, and in a shape that stays the same for as long as the way does. It is
	// called before and after heats.
	Explain(ctx context.Context) (text, shape string, err error)
}

// Start is how a process came up, on the run's clock.
type Start struct{ Created, Ready time.Duration }

// Group is what processes are held to limits in.
type Group interface {
	launch.Enclosure
	CPU() time.Duration // that they have used
	Killed() int64      // how many the kernel has killed for wanting more memory than they may have
	Remove()            // once they have ended
}

// Resident is a process that lasts, with all that it starts, as it is looked at while a heat is on.
type Resident struct {
	PID   int           // 0: there is none
	Every time.Duration // how often what it holds is to be looked at
	// CPU is exactly what they have used, and Killed how many the kernel has killed for wanting more memory than they may
	// have; both nil where that is not known.
	CPU    func() time.Duration
	Killed func() int64
	Limits string // that it is held to, in words
}

// Crewed is a driver that may perform all shots of a heat from one goroutine, where that disturbs less than a goroutine
// for each client.
type Crewed interface {
	Driver
	// Crew makes a crew of n clients; nil when this contender is not for one.
	Crew(n int) (Crew, error)
}

// Crew performs the shots of n clients. It is not safe for concurrent use.
type Crew interface {
	// Drive performs shots until the job has no more and those under way have ended; when ctx ends, it cuts these within
	// 100 ms and returns ctx's error. Shots it hands out are valid until the handler returns.
	Drive(ctx context.Context, job *Job) error
	// Rewind makes the next shots use the first of the contender's rows again.
	Rewind()
	Close()
}

// Dealt is a crew whose clients may be part of a whole that others elsewhere perform the rest of.
type Dealt interface {
	// Deal says which part, and how many clients the whole has, so that no row is used by two. It is called before Drive.
	Deal(of shares.Part, all int)
}

// Job is what a crew is to do. Its functions are called from the goroutine that called Drive.
type Job struct {
	// Next says when client i's next shot is due: left is how long until then, not positive for now; due is the moment
	// on the clock where latency counts from it, else 0. It is asked again until a shot was begun; ok is false when
	// there are no more for anybody.
	Next func(i int) (due, left time.Duration, ok bool)
	Open bool // shots are due at moments, and taken up by whoever is free
	// Ready, when set, is the moment on the clock from which client i may shoot. It is asked at the start, and again each
	// time that a shot of the client has ended. Over then says when nobody needs to wait any longer.
	Ready func(i int) time.Duration
	Over  func() bool
	// Ask, when set, may prepare a shot of client i; Done takes one that has ended.
	Ask  func(i int, shot *shots.Shot)
	Done func(i int, shot *shots.Shot)
}
