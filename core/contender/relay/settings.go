// Package relay does something and then waits for what it brings about elsewhere: the delay between a deed and its
// effects.
//
// A deed is a request, a shell line, a file that is put somewhere, a message, or a statement on a database. Its effects
// are a request that comes back to us, an event or a message on a stream that is held open, a file or a line in one, or
// an answer that is asked for again and again, be it an address, a program or a database. Several are watched at once,
// each timed from the moment at which the deed begins. A key in the deed ties its effects to it, however many are under
// way.
//
// What comes too late, twice or out of order is counted. Watching is done by events where the system has them; where we
// have to ask again and again, how often is stated, since that may be added to what is seen.
package relay

import (
	"fmt"
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"paceduel/core/contender/query"
	"paceduel/core/guard"
	"paceduel/core/plan"
)

// Settings are the keys under relay: in a plan.
type Settings struct {
	Request *Request          `json:"request,omitempty" jsonschema_description:"the deed is a request"`
	Shell   string            `json:"shell,omitempty" jsonschema_description:"the deed is a shell line, done when it ends"`
	Put     *Put              `json:"put,omitempty" jsonschema_description:"the deed is a file that is put in its place whole"`
	Send    *Send             `json:"send,omitempty" jsonschema_description:"the deed is a message on a WebSocket"`
	Query   *query.Question   `json:"query,omitempty" jsonschema_description:"the deed is a statement on a database, as one that inserts a row; {{key}} is a parameter of it"`
	Effects map[string]Effect `json:"effects" jsonschema:"required" jsonschema_description:"what the deed brings about, by names: each a figure, as p99 of NAME"`
	Until   string            `json:"until,omitempty" jsonschema_description:"the effect that a shot lasts until; the last of all unless said"`
	Within  plan.Span         `json:"within,omitempty" jsonschema_description:"what has not come after so long never comes; 10s unless said"`
	Asleep  plan.Span         `json:"asleep,omitempty" jsonschema_description:"with caches: [asleep, awake]: asleep, nothing happens for so long before each deed; awake, deeds follow each other"`
}

// Request is a deed that is a request. {{key}} is the deed's key, ${RELAY_URL} where we listen.
type Request struct {
	URL     string               `json:"url" jsonschema:"required" jsonschema_description:"where to ask; {{key}} is the key of the deed"`
	Method  string               `json:"method,omitempty" jsonschema:"enum=GET,enum=POST,enum=PUT,enum=PATCH,enum=DELETE" jsonschema_description:"POST unless said"`
	Headers map[string]plan.Word `json:"headers,omitempty" jsonschema_description:"beside our own"`
	Body    string               `json:"body,omitempty" jsonschema_description:"sent with it; ${RELAY_URL} is where effects may be told"`
	Expect  int                  `json:"expect,omitempty" jsonschema:"minimum=100,maximum=599" jsonschema_description:"the status of a good answer; any of 200 to 299 unless said"`
}

// Short reads a request that is written as its address.
func (r *Request) Short(text string) { r.URL = text }

// Put is a deed that is a file. One that was there before the run is replaced in a workspace alone.
type Put struct {
	File string `json:"file" jsonschema:"required" jsonschema_description:"where it is put; {{key}} is the key of the deed"`
	Text string `json:"text,omitempty" jsonschema_description:"what is in it; the key unless said"`
}

// Short reads a file that is written as its place.
func (p *Put) Short(text string) { p.File = text }

// Send is a deed that is a message.
type Send struct {
	To   string `json:"to" jsonschema:"required" jsonschema_description:"ws://HOST:PORT/PATH"`
	Text string `json:"text,omitempty" jsonschema_description:"the message; the key unless said"`
}

// Effect is one thing that a deed brings about. One of the ways is set.
type Effect struct {
	Call   bool            `json:"call,omitempty" jsonschema_description:"a request to where we listen (RELAY_URL)"`
	Events string          `json:"events,omitempty" jsonschema_description:"an event on this stream of server-sent events, which is held open"`
	Socket string          `json:"socket,omitempty" jsonschema_description:"a message on this WebSocket, which is held open"`
	File   string          `json:"file,omitempty" jsonschema_description:"a file that appears, or changes"`
	Log    string          `json:"log,omitempty" jsonschema_description:"a line that is added to this file"`
	Poll   string          `json:"poll,omitempty" jsonschema_description:"an address that is asked again and again"`
	Check  string          `json:"check,omitempty" jsonschema_description:"a shell line that is run again and again until it succeeds"`
	Query  *query.Question `json:"query,omitempty" jsonschema_description:"a statement that is asked again and again until a row comes; {{key}} is a parameter of it"`
	Has    string          `json:"has,omitempty" jsonschema_description:"a text that it holds: of a call in its address or body; the key unless said, and any row of a query"`
	Every  plan.Span       `json:"every,omitempty" jsonschema_description:"of poll, check and query: how long after an answer it is asked again; 50ms unless said"`
}

// Limits and defaults.
const (
	keyName     = "key"
	keyMark     = "{{" + keyName + "}}"
	urlMark     = plan.RelayMark
	anyURL      = "http://127.0.0.1:1"
	maxEffects  = 8
	maxWithin   = 2 * time.Hour
	defaultPoll = 50 * time.Millisecond
	leastPoll   = time.Millisecond
)

// New returns settings with their defaults.
func New() plan.Settings { return &Settings{Within: plan.Span(10 * time.Second)} }

// HoldsCache implements plan.Caching: who is asleep is as cold as a cache that is empty.
func (s *Settings) HoldsCache() bool { return s.Asleep > 0 }

// Streams implements plan.Streaming: each effect has delays of its own.
func (s *Settings) Streams() []string { return s.names() }

// Floors implements plan.Streaming: what asking again and again may add to what is seen.
func (s *Settings) Floors() map[string]time.Duration {
	out := map[string]time.Duration{}
	for name, e := range s.Effects {
		if e.asked() {
			out[name] = e.every()
		}
	}
	return out
}

func (s *Settings) names() []string { return slices.Sorted(maps.Keys(s.Effects)) }

// ways are the ways of an effect that are set, by their keys.
func (e *Effect) ways() (out []string) {
	for _, w := range []struct {
		key string
		set bool
	}{
		{"call", e.Call}, {"events", e.Events != ""}, {"socket", e.Socket != ""}, {"file", e.File != ""},
		{"log", e.Log != ""}, {"poll", e.Poll != ""}, {"check", e.Check != ""}, {"query", e.Query != nil},
	} {
		if w.set {
			out = append(out, w.key)
		}
	}
	return out
}

// asked reports whether we have to ask again and again.
func (e *Effect) asked() bool { return e.Poll != "" || e.Check != "" || e.Query != nil }

func (e *Effect) every() time.Duration {
	if e.Every == 0 {
		return defaultPoll
	}
	return e.Every.D()
}

// has is the text that an effect of a deed holds.
func (e *Effect) has(key string) string {
	if e.Has == "" {
		return key
	}
	return strings.ReplaceAll(e.Has, keyMark, key)
}

var effectName = regexp.MustCompile(`^[\pL\pN][\pL\pN_.-]{0,31}$`)

// Check reports what is wrong with the settings.
func (s *Settings) Check(in plan.Surroundings) (faults []plan.Fault) {
	fault := func(key, try, what string, args ...any) {
		faults = append(faults, plan.Fault{Key: key, What: fmt.Sprintf(what, args...), Try: try})
	}
	deeds := 0
	for _, set := range []bool{s.Request != nil, s.Shell != "", s.Put != nil, s.Send != nil, s.Query != nil} {
		if set {
			deeds++
		}
	}
	allowed := guard.New(in.Allow)
	address := func(key, text string, schemes ...string) {
		u, err := url.Parse(strings.NewReplacer(plan.PortMark, "1", urlMark, anyURL, keyMark, "k").Replace(text))
		switch {
		case err != nil || !slices.Contains(schemes, u.Scheme) || u.Host == "":
			fault(key, "write it as "+schemes[0]+"://127.0.0.1:PORT/…", "%q is not an address", text)
		case allowed.Check(u.Hostname()) != nil:
			fault(key, guard.Try(u.Hostname()), "%s is not this machine", u.Hostname())
		}
	}
	asks := func(key string, q *query.Question) {
		for _, f := range q.Check(in, keyName) {
			fault(plan.JoinKeys(key, f.Key), f.Try, "%s", f.What)
		}
	}
	switch {
	case deeds == 0:
		fault("", "set request:, shell:, put:, send: or query:", "nothing says what is done")
	case deeds > 1:
		fault("", "keep one of request, shell, put, send and query", "a deed is one thing")
	case s.Request != nil:
		address("request.url", s.Request.URL, "http", "https")
	case s.Send != nil:
		address("send.to", s.Send.To, "ws", "wss")
	case s.Query != nil:
		asks("query", s.Query)
	}
	s.checkEffects(fault, address, asks)
	if _, ok := s.Effects[s.Until]; s.Until != "" && !ok {
		fault("until", plan.PointTo(s.Until, s.names()), "no effect is called %q", s.Until)
	}
	if s.Within == 0 || s.Within.D() > maxWithin {
		fault("within", "set up to 2h", "a limit of %s", s.Within.D())
	}
	return faults
}

// checkEffects finds what is wrong with how effects are seen.
func (s *Settings) checkEffects(
	fault func(key, try, what string, args ...any), address func(key, text string, schemes ...string),
	asks func(string, *query.Question),
) {
	if len(s.Effects) == 0 {
		fault("", "set effects: { NAME: { poll: http://… } }", "nothing says what the deed brings about")
	}
	if len(s.Effects) > maxEffects {
		fault("effects", fmt.Sprintf("watch %d", maxEffects), "%d effects are too many", len(s.Effects))
	}
	for _, name := range s.names() {
		e, key := s.Effects[name], "effects."+name
		ways := e.ways()
		switch {
		case !effectName.MatchString(name) || name == deedName:
			fault(key, "use up to 32 letters, digits, dots and hyphens", "%q is no name for an effect", name)
		case len(ways) == 0:
			fault(key, "set one of call, events, socket, file, log, poll, check and query", "nothing says how it is seen")
		case len(ways) > 1:
			fault(key, "keep one of them", "it is seen in several ways: %s", strings.Join(ways, ", "))
		case e.Poll != "":
			address(key+".poll", e.Poll, "http", "https")
		case e.Events != "":
			address(key+".events", e.Events, "http", "https")
		case e.Socket != "":
			address(key+".socket", e.Socket, "ws", "wss")
		case e.Query != nil:
			asks(key+".query", e.Query)
		case e.File != "" && e.Has != "" && !strings.Contains(e.File+e.Has, keyMark):
			fault(key, "put {{key}} into file: or has:", "nothing ties it to its deed")
		}
		if e.Every > 0 && !e.asked() {
			fault(key+".every", "leave it out", "it is seen when it comes")
		}
		if e.Every > 0 && e.Every.D() < leastPoll {
			fault(key+".every", "set 1ms or more", "asking every %s would be a load of its own", e.Every.D())
		}
	}
}

// Summary is what is done, and what is waited for.
func (s *Settings) Summary() string {
	deed := ""
	switch {
	case s.Request != nil:
		deed = strings.TrimSpace(s.method() + " " + s.Request.URL)
	case s.Shell != "":
		deed = strings.Join(strings.Fields(s.Shell), " ")
	case s.Put != nil:
		deed = "put " + s.Put.File
	case s.Send != nil:
		deed = "send to " + s.Send.To
	case s.Query != nil:
		deed = strings.Join(strings.Fields(s.Query.Statement), " ")
	}
	var effects []string
	for _, name := range s.names() {
		e := s.Effects[name]
		how := strings.Join(e.ways(), "")
		if e.asked() {
			how += " every " + e.every().String()
		}
		effects = append(effects, name+" ("+how+")")
	}
	text := deed + ", then " + strings.Join(effects, ", ")
	if s.Until != "" {
		text += ", until " + s.Until
	}
	return text
}

func (s *Settings) method() string {
	if s.Request.Method == "" {
		return "POST"
	}
	return s.Request.Method
}
