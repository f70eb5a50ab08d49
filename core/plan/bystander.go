package plan

import (
	"fmt"
	"net"
	"regexp"
	"strconv"
	"time"
)

// Bystander is a light probe that is kept going at a set rate while a contender works, to see who waits meanwhile: a
// contact by TCP, a ping of the contender's worker, a line that its service should print, or a shot of any kind, a
// request of the same service above all. One of these is set.
type Bystander struct {
	Rate   Rate  `json:"rate,omitempty" jsonschema_description:"how often it asks; 100/s unless said"`
	Within Span  `json:"within,omitempty" jsonschema_description:"who waits for longer than this is held up; 50ms unless said"`
	Quiet  Span  `json:"quiet,omitempty" jsonschema_description:"for so long before each heat it asks while nothing else is done; 1s unless said"`
	TCP    Word  `json:"tcp,omitempty" jsonschema_description:"it opens a connection to HOST:PORT, and closes it"`
	Ping   bool  `json:"ping,omitempty" jsonschema_description:"it asks the contender's worker for a sign of life, beside its functions"`
	Line   *Tick `json:"line,omitempty" jsonschema_description:"it asks nothing: a line that the contender's service, or its worker, prints by itself, as of a timer"`

	Kind     string   `json:"-"` // of the shots that it performs; empty: none
	Settings Settings `json:"-"`
}

// Tick is a line that comes again and again while whoever prints it is not held up.
type Tick struct {
	Pattern string `json:"pattern" jsonschema:"required" jsonschema_description:"a regular expression that the line matches"`
	Every   Span   `json:"every" jsonschema:"required" jsonschema_description:"how often it is due, as 20ms"`
}

// Defaults of a bystander.
const (
	DefaultProbes = Rate(100)
	DefaultWithin = Span(50 * time.Millisecond)
	DefaultQuiet  = Span(time.Second)
	// MaxProbes is the highest rate of a bystander: it is to be light.
	MaxProbes = 5_000
)

// Complete fills in what is not said.
func (b *Bystander) Complete() {
	if b.Rate == 0 {
		b.Rate = DefaultProbes
	}
	if b.Line != nil && b.Line.Every > 0 {
		b.Rate = Rate(float64(time.Second) / float64(b.Line.Every))
	}
	if b.Within == 0 {
		b.Within = DefaultWithin
	}
	if b.Quiet == 0 {
		b.Quiet = DefaultQuiet
	}
}

// Every is the time from one probe to the next.
func (b *Bystander) Every() time.Duration {
	return time.Duration(float64(time.Second) / float64(b.Rate))
}

// Summary is what it does, in a line.
func (b *Bystander) Summary() string {
	what := ""
	switch {
	case b.Line != nil:
		return fmt.Sprintf("a line like %q every %s", b.Line.Pattern, b.Line.Every.D())
	case b.Ping:
		what = "a ping of the worker"
	case b.TCP != "":
		what = "a connection to " + string(b.TCP)
	default:
		what = b.Settings.Summary()
	}
	return fmt.Sprintf("%s, %s", what, b.Rate)
}

// Check finds what is wrong with it, but for the settings of its kind, beside a contender that has a service or is a
// worker.
func (b *Bystander) Check(service, worker bool) (faults []Fault) {
	fault := func(key, try, what string, args ...any) {
		faults = append(faults, Fault{Key: key, What: fmt.Sprintf(what, args...), Try: try})
	}
	ways := 0
	for _, set := range []bool{b.TCP != "", b.Ping, b.Line != nil, b.Kind != ""} {
		if set {
			ways++
		}
	}
	switch {
	case ways == 0:
		fault("", "set tcp:, line:, ping:, or the key of a kind, as http:", "nothing says what the bystander does")
	case ways > 1:
		fault("", "keep one of them", "a bystander does one thing")
	case b.Line == nil && b.Rate > MaxProbes:
		fault("rate", "it is to be light", "%s is more than %d/s", b.Rate, MaxProbes)
	case b.TCP != "":
		_, port, err := net.SplitHostPort(string(b.TCP))
		if _, bad := strconv.ParseUint(port, 10, 16); err != nil || bad != nil && port != PortMark {
			fault("tcp", "write it as 127.0.0.1:${PORT}", "%q is not an address", b.TCP)
		}
	case b.Ping && !worker:
		fault("ping", "set http:, tcp: or line:", "only a worker answers pings")
	case b.Line != nil && !service && !worker:
		fault("line", "add service:", "nothing prints the line: it is one of a service, or of a worker")
	case b.Line != nil:
		if _, err := regexp.Compile(b.Line.Pattern); err != nil {
			fault("line.pattern", "see the syntax at go doc regexp/syntax", "%q is not a regular expression: %s",
				b.Line.Pattern, err)
		}
		const least = 2 * time.Millisecond
		if b.Line.Every.D() < least {
			fault("line.every", "set 2ms or more", "every %s is too often to be seen", b.Line.Every.D())
		}
	}
	return faults
}
