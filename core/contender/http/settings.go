// Package http drives requests over HTTP/1.1 and HTTP/2, in clear or over TLS.
//
// A shot's time runs from the moment the request is handed to its connection to the last byte of the body read; opening
// a connection counts when the shot needed one. Bodies are read and counted, not decoded. No proxy is used, no redirect
// followed and no cookie kept unless the settings say so. Requests are rendered before the first shot, one for each
// data row.
//
// There are two paths. The lean one (package lean) writes a request once and reads answers where they lie; it speaks
// HTTP/1.1 to one server. The full one goes through net/http and knows everything. All contenders of a duel take the
// same path unless the plan forces one.
package http

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"strings"
	"time"

	"golang.org/x/net/http/httpguts"

	"paceduel/core/guard"
	"paceduel/core/plan"
	"paceduel/core/rows"
)

// Settings are the keys under http: in a plan.
type Settings struct {
	URL         string               `json:"url,omitempty" jsonschema:"minLength=1" jsonschema_description:"where to ask; {{column}} is filled in from rows"`
	Method      string               `json:"method,omitempty" jsonschema:"enum=GET,enum=HEAD,enum=POST,enum=PUT,enum=PATCH,enum=DELETE,enum=OPTIONS" jsonschema_description:"GET unless said"`
	Protocol    string               `json:"protocol,omitempty" jsonschema:"enum=http1,enum=http2" jsonschema_description:"HTTP/1.1 or HTTP/2, in clear (with prior knowledge) or over TLS as the URL says; http1 unless said"`
	Headers     map[string]plan.Word `json:"headers,omitempty" jsonschema_description:"sent with every request; {{column}} is filled in"`
	Auth        *Auth                `json:"auth,omitempty" jsonschema_description:"who asks: a user and password, or a bearer token"`
	Body        string               `json:"body,omitempty" jsonschema_description:"sent with every request; {{column}} is filled in"`
	BodyFile    string               `json:"body-file,omitempty" jsonschema_description:"a file whose contents are sent, as they are"`
	Parts       []Part               `json:"parts,omitempty" jsonschema_description:"a body of several parts, as forms with files send it (multipart/form-data)"`
	Mix         *rows.Mix            `json:"mix,omitempty" jsonschema_description:"which sort of request each row is, by a column: each has figures of its own, as p99 of ping"`
	Rows        string               `json:"rows,omitempty" jsonschema_description:"a CSV file with a header line, whose rows are used in turn"`
	Expect      int                  `json:"expect,omitempty" jsonschema:"minimum=100,maximum=599" jsonschema_description:"the status of a good answer; any 2xx unless said"`
	Timeout     plan.Span            `json:"timeout,omitempty" jsonschema_description:"given up after this long; 10s unless said"`
	Connections plan.Connections     `json:"connections,omitempty" jsonschema_description:"kept for each client, new for every shot, or a number: a pool of so many that all clients share; kept unless said"`
	TLS         *TLS                 `json:"tls,omitempty" jsonschema_description:"how far a server is trusted"`
	Proxy       string               `json:"proxy,omitempty" jsonschema_description:"asked through this proxy, as http://127.0.0.1:3128; none unless said, whatever the environment says"`
	Redirects   int                  `json:"redirects,omitempty" jsonschema:"minimum=1,maximum=20" jsonschema_description:"how many redirects a shot follows at most; none unless said"`
	Cookies     bool                 `json:"cookies,omitempty" jsonschema_description:"each client keeps the cookies it is given, for the heat"`
	Cache       string               `json:"cache,omitempty" jsonschema:"enum=private" jsonschema_description:"private: each client keeps a cache as browsers do (RFC 9111); with caches: [first, returning] a visit with an empty one, and one with a filled one"`
	Trace       bool                 `json:"traceparent,omitempty" jsonschema_description:"send a traceparent header of its own with every shot, to find it in the service's traces"`
	Batch       int                  `json:"batch,omitempty" jsonschema:"minimum=2,maximum=10000" jsonschema_description:"one shot asks for this many rows, and its time is that of all of them together"`
	AtOnce      int                  `json:"at-once,omitempty" jsonschema:"minimum=1,maximum=256" jsonschema_description:"with batch: how many of them are under way at a time; 1 unless said"`
	Pages       *Pages               `json:"pages,omitempty" jsonschema_description:"a list is read page by page, and a shot is all of them"`
	Legs        []Leg                `json:"legs,omitempty" jsonschema:"maxItems=50" jsonschema_description:"several requests, and a shot is all of them"`
	Order       string               `json:"order,omitempty" jsonschema:"enum=as-needed,enum=in-turn" jsonschema_description:"with legs: each as soon as those that it needs are done, or one after another; as-needed unless said"`
	Path        string               `json:"path,omitempty" jsonschema:"enum=lean,enum=full" jsonschema_description:"lean: requests written once and answers read where they lie, for HTTP/1.1 to one server; full: all that HTTP knows; lean where all contenders can unless said"`
	Version     string               `json:"version,omitempty" jsonschema_description:"the header of the answer in which the service tells its version"`
	Marks       plan.Marks           `json:"marks,omitempty" jsonschema_description:"times and amounts that its answers tell, by name: figures of their own, beside those of Server-Timing"`
	MaxBody     plan.Bytes           `json:"max-body,omitempty" jsonschema_description:"an answer longer than this is a failure; 64MiB unless said"`
}

// HoldsCache implements plan.Caching: a cache that is empty for a first visit, and filled for a returning one.
func (s *Settings) HoldsCache() bool { return s.Cache != "" }

// Expects implements plan.Expecter.
func (s *Settings) Expects() bool { return s.Expect != 0 }

// Marked implements plan.Marker.
func (s *Settings) Marked() plan.Marks {
	if len(s.Legs) == 0 {
		return s.Marks
	}
	out := plan.Marks{}
	for i := range s.Legs {
		maps.Copy(out, s.Legs[i].Marks)
	}
	return out
}

// leveled are settings with what the other contenders of the duel need.
type leveled struct {
	*Settings
	least means
}

// Auth is who asks: User with Password, or Bearer.
type Auth struct {
	User     string      `json:"user,omitempty" jsonschema_description:"with password: sent as basic authentication"`
	Password plan.Secret `json:"password,omitempty" jsonschema_description:"from the environment: ${NAME}"`
	Bearer   plan.Secret `json:"bearer,omitempty" jsonschema_description:"a token from the environment: ${NAME}"`
}

// Part is one part of a body of several: a value, or a file's contents.
type Part struct {
	Name  string    `json:"name,omitempty" jsonschema_description:"of the field"`
	Value plan.Word `json:"value,omitempty" jsonschema_description:"its text; {{column}} is filled in"`
	File  string    `json:"file,omitempty" jsonschema_description:"a file to send instead of a value"`
	Type  string    `json:"type,omitempty" jsonschema_description:"the file's content type; application/octet-stream unless said"`
}

// TLS is how far a server is trusted, and how we show who we are.
type TLS struct {
	CA       string `json:"ca,omitempty" jsonschema_description:"a PEM file of authorities trusted instead of this machine's"`
	Resume   bool   `json:"resume,omitempty" jsonschema_description:"later handshakes of a client are shortened where the server allows; all are full ones unless said"`
	Insecure bool   `json:"insecure,omitempty" jsonschema_description:"take any certificate"`
	Name     string `json:"name,omitempty" jsonschema_description:"the name that the certificate must be for; that of the URL unless said"`
	Cert     string `json:"cert,omitempty" jsonschema_description:"a PEM file with a certificate of our own to show"`
	Key      string `json:"key,omitempty" jsonschema_description:"a PEM file with its key"`
}

const (
	defaultTimeout = 10 * time.Second
	defaultMaxBody = 64 << 20
)

// New returns settings with their defaults.
func New() plan.Settings {
	return &Settings{Method: "GET", Timeout: plan.Span(defaultTimeout), MaxBody: defaultMaxBody}
}

// Summary is the request line, and what is special about it.
func (s *Settings) Summary() string {
	text := s.Method + " " + s.URL
	if s.Protocol == http2 {
		text += " over HTTP/2"
	}
	switch {
	case s.Connections == plan.Fresh:
		text += ", a new connection each"
	case s.Connections > 0:
		text += fmt.Sprintf(", a pool of %d", int(s.Connections))
	}
	if s.Pages != nil {
		text += ", page by page"
	}
	if n := len(s.Legs); n > 0 {
		order := strings.ReplaceAll(cmp.Or(s.Order, asNeeded), "-", " ")
		text = fmt.Sprintf("%s: %s", order, strings.Join(s.legNames(), ", "))
		if s.URL != "" {
			text += " from " + s.URL
		}
	}
	if s.Batch > 0 {
		text += fmt.Sprintf(", %d in a batch, %d at once", s.Batch, max(s.AtOnce, 1))
	}
	return text
}

const http2 = "http2"

// fullOnly is what of the settings the lean path does not know; empty when it knows it all.
func (s *Settings) fullOnly(requests []request) string {
	server, one := oneServer(requests)
	switch {
	case s.Protocol == http2:
		return "HTTP/2"
	case !one:
		return "more than one server"
	case s.Proxy != "":
		return "a proxy"
	case s.Redirects > 0:
		return "redirects"
	case s.Cookies:
		return "cookies"
	case s.Cache != "":
		return "a cache"
	case s.Connections > 0:
		return "a pool of connections"
	case s.Trace:
		return "traceparent"
	case s.Pages != nil:
		return "pages"
	case len(s.Marked()) > 0:
		return "marks"
	case server.Scheme == "https" && s.Batch > 0:
		return "a batch over TLS"
	}
	return ""
}

// Check renders every request once, so that whatever cannot be sent is found before anything is.
func (s *Settings) Check(in plan.Surroundings) (faults []plan.Fault) {
	fault := func(key, try, what string, args ...any) {
		faults = append(faults, plan.Fault{Key: key, What: fmt.Sprintf(what, args...), Try: try})
	}
	if s.URL == "" && len(s.Legs) == 0 {
		fault("", "set url: http://…", "nothing says where to ask")
		return faults
	}
	if s.Timeout == 0 {
		fault("timeout", "set a positive time", "a limit of no time at all")
	}
	faults = append(faults, s.checkHeaders()...)
	faults = append(faults, s.checkMarks()...)
	faults = append(faults, s.checkTogether()...)
	faults = append(faults, s.checkParts(in.Dir)...)
	if len(faults) > 0 {
		return faults
	}
	table, _, err := s.readRows(in.Dir)
	if f := s.Mix.Fault(err, s.Rows); f != nil {
		return append(faults, *f)
	}
	if len(s.Legs) > 0 {
		faults = s.checkLegs(table, in)
	} else {
		faults = s.checkOne(table, in)
	}
	if len(faults) > 0 {
		return faults
	}
	requests, err := s.all(table, in.Dir, anyPort)
	if err != nil {
		fault("", "", "%s", err)
		return faults
	}
	if what := s.fullOnly(requests); what != "" && s.Path == "lean" {
		fault("path", "set path: full", "the lean path does not know %s", what)
	}
	allowed := guard.New(in.Allow)
	if u, err := url.Parse(s.Proxy); err == nil && s.Proxy != "" && allowed.Check(u.Hostname()) != nil {
		fault("proxy", guard.Try(u.Hostname()), "%s is not this machine", u.Hostname())
	}
	if s.TLS != nil && requests[0].url.Scheme != "https" {
		fault("tls", "write the url as https://…", "there is no TLS in %s", requests[0].url.Redacted())
	}
	return faults
}

// checkMarks looks at what is read from answers.
func (s *Settings) checkMarks() []plan.Fault {
	faults := s.Marks.Check("body", "header")
	for i := range faults {
		faults[i].Key = strings.TrimSuffix("marks."+faults[i].Key, ".")
	}
	return faults
}

// all are the requests for all rows, of all legs where there are several.
func (s *Settings) all(table rows.Table, dir, port string) (out []request, err error) {
	if len(s.Legs) == 0 {
		return s.render(table, dir, port)
	}
	legs, _ := s.legs()
	for i := range legs {
		own, err := legs[i].settings.render(table, dir, port)
		if err != nil {
			return nil, err
		}
		out = append(out, own...)
	}
	return out, nil
}

// checkHeaders looks at what is to be sent with every request.
func (s *Settings) checkHeaders() (faults []plan.Fault) {
	fault := func(key, try, what string, args ...any) {
		faults = append(faults, plan.Fault{Key: key, What: fmt.Sprintf(what, args...), Try: try})
	}
	for name, value := range s.Headers {
		if !httpguts.ValidHeaderFieldName(name) {
			fault("headers."+name, "use letters, digits and hyphens", "%q is not a header name", name)
		}
		if !httpguts.ValidHeaderFieldValue(string(value)) {
			fault("headers."+name, "remove line breaks and control characters", "the value of header %s cannot be sent", name)
		}
	}
	return faults
}

// checkOne looks at a request for all rows.
func (s *Settings) checkOne(table rows.Table, in plan.Surroundings) (faults []plan.Fault) {
	fault := func(key, try, what string, args ...any) {
		faults = append(faults, plan.Fault{Key: key, What: fmt.Sprintf(what, args...), Try: try})
	}
	if faults = append(s.checkHeaders(), s.checkBody()...); len(faults) > 0 {
		return faults
	}
	requests, err := s.render(table, in.Dir, anyPort)
	var unknown rows.Unknown
	switch {
	case errors.As(err, &unknown):
		fault(unknown.Key, unknown.Try(), "no column is called %q", unknown.Name)
		return faults
	case err != nil:
		fault("url", "write it as http://host:port/path", "%s", err)
		return faults
	}
	allowed := guard.New(in.Allow)
	for _, r := range requests {
		if host := r.url.Hostname(); allowed.Check(host) != nil && !strings.Contains(host, markStart) {
			fault("url", guard.Try(host), "%s is not this machine", host)
			break
		}
	}
	return faults
}

// checkParts looks at what does not depend on rows.
func (s *Settings) checkParts(dir string) (faults []plan.Fault) {
	fault := func(key, try, what string, args ...any) {
		faults = append(faults, plan.Fault{Key: key, What: fmt.Sprintf(what, args...), Try: try})
	}
	if s.AtOnce > 0 && s.Batch == 0 {
		fault("at-once", "add batch: and how many rows it is of", "at-once says how many of a batch are under way")
	}
	faults = append(faults, s.checkBody()...)
	faults = append(faults, s.checkPages()...)
	if s.Proxy != "" {
		if u, err := url.Parse(s.Proxy); err != nil || u.Scheme != "http" || u.Host == "" {
			fault("proxy", "write it as http://127.0.0.1:3128", "%q is not a proxy", s.Proxy)
		}
	}
	if _, err := s.TLS.config(dir); err != nil {
		fault("tls", "", "%s", err)
	}
	return faults
}

// checkBody looks at who asks, and at what is sent.
func (s *Settings) checkBody() (faults []plan.Fault) {
	fault := func(key, try, what string, args ...any) {
		faults = append(faults, plan.Fault{Key: key, What: fmt.Sprintf(what, args...), Try: try})
	}
	bodies := 0
	for _, set := range []bool{s.Body != "", s.BodyFile != "", len(s.Parts) > 0} {
		if set {
			bodies++
		}
	}
	if bodies > 1 {
		fault("", "keep one of body, body-file and parts", "a request has one body")
	}
	if a := s.Auth; a != nil {
		basic := a.User != "" || a.Password != ""
		switch {
		case basic && a.Bearer != "":
			fault("auth", "keep user and password, or bearer", "a request is authorised in one way")
		case basic && (a.User == "" || a.Password == ""):
			fault("auth", "set both user and password", "basic authentication takes a user and a password")
		case !basic && a.Bearer == "":
			fault("auth", "set user and password, or bearer", "nothing says who asks")
		}
		if basic && strings.Contains(a.User, ":") {
			fault("auth.user", "", "a user of basic authentication has no colon in its name")
		}
	}
	for i, part := range s.Parts {
		key := fmt.Sprintf("parts[%d]", i)
		if part.Name == "" {
			fault(key, "set name:", "a part without a name")
		}
		if (part.Value != "") == (part.File != "") {
			fault(key, "set value or file", "a part has a value or a file")
		}
	}
	return faults
}
