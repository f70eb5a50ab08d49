// Package http drives requests over HTTP/1.1, in clear or over TLS.
//
// A shot's time runs from the moment the request is handed to its connection to the last byte of the body read; opening
// a connection counts when the shot needed one. Bodies are read and counted, not decoded. Redirects are not followed
// and no proxy is used. Requests are rendered before the first shot, one for each data row.
package http

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/http/httpguts"

	"paceduel/core/plan"
)

// Settings are the keys under http: in a plan.
type Settings struct {
	URL         string               `json:"url,omitempty" jsonschema:"minLength=1" jsonschema_description:"where to ask; {{column}} is filled in from rows"`
	Method      string               `json:"method,omitempty" jsonschema:"enum=GET,enum=HEAD,enum=POST,enum=PUT,enum=PATCH,enum=DELETE,enum=OPTIONS" jsonschema_description:"GET unless said"`
	Headers     map[string]plan.Word `json:"headers,omitempty" jsonschema_description:"sent with every request; {{column}} is filled in"`
	Body        string               `json:"body,omitempty" jsonschema_description:"sent with every request; {{column}} is filled in"`
	Rows        string               `json:"rows,omitempty" jsonschema_description:"a CSV file with a header line, whose rows are used in turn"`
	Expect      int                  `json:"expect,omitempty" jsonschema:"minimum=100,maximum=599" jsonschema_description:"the status of a good answer; any 2xx unless said"`
	Timeout     plan.Span            `json:"timeout,omitempty" jsonschema_description:"given up after this long; 10s unless said"`
	Connections string               `json:"connections,omitempty" jsonschema:"enum=kept,enum=new" jsonschema_description:"kept for each client, or a new one for every shot; kept unless said"`
	Path        string               `json:"path,omitempty" jsonschema:"enum=lean,enum=full" jsonschema_description:"lean: one thread for all connections, for HTTP/1.1 in clear; full: a goroutine for each client; lean where it can unless said"`
	Version     string               `json:"version,omitempty" jsonschema_description:"the header of the answer in which the service tells its version"`
	MaxBody     plan.Bytes           `json:"max-body,omitempty" jsonschema_description:"an answer longer than this is a failure; 64MiB unless said"`
}

const (
	defaultTimeout = 10 * time.Second
	defaultMaxBody = 64 << 20
	maxRows        = 100_000
)

// New returns settings with their defaults.
func New() plan.Settings {
	return &Settings{Method: "GET", Timeout: plan.Span(defaultTimeout), Connections: "kept", MaxBody: defaultMaxBody}
}

// Summary is the request line.
func (s *Settings) Summary() string { return s.Method + " " + s.URL }

// Check renders every request once, so that whatever cannot be sent is found before anything is.
func (s *Settings) Check(in plan.Surroundings) (faults []plan.Fault) {
	fault := func(key, try, what string, args ...any) {
		faults = append(faults, plan.Fault{Key: key, What: fmt.Sprintf(what, args...), Try: try})
	}
	if s.URL == "" {
		fault("", "set url: http://…", "nothing says where to ask")
		return faults
	}
	if s.Timeout == 0 {
		fault("timeout", "set a positive time", "a limit of no time at all")
	}
	for name, value := range s.Headers {
		if !httpguts.ValidHeaderFieldName(name) {
			fault("headers."+name, "use letters, digits and hyphens", "%q is no header name", name)
		}
		if !httpguts.ValidHeaderFieldValue(string(value)) {
			fault("headers."+name, "remove line breaks and control characters", "the value of header %s cannot be sent", name)
		}
	}
	table, err := s.readRows(in.Dir)
	if err != nil {
		fault("rows", "the first line names the columns", "%s", err)
		return faults
	}
	requests, err := s.render(table, anyPort)
	var unknown unknownColumn
	switch {
	case errors.As(err, &unknown):
		fault(unknown.key, unknown.try(), "no column is called %q", unknown.name)
		return faults
	case err != nil:
		fault("url", "write it as http://host:port/path", "%s", err)
		return faults
	}
	if _, ok := oneServer(requests); !ok && s.Path == "lean" {
		fault("path", "ask one server in clear, or set path: full", "the lean path asks one server over HTTP/1.1 in clear")
	}
	for _, r := range requests {
		if host := r.url.Hostname(); !isLoopback(host) && !slices.Contains(in.Allow, host) {
			fault("url", fmt.Sprintf("if you may put load on it, add the line: allow: [%s]", host), "%s is not this machine", host)
			break
		}
	}
	return faults
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// table is a CSV file in memory.
type table struct {
	columns []string
	rows    [][]string
}

func (s *Settings) readRows(dir string) (table, error) {
	if s.Rows == "" {
		return table{rows: [][]string{nil}}, nil
	}
	path := s.Rows
	if !filepath.IsAbs(path) {
		path = filepath.Join(dir, path)
	}
	f, err := os.Open(path)
	if err != nil {
		return table{}, err
	}
	defer f.Close()
	return readTable(path, f)
}

func readTable(name string, r io.Reader) (table, error) {
	in := csv.NewReader(r)
	columns, err := in.Read()
	if err == io.EOF {
		return table{}, fmt.Errorf("%s is empty", name)
	}
	if err != nil {
		return table{}, fmt.Errorf("%s: %w", name, err)
	}
	t := table{columns: columns}
	for {
		row, err := in.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			return table{}, fmt.Errorf("%s: %w", name, err)
		}
		if len(t.rows) == maxRows {
			return table{}, fmt.Errorf("%s has more than %d rows", name, maxRows)
		}
		t.rows = append(t.rows, row)
	}
	if len(t.rows) == 0 {
		return table{}, fmt.Errorf("%s has a header line and no rows", name)
	}
	return t, nil
}

// request is one rendered request.
type request struct {
	url     *url.URL
	headers map[string][]string
	host    string // from a Host header; empty: that of the URL
	body    []byte
}

// unknownColumn is a {{name}} that the rows do not have.
type unknownColumn struct {
	key, name string
	columns   []string
}

func (u unknownColumn) Error() string { return "no column is called " + u.name }

func (u unknownColumn) try() string {
	if len(u.columns) == 0 {
		return "set rows: to a CSV file that has it"
	}
	return "the columns are " + strings.Join(u.columns, ", ")
}

// anyPort stands for the port of a service while a plan is checked.
const anyPort = "1"

// render makes one request for each row, port being that of the contender's service.
func (s *Settings) render(t table, port string) ([]request, error) {
	out := make([]request, 0, len(t.rows))
	for _, row := range t.rows {
		fill := func(key, text string, escape func(string) string) (string, error) {
			return fillIn(key, strings.ReplaceAll(text, plan.PortMark, port), t.columns, row, escape)
		}
		address, err := fill("url", s.URL, url.QueryEscape)
		if err != nil {
			return nil, err
		}
		u, err := url.Parse(address)
		if err != nil {
			return nil, err
		}
		if u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
			return nil, fmt.Errorf("%q is no address to ask", address)
		}
		r := request{url: u, headers: map[string][]string{}}
		for name, value := range s.Headers {
			text, err := fill("headers."+name, string(value), nil)
			if err != nil {
				return nil, err
			}
			if strings.EqualFold(name, "Host") {
				r.host = text
				continue
			}
			r.headers[canonical(name)] = []string{text}
		}
		if r.headers["User-Agent"] == nil {
			r.headers["User-Agent"] = []string{"paceduel"}
		}
		body, err := fill("body", s.Body, nil)
		if err != nil {
			return nil, err
		}
		r.body = []byte(body)
		out = append(out, r)
	}
	return out, nil
}

// fillIn replaces each {{column}} in text by the row's value, escaped where it stands in a URL.
func fillIn(key, text string, columns, row []string, escape func(string) string) (string, error) {
	var out strings.Builder
	for {
		before, rest, found := strings.Cut(text, "{{")
		out.WriteString(before)
		if !found {
			return out.String(), nil
		}
		name, after, closed := strings.Cut(rest, "}}")
		if !closed {
			out.WriteString("{{" + rest)
			return out.String(), nil
		}
		name = strings.TrimSpace(name)
		i := slices.Index(columns, name)
		if i < 0 || i >= len(row) {
			return "", unknownColumn{key: key, name: name, columns: columns}
		}
		value := row[i]
		if escape != nil {
			value = escape(value)
		}
		out.WriteString(value)
		text = after
	}
}
