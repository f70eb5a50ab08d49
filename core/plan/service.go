package plan

import (
	"fmt"
	"maps"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
)

// PortMark stands in a contender's settings for the free port that its service is given.
const PortMark = "${PORT}"

// RelayMark stands for where a relay listens for what its deeds bring about.
const RelayMark = "${RELAY_URL}"

// DataMark stands for the folder of ours that its service keeps its data in.
const DataMark = "${DATA}"

// Service is a process that a contender needs: it is started, waited for and stopped for it.
type Service struct {
	Run   []Word          `json:"run,omitempty" jsonschema:"minItems=1" jsonschema_description:"program and arguments, as a list; ${PORT} is a free port"`
	Shell string          `json:"shell,omitempty" jsonschema:"minLength=1" jsonschema_description:"a line for /bin/sh instead of run"`
	Dir   string          `json:"dir,omitempty" jsonschema_description:"working directory, from where the contender stands"`
	Env   map[string]Word `json:"env,omitempty" jsonschema_description:"laid over our own environment, which also has PORT"`
	Ready Ready           `json:"ready,omitempty" jsonschema_description:"how it is seen to be ready; when its port accepts unless said"`
	Limit Span            `json:"limit,omitempty" jsonschema_description:"how long it may take to be ready; 30s unless said"`
	Fresh string          `json:"fresh,omitempty" jsonschema:"enum=run,enum=heat,enum=round,enum=duel" jsonschema_description:"how often it is started anew; for every heat unless said"`
	Stop  Stop            `json:"stop,omitempty" jsonschema_description:"how it is asked to end"`
	User  string          `json:"user,omitempty" jsonschema_description:"as whom it and its data and prepare run, where we are root; as we do where we are not"`
	// Data is done once, before the first start, and is no part of any.
	Data Lines `json:"data,omitempty" jsonschema_description:"shell lines that fill an empty folder of ours, ${DATA}, once before its first start; the folder goes with the run"`
	// Prepare is done before each start and is no part of it.
	Prepare Lines    `json:"prepare,omitempty" jsonschema_description:"shell lines before each start, where the contender stands: timed as a figure of their own, no part of the start"`
	Marks   Marks    `json:"marks,omitempty" jsonschema_description:"times and amounts that it prints while it starts, by name"`
	Limits  *Limits  `json:"limits,omitempty" jsonschema_description:"what it and all that it starts may take, where this machine has control groups"`
	Watch   Span     `json:"watch,omitempty" jsonschema_description:"how often its memory is looked at; every 50ms unless said"`
	Running *Running `json:"running,omitempty" jsonschema_description:"instead of run: one that somebody else runs, whose memory and CPU are measured"`
}

// Watch is a database that a contender of any kind uses: what it counts is read around each heat.
// One of the addresses is set.
type Watch struct {
	Postgres Address `json:"postgres,omitempty" jsonschema_description:"of a PostgreSQL server: postgres://USER@HOST:PORT/NAME, or a variable that holds it: ${DSN}"`
	MySQL    Address `json:"mysql,omitempty" jsonschema_description:"the same of MySQL: mysql://USER@HOST:PORT/NAME"`
	MariaDB  Address `json:"mariadb,omitempty" jsonschema_description:"the same of MariaDB: mariadb://USER@HOST:PORT/NAME"`
	Password Secret  `json:"password,omitempty" jsonschema_description:"of the user, from the environment: ${NAME}"`
}

// Databases are the addresses that are set, by their keys in the plan.
func (w *Watch) Databases() map[string]Address {
	out := map[string]Address{"postgres": w.Postgres, "mysql": w.MySQL, "mariadb": w.MariaDB}
	maps.DeleteFunc(out, func(_ string, a Address) bool { return a == "" })
	return out
}

// Traces has an instrumented service send what happens inside some of a heat's shots.
type Traces struct {
	Of     int        `json:"of,omitempty" jsonschema:"minimum=1,maximum=500" jsonschema_description:"so many shots of each heat, evenly chosen; 100 unless said"`
	Share  Fraction   `json:"share,omitempty" jsonschema_description:"instead: this share of all shots, as 2%"`
	Lines  *StepLines `json:"lines,omitempty" jsonschema_description:"lines with a time that the service prints, for one that sends no spans; their key holds the trace's identifier from the traceparent header"`
	Listen string     `json:"listen,omitempty" jsonschema_description:"the address of this machine to which a service that somebody else runs sends its spans, as 127.0.0.1:4318"`
}

// DefaultTraced is how many shots of each heat are traced unless a plan says otherwise.
const DefaultTraced = 100

// Limits are what a service may take, or another process that lasts.
type Limits struct {
	Memory Bytes  `json:"memory,omitempty" jsonschema_description:"the most memory, as 256MiB; what wants more is killed"`
	CPU    Amount `json:"cpu,omitempty" jsonschema_description:"how many processors' time, as 1 or 0.5"`
}

// Words says what the limits are.
func (l *Limits) Words() string {
	var parts []string
	if l.Memory > 0 {
		parts = append(parts, "at most "+humanize.IBytes(uint64(l.Memory))+" of memory")
	}
	if l.CPU > 0 {
		parts = append(parts, fmt.Sprintf("at most %g of a processor's time", float64(l.CPU)))
	}
	return strings.Join(parts, ", ")
}

// Housed are settings whose contenders have a process of their own that lasts, without being a service.
type Housed interface {
	Held() *Limits    // what it may take; nil: what it likes
	StartsAnew() bool // for each heat, so that its starts are figures
	Tasks() int       // threads that each client has at work at once
}

// Limits are what the contender's service, or the process that it has of its own, may take; nil: what it likes.
func (c *Contender) Limits() *Limits {
	if s := c.Ground.Service; s != nil {
		return s.Limits
	}
	if h, ok := c.Settings.(Housed); ok {
		return h.Held()
	}
	return nil
}

// Starts reports whether the contender has starts that are figures: of a service, or of a process of its own.
func (c *Contender) Starts() bool {
	h, ok := c.Settings.(Housed)
	return c.Ground.Service != nil || ok && h.StartsAnew()
}

// Running is a service that is there already, named in one of two ways.
type Running struct {
	PID  int `json:"pid,omitempty" jsonschema:"minimum=1" jsonschema_description:"the number of its process"`
	Port int `json:"port,omitempty" jsonschema:"minimum=1,maximum=65535" jsonschema_description:"the port of this machine that it listens on"`
}

// Words says which service it is.
func (r *Running) Words() string {
	if r.Port > 0 {
		return fmt.Sprintf("whoever listens on port %d", r.Port)
	}
	return fmt.Sprintf("process %d", r.PID)
}

// Ready says how a service is seen to be ready; at most one way is set.
type Ready struct {
	URL    string `json:"url,omitempty" jsonschema_description:"an address on this machine that answers"`
	Status int    `json:"status,omitempty" jsonschema:"minimum=100,maximum=599" jsonschema_description:"with url: the status of its answer; any 2xx unless said"`
	Line   string `json:"line,omitempty" jsonschema_description:"a regular expression that a line of its output matches"`
	File   string `json:"file,omitempty" jsonschema_description:"a file that appears, from where the contender stands"`
	Notify bool   `json:"notify,omitempty" jsonschema_description:"it says READY=1 to the socket in NOTIFY_SOCKET, as with sd_notify"`
}

// Stop says how a service is asked to end; after the grace time it is killed.
type Stop struct {
	Signal string `json:"signal,omitempty" jsonschema:"enum=TERM,enum=INT,enum=QUIT,enum=HUP,enum=KILL" jsonschema_description:"TERM unless said"`
	Grace  Span   `json:"grace,omitempty" jsonschema_description:"how long it may take to end before it is killed; 5s unless said"`
}

// Defaults of a service.
const (
	DefaultLimit = 30 * time.Second
	DefaultGrace = 5 * time.Second
	// at which a service of a few processes costs a few ten-thousandths of a processor
	DefaultWatch = 50 * time.Millisecond
)

// Summary is the service's command as one would type it, and as whom it runs where the plan says so.
func (s *Service) Summary() string {
	if s.Running != nil {
		return s.Running.Words()
	}
	text := s.Shell
	if text == "" {
		words := make([]string, len(s.Run))
		for i, w := range s.Run {
			words[i] = string(w)
		}
		text = strings.Join(words, " ")
	}
	if s.User != "" {
		text += ", as " + s.User
	}
	return text
}

// Words says how it is seen to be ready.
func (r Ready) Words() string {
	switch {
	case r.URL != "":
		return r.URL + " answers"
	case r.Line != "":
		return "it prints " + r.Line
	case r.File != "":
		return "the file " + r.File + " is there"
	}
	if r.Notify {
		return "it says READY=1"
	}
	return "its port accepts"
}

// Complete fills in what was left out.
func (s *Service) Complete() *Service {
	out := *s
	if out.Limit == 0 {
		out.Limit = Span(DefaultLimit)
	}
	if out.Fresh == "" {
		out.Fresh = EveryHeat
	}
	if out.Watch == 0 {
		out.Watch = Span(DefaultWatch)
	}
	if out.Stop.Signal == "" {
		out.Stop.Signal = "TERM"
	}
	if out.Stop.Grace == 0 {
		out.Stop.Grace = Span(DefaultGrace)
	}
	return &out
}
