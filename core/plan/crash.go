package plan

import (
	"fmt"
	"time"
)

// Crash has a contender ended with SIGKILL while it works, in heats of its own that are never timed, and asks what is
// there of what it had acknowledged. What is lost when the machine loses power is another matter, and cannot be had so.
type Crash struct {
	Count Count `json:"-"`
	Times int   `json:"times,omitempty" jsonschema:"minimum=1,maximum=1000" jsonschema_description:"how many crashes of each; 10 unless said"`
	From  Span  `json:"from,omitempty" jsonschema_description:"it is ended at a moment drawn from the seed: not before so long after its first shot; 200ms unless said. Of commands it is a share of their usual time that is drawn"`
	To    Span  `json:"to,omitempty" jsonschema_description:"and not after so long; 1s unless said"`
	Each  int   `json:"each,omitempty" jsonschema:"minimum=1,maximum=1000000" jsonschema_description:"how many records a good shot is; 1 unless said"`
}

// Count is what says afterwards what is there: a shell line, or a shot of a kind, such as a statement, a request of the
// process that was started again, or a function of the next worker.
type Count struct {
	Shell    string
	Kind     string // empty: the shell line
	Settings Settings
}

// Summary is what it does, in a line.
func (c *Count) Summary() string {
	if c.Kind != "" {
		return c.Settings.Summary()
	}
	return c.Shell
}

// Defaults and limits of crashes.
const (
	DefaultCrashes   = 10
	DefaultCrashFrom = 200 * time.Millisecond
	DefaultCrashTo   = time.Second
	maxCrashTo       = 10 * time.Minute
)

// Complete fills in what is not said.
func (c *Crash) Complete() {
	if c.Times == 0 {
		c.Times = DefaultCrashes
	}
	if c.Each == 0 {
		c.Each = 1
	}
	if c.From == 0 {
		c.From = Span(DefaultCrashFrom)
	}
	if c.To == 0 {
		c.To = max(Span(DefaultCrashTo), c.From)
	}
}

// Check finds what is wrong with it. running says that the contender's service is somebody else's.
func (c *Crash) Check(running bool) (faults []Fault) {
	fault := func(key, try, what string, args ...any) {
		faults = append(faults, Fault{Key: key, What: fmt.Sprintf(what, args...), Try: try})
	}
	switch {
	case c.Count.Shell == "" && c.Count.Kind == "":
		fault("", "set count: to a shell line, or to { query: … }, { http: … } or { worker: { function: … } }",
			"nothing says what is there afterwards")
	case running:
		fault("", "start it with service: { run: … }", "the service is somebody else's, and not ours to end")
	case c.To < c.From:
		fault("to", "set from: to less", "it ends before from, at %s", c.To.D())
	case c.To.D() > maxCrashTo:
		fault("to", "set up to 10m", "%s is longer than 10m", c.To.D())
	}
	return faults
}
