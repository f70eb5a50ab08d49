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
	"strings"
	"syscall"
	"time"

	"paceduel/core/clock"
	"paceduel/core/guard"
	"paceduel/core/launch"
	"paceduel/core/plan"
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
	// MetersCPU says whether Shot.CPU is filled in.
	MetersCPU bool
	// Floor, when set, gives the settings of the cheapest contender of the kind that can be driven like those given: what it
	// takes is what driving them costs at least. stop ends what stands behind it.
	Floor func(of []plan.Settings) (s plan.Settings, stop func(), err error)
	// Level, when set, is given the settings of all contenders of the kind and returns those to open them with: none of
	// them may be driven in a cheaper way than the others only because it asks for less. It changes none that it is given.
	Level func([]plan.Settings) []plan.Settings
}

// Entry is a contender of a plan with its driver; Driver is nil when Err says why it could not be opened.
type Entry struct {
	plan.Contender
	Driver    Driver
	MetersCPU bool
	Err       error
}

// OpenAll opens a driver for every contender of p, in its order, with the setup that where has for it. The caller closes
// them with CloseAll.
func OpenAll(p *plan.Plan, kinds []Kind, where func(name string) Setup) []Entry {
	entries := make([]Entry, len(p.Contenders))
	settings := level(p, kinds)
	for i, c := range p.Contenders {
		entries[i] = Entry{Contender: c, Err: fmt.Errorf("open %s: no driver for kind %q", c.Name, c.Kind)}
		for _, k := range kinds {
			if k.Name == c.Kind {
				entries[i].MetersCPU = k.MetersCPU
				entries[i].Driver, entries[i].Err = k.Open(where(c.Name), settings[i])
			}
		}
	}
	return entries
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
	Clock   *clock.Clock
	CPUs    plan.CPUs     // that its processes are kept to, as far as this machine has them; empty: any
	Port    string        // that the contender's service listens on, for ${PORT}; empty without one
	Nice    int           // of its processes, as far as this machine allows
	Fence   *launch.Fence // that its processes stand behind; nil: none
	Guard   guard.Guard   // of who may be reached
}

// Place is where the contender's processes begin.
func (s Setup) Place() launch.Place { return launch.At(s.CPUs, s.Nice, s.Fence) }

// Fill puts the service's port into a text.
func (s Setup) Fill(text string) string { return strings.ReplaceAll(text, plan.PortMark, s.Port) }

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
	Shoot(ctx context.Context, shot *Shot)
	// Rewind makes the next shot use the first of the contender's rows again.
	Rewind()
	// Close releases connections and files; it may be called twice.
	Close()
}

// Shot is one performed shot. Times are offsets on the run's clock.
type Shot struct {
	// Due, when not 0, is when the shot was to start; set by the caller. Its latency then counts from there.
	Due time.Duration
	// Start is just before a process is created, or before a request is handed to its connection.
	Start time.Duration
	// End is when the exit was seen, or the last byte of the body read.
	End time.Duration
	// Connect is the part of the latency that went into opening a connection; 0 when none was opened. Lookup and TLS are
	// parts of it: finding the address, and the handshake.
	Connect, Lookup, TLS time.Duration
	// Asked is from Start to the last byte of the request handed to the connection, FirstByte to the first byte of the
	// answer; 0 for commands.
	Asked, FirstByte time.Duration
	// Replaced is how many kept connections turned out to have been closed before anything was sent over them. A shot whose
	// connection closes later has failed: nothing is sent twice.
	Replaced int
	// Redirects is how many were followed, Opened how many connections a shot of several requests opened.
	Redirects, Opened int
	// Trace is the identifier under which the service can find it in its traces; zero for none.
	Trace [16]byte
	// Told are times that the contender told of itself; valid until the client's next shot.
	Told []Mark
	// CPU is user and system time of the process and the children it waited for; 0 where that is not known.
	CPU time.Duration
	// Aside is time between Start and End that went into keeping the answer in view; no part of the latency.
	Aside time.Duration
	// Row is which of the contender's rows was asked, from 0.
	Row int
	// Sent and Received are bytes on the connection, or of standard input and of output that was read.
	Sent, Received int64
	// Measure, set by the caller of a shot that is not judged, asks for what costs too much otherwise: Peak.
	Measure bool
	// Peak is the most memory that the contender's processes held at once, in bytes; 0 where that is not known.
	Peak int64
	// PeakGrain is by how much Peak may be off; 0: it is exact.
	PeakGrain int64
	// Resources are what its processes used, where that is known.
	Resources Resources
	// Length is the bytes of the answer's body, as they came; Lines how many line ends output that was read had.
	Length, Lines int64
	// LeftBehind is how many processes outlived a command and were ended.
	LeftBehind int

	Class Class
	// Err is the cause of a failure in its own words; nil when Class is OK.
	Err error
	// View, when set by the caller, is filled with what the contender answered.
	View *View
}

// Mark is a length of time by its name.
type Mark struct {
	Name string
	Took time.Duration
}

// Marks collects what one client's contender tells of its shots, and keeps each name once, so that collecting allocates
// nothing in steady state. The zero value is ready.
type Marks struct {
	names []string
	list  []Mark
}

// MaxMarks is how many names are told apart; further ones are left out.
const MaxMarks = 16

// Clear forgets the marks of the shot before, not the names.
func (m *Marks) Clear() { m.list = m.list[:0] }

// Add notes a mark; name is copied when it is new.
func (m *Marks) Add(name []byte, took time.Duration) {
	for _, known := range m.names {
		if known == string(name) {
			m.list = append(m.list, Mark{known, took})
			return
		}
	}
	if len(m.names) < MaxMarks {
		m.names = append(m.names, string(name))
		m.list = append(m.list, Mark{m.names[len(m.names)-1], took})
	}
}

// List is the marks since Clear.
func (m *Marks) List() []Mark { return m.list }

// Resources are counts of the kernel's for the processes of a shot.
type Resources struct {
	System    time.Duration `json:"system_ns,omitempty"`            // of the CPU time, what the kernel spent for them; the rest is their own
	Yields    int64         `json:"voluntary_switches,omitempty"`   // of the processor, to wait for something
	Preempted int64         `json:"involuntary_switches,omitempty"` // of the processor, since somebody else's turn had come
	Faults    int64         `json:"page_faults,omitempty"`          // without reading from a disk
	Loads     int64         `json:"page_loads,omitempty"`           // faults that had to read from a disk
	Read      int64         `json:"read_bytes,omitempty"`           // from disks
	Written   int64         `json:"written_bytes,omitempty"`        // to disks
}

// Add adds up what two used.
func (r *Resources) Add(o Resources) {
	r.System += o.System
	r.Yields += o.Yields
	r.Preempted += o.Preempted
	r.Faults += o.Faults
	r.Loads += o.Loads
	r.Read += o.Read
	r.Written += o.Written
}

// Latency is the time from Start, or from Due where that is set, to End, without Aside.
func (s *Shot) Latency() time.Duration {
	if s.Due > 0 {
		return s.End - s.Due - s.Aside
	}
	return s.End - s.Start - s.Aside
}

// Class sorts the outcome of a shot.
type Class uint8

// The classes. All but OK and Cut are failures; Cut shots were ended by us and count nowhere.
const (
	OK Class = iota
	Cut
	NoStart // the program could not be started
	Refused // nobody listens
	Reset   // the connection broke
	Timeout // not done within its limit: at least that long
	TLS
	Status  // not the status that was expected
	Length  // more than the limit, or not as long as announced
	Exit    // not the exit code that was expected
	Signal  // ended by a signal
	Unequal // not the work that it did at the weigh-in
	Limits  // of ours: we may have no more descriptors, or no more processes
	Other
	Classes // how many there are
)

var classNames = [Classes]string{"ok", "cut", "no start", "refused", "reset", "timeout", "tls", "status", "length", "exit code", "signal", "same-work", "own limits", "other"}

func (c Class) String() string { return classNames[c] }

// IsOwnLimit reports whether an error is that of a system call that failed since we may not have more of something. It says
// nothing of a contender; whoever meets it is to try less hard.
func IsOwnLimit(err error) bool {
	return errors.Is(err, syscall.EMFILE) || errors.Is(err, syscall.ENFILE)
}

// TryLess is how long whoever met a limit of ours waits before the next shot.
const TryLess = 100 * time.Millisecond

// Failed reports whether the shot counts as a failure.
func (c Class) Failed() bool { return c > Cut }

// View is what a contender printed or answered in one shot, for people to read and for comparison. Bodies are cut at
// Limit, or at MaxViewBytes when that is 0.
type View struct {
	Limit    int      `json:"-"`                 // set by the caller
	Sample   bool     `json:"-"`                 // set by the caller: keep only what does not change what is measured
	Known    bool     `json:"-"`                 // whether Body and Bytes are known; an output to nothing is not
	Done     string   `json:"done"`              // what was done: the command or request, every variable filled in by name only
	Outcome  string   `json:"outcome"`           // "200 OK", "exit code 0"
	Headers  []string `json:"headers,omitempty"` // one "Name: value" a line, sorted
	Body     []byte   `json:"body,omitempty"`    // answer or standard output
	Bytes    int64    `json:"bytes"`             // its whole length
	Stderr   []byte   `json:"stderr,omitempty"`
	Type     string   `json:"type,omitempty"`     // content type as announced
	Encoding string   `json:"encoding,omitempty"` // content encoding as announced
	Version  string   `json:"version,omitempty"`  // of the contender, as it says itself, in one line
	Terminal bool     `json:"terminal,omitempty"` // whether the output went to a pseudo-terminal
}

// MaxViewBytes bounds what a View keeps of a body unless it says otherwise.
const MaxViewBytes = 64 << 10

// Room is how many bytes of a body the view keeps.
func (v *View) Room() int {
	if v.Limit > 0 {
		return v.Limit
	}
	return MaxViewBytes
}

// Sweeper is a driver whose shots may leave processes behind that only show later.
type Sweeper interface {
	// Sweep ends what shots left behind and no shot's LeftBehind counts, and returns how many processes it was.
	Sweep() int
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

// Job is what a crew is to do. Its functions are called from the goroutine that called Drive.
type Job struct {
	// Next says when client i's next shot is due: left is how long until then, not positive for now; due is the moment on
	// the clock where latency counts from it, else 0. It is asked again until a shot was begun; ok is false when there are
	// no more for anybody.
	Next func(i int) (due, left time.Duration, ok bool)
	Open bool // shots are due at moments, and taken up by whoever is free
	// Ready, when set, is the moment on the clock from which client i may shoot. It is asked at the start, and again each
	// time that a shot of the client has ended. Over then says when nobody needs to wait any longer.
	Ready func(i int) time.Duration
	Over  func() bool
	// Ask, when set, may prepare a shot of client i; Done takes one that has ended.
	Ask  func(i int, shot *Shot)
	Done func(i int, shot *Shot)
}
