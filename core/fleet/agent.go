package fleet

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"paceduel/core/bus"
	"paceduel/core/clock"
	"paceduel/core/commits"
	"paceduel/core/contender"
	"paceduel/core/keeper"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/rounds"
)

// AgentConfig is what an agent is.
type AgentConfig struct {
	Name    string
	Place   string // empty: it says none
	Program string // our version
	Kinds   []contender.Kind
	Env     func(name string) (string, bool)
	Rules   Rules
	Host    result.Host
	Floor   []result.Floor // what driving costs here at least; none: it is not told
	// Dir is where it may run duels whole, with services and steps, beside the service that is measured; empty: it may
	// not. Builds is where what these build from commits is kept; Enough and Steering say when and how they go on, as
	// package conduct does.
	Dir      string
	Builds   commits.Cache
	Enough   func(*plan.Plan) func(*result.Result) bool
	Steering func() rounds.Steering
	// Guest says that it shares its process with others, who see to when memory is collected.
	Guest bool
	press *press // that it shares with others in tests; nil: its own
	// Tell, when set, is told in words what the agent is asked, for its owner to read. It is called from anywhere.
	Tell func(words string)
}

// Agent drives parts of heats for whoever runs a duel on the same bus: for one run at a time.
type Agent struct {
	cfg    AgentConfig
	link   *bus.Link
	id     string
	joined time.Time

	// of tests: by how much what it tells of its clock is off, that it does not ask who else is there, and what is
	// changed of how it has a duel driven that it runs beside a service
	off     func() time.Duration
	unasked bool
	changes func(*Fleet)

	mu  sync.Mutex
	run *hosted // that it works for; nil: it is free
}

// forgotten is how long an agent that has heard nothing of its run waits before it works for others. A link that was
// broken in the meantime does not count.
const forgotten = 15 * time.Second

// NewAgent makes an agent over a link, which stays the caller's.
func NewAgent(cfg AgentConfig, link *bus.Link) *Agent {
	var id [8]byte
	rand.Read(id[:])
	if cfg.press == nil {
		cfg.press = &press{}
	}
	if cfg.Tell == nil {
		cfg.Tell = func(string) {}
	}
	return &Agent{cfg: cfg, link: link, id: hex.EncodeToString(id[:]), joined: time.Now()}
}

// nameTaken is how long it is listened whether another agent of the name is there.
const nameTaken = 200 * time.Millisecond

// Serve answers until ctx ends; then what is under way is ended. The error says why it cannot be an agent, such as that
// another one of its name is there.
func (a *Agent) Serve(ctx context.Context) error {
	var cards []Card
	if !a.unasked {
		var err error
		if cards, _, err = List(ctx, a.link, nameTaken); err != nil {
			return err
		}
	}
	for i := range cards {
		if cards[i].Name == a.cfg.Name {
			return fmt.Errorf("an agent called %s is on the bus already; join under another name, with --name", a.cfg.Name)
		}
	}
	own := agentOf + a.cfg.Name + "." + a.id + "."
	answers := map[string]func([]byte) []byte{
		helloAll:    func([]byte) []byte { return encode(a.card()) },
		own + take:  answering(a.take),
		own + file:  answering(a.file),
		own + open:  answering(a.open),
		own + heat:  answering(a.heat),
		own + begin: answering(a.begin),
		own + touch: answering(a.touch),
		own + wait:  answering(a.wait),
		own + fetch: answering(a.fetch),
		own + cut:   answering(a.cut),
		own + rest:  answering(a.rest),
		own + drop:  answering(a.drop),
		own + tick:  answering(a.tick),

		own + conduct: answering(a.conduct),
		own + next:    answering(a.next),
		own + steer:   answering(a.steer),
		own + halt:    answering(a.halt),
	}
	for subject, f := range answers {
		stop, err := a.link.Answer(subject, f)
		if err != nil {
			return err
		}
		defer stop()
	}
	a.watchOver(ctx)
	a.mu.Lock()
	run := a.run
	a.run = nil
	a.mu.Unlock()
	run.end()
	return nil
}

// answering reads a question, has it answered, and writes the answer.
func answering[Q, A any](do func(*Q) (A, error)) func([]byte) []byte {
	return func(text []byte) []byte {
		var q Q
		err := decode(text, &q)
		var out A
		if err == nil {
			out, err = do(&q)
		}
		if err != nil {
			return encode(&answered{short(err.Error()), isOwnersWord(err)})
		}
		return encode(out)
	}
}

// watchOver lets a run go that nothing has been heard of, until ctx ends.
func (a *Agent) watchOver(ctx context.Context) {
	beat := time.NewTicker(time.Second)
	defer beat.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-beat.C:
		}
		a.mu.Lock()
		gone := a.run
		if gone == nil || gone.quiet() < forgotten || a.link.BrokeWithin(forgotten) {
			gone = nil
		} else {
			a.run = nil
		}
		a.mu.Unlock()
		if gone != nil {
			a.cfg.Tell(fmt.Sprintf("nothing heard of run %s for %s: it is let go", gone.run, forgotten))
			gone.end()
		}
	}
}

func (a *Agent) card() *Card {
	a.mu.Lock()
	defer a.mu.Unlock()
	c := &Card{
		Protocol: protocol, Program: a.cfg.Program, Name: a.cfg.Name, Place: a.cfg.Place, Instance: a.id, Host: a.cfg.Host,
		Rules: a.cfg.Rules, Floor: a.cfg.Floor, Joined: a.joined,
	}
	if a.run != nil {
		c.Run, c.Since = a.run.run, a.run.since
	}
	return c
}

// of is the run that a question is of.
func (a *Agent) of(run string) (*hosted, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	switch {
	case a.run == nil:
		return nil, fmt.Errorf("agent %s does not work for this run any more", a.cfg.Name)
	case a.run.run != run:
		return nil, fmt.Errorf("agent %s works for another run, %s", a.cfg.Name, a.run.run)
	}
	a.run.hear()
	return a.run, nil
}

func (a *Agent) take(q *takeAsk) (*Card, error) {
	switch {
	case q.Protocol != protocol || q.Program != a.cfg.Program:
		return nil, fmt.Errorf("agent %s is of version %s, and the duel is run by version %s; run the same on both",
			a.cfg.Name, a.cfg.Program, short(q.Program))
	case q.Run == "" || len(q.Run) > maxName:
		return nil, errors.New("a run needs an identifier")
	}
	a.mu.Lock()
	if a.run != nil && a.run.run != q.Run {
		busy := a.run.run
		a.mu.Unlock()
		return nil, fmt.Errorf("agent %s works for another run, %s", a.cfg.Name, busy)
	}
	if a.run == nil {
		dir, err := os.MkdirTemp("", "paceduel-agent-")
		if err != nil {
			a.mu.Unlock()
			return nil, fmt.Errorf("agent %s has no room for the plan's files: %w", a.cfg.Name, err)
		}
		a.run = newHosted(a, q.Run, dir)
		a.cfg.Tell(fmt.Sprintf("works for run %s, %q", q.Run, short(q.Duel)))
	}
	a.run.hear()
	a.mu.Unlock()
	return a.card(), nil
}

func (a *Agent) drop(q *asked) (answered, error) {
	run, err := a.of(q.Run)
	if err != nil {
		return answered{}, err
	}
	a.mu.Lock()
	a.run = nil
	a.mu.Unlock()
	run.end()
	a.cfg.Tell("run " + run.run + " is over")
	return answered{}, nil
}

// tick tells what the clock says, with as little as can be before and after.
func (a *Agent) tick(q *asked) (tickAnswer, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.run == nil || a.run.run != q.Run {
		return tickAnswer{}, errors.New("this run is not worked for")
	}
	a.run.hear()
	now := a.run.clock.Now()
	if a.off != nil {
		now += a.off()
	}
	return tickAnswer{Now: now}, nil
}

// file takes a part of a file.
func (a *Agent) file(q *fileAsk) (answered, error) {
	run, err := a.of(q.Run)
	if err != nil {
		return answered{}, err
	}
	return answered{}, run.lay(q)
}

// hosted is a run that an agent works for.
type hosted struct {
	a     *Agent
	run   string
	since time.Time
	clock *clock.Clock
	dir   string // where its files are laid
	// forget has the keeper leave the folder alone
	forget func()

	mu    sync.Mutex
	heard time.Time
	laid  map[string]string // hashes of files, by name
	hand  *hand
	job   *job // the latest; nil without any
	ended bool // nothing is begun or laid any more
	// of a duel that is run here
	box     *outbox
	control *rounds.Control
}

func newHosted(a *Agent, run, dir string) *hosted {
	now := time.Now()
	h := &hosted{
		a: a, run: run, since: now, heard: now, clock: clock.Start(), dir: dir, laid: map[string]string{},
		forget: func() {},
	}
	if k, err := keeper.Shared(); err == nil { // it goes also where this process is killed
		h.forget = k.RemoveAfter(dir)
	}
	return h
}

func (h *hosted) hear() {
	h.mu.Lock()
	h.heard = time.Now()
	h.mu.Unlock()
}

// quiet is for how long nothing has been heard.
func (h *hosted) quiet() time.Duration {
	h.mu.Lock()
	defer h.mu.Unlock()
	return time.Since(h.heard)
}

// end ends what is under way and removes what was laid. It may be called on nil.
func (h *hosted) end() {
	if h == nil {
		return
	}
	h.mu.Lock()
	h.ended = true
	job := h.job
	h.mu.Unlock()
	job.end()
	h.mu.Lock()
	hand := h.hand // which the job may just have opened
	h.hand = nil
	h.mu.Unlock()
	hand.close()
	os.RemoveAll(h.dir)
	h.forget()
}

// lay writes a part of a file where the plan will find it.
func (h *hosted) lay(q *fileAsk) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	name := filepath.Clean(q.Name)
	switch {
	case h.ended:
		return fmt.Errorf("agent %s has let the run go", h.a.cfg.Name)
	case !filepath.IsLocal(q.Name) || len(q.Name) > maxWords:
		return fmt.Errorf("%q is no file of a plan", short(q.Name))
	case q.Size < 0 || q.Size > maxFile || q.At < 0 || q.At+int64(len(q.Data)) > q.Size || len(q.Data) > partSize:
		return fmt.Errorf("%s: a file of a plan is up to %d MiB", name, maxFile>>20)
	case len(h.laid) >= maxFiles && h.laid[name] == "":
		return fmt.Errorf("a plan has up to %d files", maxFiles)
	}
	path := filepath.Join(h.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("make room for %s: %w", name, err)
	}
	flags := os.O_WRONLY | os.O_CREATE
	if q.At == 0 {
		flags |= os.O_TRUNC
	}
	f, err := os.OpenFile(path, flags, 0o600)
	if err != nil {
		return fmt.Errorf("keep %s: %w", name, err)
	}
	_, err = f.WriteAt(q.Data, q.At)
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return fmt.Errorf("keep %s: %w", name, err)
	}
	h.laid[name] = "laid"
	return nil
}
