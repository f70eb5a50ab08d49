package fleet

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"paceduel/core/cell"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/tally"
)

// protocol is the version of what is said here. Who speaks another hears of it in words.
const protocol = 2

// Subjects on the bus. An agent's own ones carry its name, by which a server's accounts can tell agents apart, and what
// tells it from another of the same name.
const (
	subject  = "paceduel.1."
	helloAll = subject + "hello"
	agentOf  = subject + "agent."
)

// verbs are what an agent is asked, each under a subject of its own.
const (
	take  = "take"  // work for this run and nobody else
	file  = "file"  // a part of a file that the plan needs
	open  = "open"  // get ready: a job
	heat  = "heat"  // drive a part of a heat: a job
	begin = "begin" // a stage of it, at a moment
	touch = "touch" // ask the contender that the job awaits: it stands
	wait  = "wait"  // until something changes about a job
	fetch = "fetch" // a part of what came of a job
	cut   = "cut"   // end a job
	rest  = "rest"  // end whatever is under way
	tick  = "clock" // what does your clock say?
	drop  = "drop"  // the run is over

	conduct = "conduct" // run the duel, beside its service: a job
	next    = "next"    // what has happened in it?
	steer   = "steer"   // what whoever watches it wants of it
	halt    = "halt"    // end it, and say what is left to say
)

// Bounds of what is sent.
const (
	maxFiles   = 64
	maxFile    = 32 << 20 // of one, in bytes
	maxOutcome = 96 << 20 // of what came of a job, before it is packed
	partSize   = 512 << 10
	maxName    = plan.MaxName
	maxWords   = 2 << 10 // of an error
)

// Card is how an agent introduces itself.
type Card struct {
	answered
	Protocol int            `json:"protocol"`
	Program  string         `json:"program"` // its version
	Name     string         `json:"name"`
	Place    string         `json:"place,omitempty"`
	Instance string         `json:"instance"` // which tells it from another of the same name
	Host     result.Host    `json:"host"`
	Rules    Rules          `json:"rules"`
	Floor    []result.Floor `json:"floor,omitempty"` // what driving costs it at least
	Run      string         `json:"run,omitempty"`   // that it works for; empty: it is free
	Since    time.Time      `json:"since,omitzero"`  // when it began that
	Joined   time.Time      `json:"joined,omitzero"` // the bus
}

// check refuses a card that nobody would show who means well.
func (c *Card) check() error {
	switch {
	case c.Protocol != protocol:
		return fmt.Errorf("it speaks version %d of what agents are asked, this program version %d", c.Protocol, protocol)
	case !plan.IsName(c.Name) || c.Place != "" && !plan.IsName(c.Place) || !isInstance(c.Instance):
		return errors.New("its name, place or identifier cannot be one")
	case c.Host.Cores < 0 || len(c.Rules.Allow) > maxFiles || len(c.Rules.Lend) > maxFiles ||
		len(c.Floor) > maxFiles:
		return errors.New("what it says of itself cannot be")
	}
	return nil
}

// isInstance reports whether a text can tell agents of one name apart.
func isInstance(text string) bool {
	_, err := hex.DecodeString(text)
	return err == nil && len(text) == 16
}

// asked is what every question to an agent that works for a run carries.
type asked struct {
	Run string `json:"run"`
	Job string `json:"job,omitempty"`
}

// answered is what every answer carries: why it was refused, or empty.
type answered struct {
	Refused string `json:"refused,omitempty"`
	// ByOwner says that the agent's owner does not allow it, so that asking again is of no use.
	ByOwner bool `json:"by_owner,omitempty"`
}

func (a *answered) why() (words string, byOwner bool) { return a.Refused, a.ByOwner }

// answer is what an agent answers.
type answer interface {
	why() (words string, byOwner bool)
}

// takeAsk has an agent work for a run.
type takeAsk struct {
	asked
	Protocol int    `json:"protocol"`
	Program  string `json:"program"`
	Duel     string `json:"duel"`
}

// fileAsk hands over a part of a file.
type fileAsk struct {
	asked
	Name string `json:"name"` // from the plan's folder on
	Size int64  `json:"size"`
	At   int64  `json:"at"`
	Data []byte `json:"data"`
}

// openAsk has an agent get ready.
type openAsk struct {
	asked
	File    string            `json:"file"` // how the plan's file is called
	Source  string            `json:"source"`
	Sets    []string          `json:"sets,omitempty"`
	Only    []string          `json:"only,omitempty"`
	Mirror  bool              `json:"mirror,omitempty"`
	SHA256  string            `json:"sha256"` // of plan and files, see sumOf
	Seed    uint64            `json:"seed"`
	Ports   map[string]string `json:"ports,omitempty"`
	Weights []int             `json:"weights"` // of all that drive a heat with it
	Who     int               `json:"who"`     // which of them it is
	Glance  time.Duration     `json:"glance_ns,omitempty"`
	Shots   bool              `json:"shots,omitempty"` // whether shots are wanted one by one
}

// sumOf is the hash of all that a run is made of.
func sumOf(source string, sets []string, files map[string]string) string {
	text, err := json.Marshal(struct {
		Source string
		Sets   []string
		Files  map[string]string
	}{source, sets, files})
	if err != nil {
		panic(err) // texts alone
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// opened is what comes of getting ready.
type opened struct {
	Touches map[string]touched `json:"touches"`
	Floor   []result.Floor     `json:"floor,omitempty"`
	Cannot  []string           `json:"cannot,omitempty"`
}

// touched is a first touch, as far as it is compared.
type touched struct {
	Class   string        `json:"class"`
	Outcome string        `json:"outcome,omitempty"`
	Bytes   int64         `json:"bytes"`
	Sum     string        `json:"sum,omitempty"` // of the answer; empty where it is not the same twice
	Latency time.Duration `json:"latency_ns"`
}

// touchOf is what is compared of a touch; nil without one.
func touchOf(t *result.Touch) touched {
	if t == nil {
		return touched{}
	}
	out := touched{Class: t.Class, Outcome: t.Outcome, Bytes: t.Bytes, Latency: t.Latency}
	if t.Steady {
		sum := sha256.Sum256([]byte(t.Body))
		out.Sum = hex.EncodeToString(sum[:8])
	}
	return out
}

// differs says in which way a touch is another than the one here; empty where it is not.
func (t touched) differs(here touched) string {
	switch {
	case t.Class != here.Class || t.Outcome != here.Outcome:
		return fmt.Sprintf("is answered %q there, %q here", cmp.Or(t.Outcome, t.Class), cmp.Or(here.Outcome, here.Class))
	case t.Sum != "" && here.Sum != "" && t.Bytes != here.Bytes:
		return fmt.Sprintf("is answered with %d bytes there, %d here", t.Bytes, here.Bytes)
	case t.Sum != "" && here.Sum != "" && t.Sum != here.Sum:
		return "is answered otherwise there than here"
	}
	return ""
}

// heatAsk has an agent drive its part of a heat.
type heatAsk struct {
	asked
	Round int `json:"round"`
	cell.Cell
	Seed    uint64 `json:"seed"`
	Weights []int  `json:"weights"`
	Who     int    `json:"who"`
}

// beginAsk has a stage begin at a moment of the agent's clock.
type beginAsk struct {
	asked
	Stage pace.Stage    `json:"stage"`
	At    time.Duration `json:"at_ns"`
}

// touchAsk has an agent ask a contender, by its number among those that are asked.
type touchAsk struct {
	asked
	At int `json:"at"`
}

// beganAnswer says by how much the moment had passed when it came to be known.
type beganAnswer struct {
	answered
	Late time.Duration `json:"late_ns,omitempty"`
}

// waitAsk waits until a job is no longer as it was last seen.
type waitAsk struct {
	asked
	Seen string        `json:"seen,omitempty"`
	Hold time.Duration `json:"hold_ns"`
}

// phases of a job. While it awaits a stage its phase is awaits and the stage's number; while it awaits a contender that
// it is to ask, its phase is standing and the number of that among those that are asked.
const (
	works    = "works"
	awaits   = "awaits "
	standing = "standing "
	done     = "done"
)

// standingAt is the number behind standing; -1 for another phase.
func standingAt(phase string) int {
	n, found := strings.CutPrefix(phase, standing)
	at, err := strconv.Atoi(n)
	if !found || err != nil {
		return -1
	}
	return at
}

// waitAnswer is what there is to say of a job.
type waitAnswer struct {
	answered
	Phase string `json:"phase"`
	// Failed says why nothing came of it, when it is done.
	Failed string `json:"failed,omitempty"`
	Size   int    `json:"size,omitempty"` // of what came of it, in bytes
	SHA256 string `json:"sha256,omitempty"`
	// Stood is for how long the agent's own process did not run at the longest.
	Stood  time.Duration `json:"stood_ns,omitempty"`
	Glance *glance       `json:"glance,omitempty"`
}

// glance is how a heat goes.
type glance struct {
	Stage  pace.Stage    `json:"stage"`
	Shots  int64         `json:"shots"`
	Rate   float64       `json:"rate"`
	P50    time.Duration `json:"p50_ns"`
	P99    time.Duration `json:"p99_ns"`
	Recent []result.Dot  `json:"recent,omitempty"`
}

// fetchAsk asks for a part of what came of a job.
type fetchAsk struct {
	asked
	At int `json:"at"`
}

// fetchAnswer is that part.
type fetchAnswer struct {
	answered
	Data []byte `json:"data"`
}

// tickAnswer is what an agent's clock says.
type tickAnswer struct {
	answered
	Now time.Duration `json:"now_ns"`
}

// driven is what comes of a heat.
type driven struct {
	Span       pace.Span         `json:"span"`
	Sampled    int64             `json:"sampled"`
	Warm       *tally.Parcel     `json:"warm"`
	Judged     *tally.Parcel     `json:"judged"`
	Woken      *tally.Parcel     `json:"woken"`
	Conditions result.Conditions `json:"conditions"`
	// Began is when its stages began, by number, on the agent's clock.
	Began [2]time.Duration `json:"began_ns"`
}

// check refuses what no heat can leave.
func (d *driven) check() error {
	s := &d.Span
	bad := func(n int64) bool { return n < 0 }
	switch {
	case d.Warm == nil || d.Judged == nil || d.Woken == nil:
		return errors.New("a part of it is missing")
	case s.End < s.Start || s.Busy < 0 || s.Unsent < 0 || s.Aside < 0 || d.Sampled < 0 ||
		slices.ContainsFunc(s.UnsentAt, bad) ||
		len(s.UnsentAt) > maxFiles || d.Judged.Elapsed < 0:
		return errors.New("its figures are impossible")
	}
	return nil
}

// encode writes a message.
func encode(v any) []byte {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // a type that cannot be written, which any test would meet
	}
	return text
}

// decode reads one; what does not fit is an error in words.
func decode(text []byte, v any) error {
	dec := json.NewDecoder(bytes.NewReader(text))
	if err := dec.Decode(v); err != nil {
		return fmt.Errorf("a message that cannot be read: %w", err)
	}
	if _, err := dec.Token(); !errors.Is(err, io.EOF) {
		return errors.New("a message with more behind it")
	}
	return nil
}

// press packs what comes of jobs, with what it keeps for the next time. The zero value is ready.
type press struct{ writers sync.Pool }

func (p *press) squeeze(v any) ([]byte, error) {
	var out bytes.Buffer
	z, ok := p.writers.Get().(*gzip.Writer)
	if !ok {
		var err error
		if z, err = gzip.NewWriterLevel(nil, gzip.BestSpeed); err != nil {
			return nil, err
		}
	}
	defer p.writers.Put(z)
	z.Reset(&out)
	if err := json.NewEncoder(z).Encode(v); err != nil {
		return nil, err
	}
	err := z.Close()
	return out.Bytes(), err
}

// unsqueeze unpacks it, and no more than it may be.
func unsqueeze(text []byte, v any) error {
	z, err := gzip.NewReader(bytes.NewReader(text))
	if err != nil {
		return fmt.Errorf("what came of it cannot be unpacked: %w", err)
	}
	in := &io.LimitedReader{R: z, N: maxOutcome}
	if err := json.NewDecoder(in).Decode(v); err != nil {
		if in.N <= 0 {
			return fmt.Errorf("what came of it is more than %d MiB", maxOutcome>>20)
		}
		return fmt.Errorf("what came of it cannot be read: %w", err)
	}
	return nil
}

// short is a text of somebody else's in a line of a sane length.
func short(text string) string {
	if len(text) > maxWords {
		return text[:maxWords] + "…"
	}
	return text
}
