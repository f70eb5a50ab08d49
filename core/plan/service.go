package plan

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
)

// PortMark stands in a contender's settings for the free port that its service is given.
const PortMark = "${PORT}"

// Service is a process that a contender needs: it is started, waited for and stopped for it.
type Service struct {
	Run   []Word          `json:"run,omitempty" jsonschema:"minItems=1" jsonschema_description:"program and arguments, as a list; ${PORT} is a free port"`
	Shell string          `json:"shell,omitempty" jsonschema:"minLength=1" jsonschema_description:"a line for /bin/sh instead of run"`
	Dir   string          `json:"dir,omitempty" jsonschema_description:"working directory, from where the contender stands"`
	Env   map[string]Word `json:"env,omitempty" jsonschema_description:"laid over our own environment, which also has PORT"`
	Ready Ready           `json:"ready,omitempty" jsonschema_description:"how it is seen to be ready; when its port accepts unless said"`
	Limit Span            `json:"limit,omitempty" jsonschema_description:"how long it may take to be ready; 30s unless said"`
	Fresh string          `json:"fresh,omitempty" jsonschema:"enum=run,enum=heat,enum=duel" jsonschema_description:"how often it is started anew; for every heat unless said"`
	Stop  Stop            `json:"stop,omitempty" jsonschema_description:"how it is asked to end"`
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
)

// Summary is the service's command as one would type it.
func (s *Service) Summary() string {
	if s.Shell != "" {
		return s.Shell
	}
	words := make([]string, len(s.Run))
	for i, w := range s.Run {
		words[i] = string(w)
	}
	return strings.Join(words, " ")
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

// complete fills in what was left out.
func (s *Service) complete() *Service {
	out := *s
	if out.Limit == 0 {
		out.Limit = Span(DefaultLimit)
	}
	if out.Fresh == "" {
		out.Fresh = EveryHeat
	}
	if out.Stop.Signal == "" {
		out.Stop.Signal = "TERM"
	}
	if out.Stop.Grace == 0 {
		out.Stop.Grace = Span(DefaultGrace)
	}
	return &out
}

// checkService checks a contender's service; path is where it stands.
func (r *reader) checkService(name string, s *Service, pace Pace, path string) {
	fault := func(key, try, what string, args ...any) {
		at := join(path, key)
		if _, ok := r.d.places[at]; !ok {
			at = path
		}
		r.fault(at, try, "%s: %s", name, fmt.Sprintf(what, args...))
	}
	switch {
	case len(s.Run) > 0 && s.Shell != "":
		fault("shell", "keep one of them", "both run and shell are set for its service")
	case len(s.Run) == 0 && s.Shell == "":
		fault("", "set run: [program, argument]", "nothing says what its service is")
	case len(s.Run) > 0 && s.Run[0] == "":
		fault("run", "set run: [program, argument]", "the program's name is empty")
	}
	ways := 0
	for _, set := range []bool{s.Ready.URL != "", s.Ready.Line != "", s.Ready.File != "", s.Ready.Notify} {
		if set {
			ways++
		}
	}
	if ways > 1 {
		fault("ready", "keep one of url, line, file and notify", "more than one way to be ready is set")
	}
	if s.Ready.Status != 0 && s.Ready.URL == "" {
		fault("ready.status", "set url:", "a status belongs to a url")
	}
	if _, err := regexp.Compile(s.Ready.Line); err != nil {
		fault("ready.line", "see RE2 syntax", "%s", err)
	}
	mentioned := strings.Contains(s.Shell, PortMark) || slices.ContainsFunc(s.Run, func(w Word) bool { return strings.Contains(string(w), PortMark) })
	for _, v := range s.Env {
		mentioned = mentioned || strings.Contains(string(v), PortMark)
	}
	if ways == 0 && !mentioned {
		fault("", "hand it ${PORT}, or set ready: { url: …, line: …, file: … or notify: true }", "its service is not told its port, so it cannot be seen when that accepts")
	}
	if s.Fresh == EveryRun && !pace.Sequential() {
		fault("fresh", "set repeat: instead of clients:, or fresh: heat", "a fresh service for every run needs runs that follow one another")
	}
}
