package http

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"encoding/csv"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/textproto"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"paceduel/core/files"
	"paceduel/core/guard"
	"paceduel/core/plan"
)

// maxRowBytes bounds a file of rows.
const maxRowBytes = 256 << 20

// table is a CSV file in memory.
type table struct {
	columns []string
	rows    [][]string
}

func (s *Settings) readRows(dir string) (table, error) {
	if s.Rows == "" {
		return table{rows: [][]string{nil}}, nil
	}
	path := within(dir, s.Rows)
	f, err := files.Open(path, maxRowBytes)
	if err != nil {
		return table{}, err
	}
	defer f.Close()
	return readTable(path, f)
}

// within is a path that starts from dir unless it is absolute.
func within(dir, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(dir, path)
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

// maxBodies bounds what the bodies of all rows take together.
const maxBodies = 256 << 20

// render makes one request for each row; files are looked for from dir, port is that of the contender's service.
func (s *Settings) render(t table, dir, port string) ([]request, error) {
	out := make([]request, 0, len(t.rows))
	contents, err := s.readFiles(dir)
	if err != nil {
		return nil, err
	}
	total := 0
	for _, row := range t.rows {
		fill := func(key, text string, escape func(string) string) (string, error) {
			return fillIn(key, strings.ReplaceAll(text, plan.PortMark, port), t.columns, row, escape)
		}
		address, err := fill("url", s.URL, url.QueryEscape)
		if err != nil {
			return nil, err
		}
		u, err := guard.ParseURL(address)
		if err != nil {
			return nil, err
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
		if err := s.fillBody(&r, contents, fill); err != nil {
			return nil, err
		}
		if total += len(r.body); s.BodyFile == "" && total > maxBodies {
			return nil, fmt.Errorf("the bodies of all rows come to more than %d MiB", maxBodies>>20)
		}
		if a := s.Auth; a != nil && r.headers["Authorization"] == nil {
			text := "Bearer " + string(a.Bearer)
			if a.User != "" {
				text = "Basic " + base64.StdEncoding.EncodeToString([]byte(a.User+":"+string(a.Password)))
			}
			r.headers["Authorization"] = []string{text}
		}
		out = append(out, r)
	}
	return out, nil
}

// readFiles reads the files that bodies are made of, by the name that the settings give them.
func (s *Settings) readFiles(dir string) (map[string][]byte, error) {
	names := []string{s.BodyFile}
	for _, p := range s.Parts {
		names = append(names, p.File)
	}
	contents := map[string][]byte{}
	for _, name := range names {
		if name == "" {
			continue
		}
		var err error
		if contents[name], err = files.Read(within(dir, name), maxBodies); err != nil {
			return nil, fmt.Errorf("read what is to be sent: %w", err)
		}
	}
	return contents, nil
}

// fillBody gives a request its body.
func (s *Settings) fillBody(r *request, contents map[string][]byte, fill func(key, text string, escape func(string) string) (string, error)) error {
	switch {
	case s.BodyFile != "":
		r.body = contents[s.BodyFile]
		return nil
	case len(s.Parts) == 0:
		body, err := fill("body", s.Body, nil)
		r.body = []byte(body)
		return err
	}
	var body bytes.Buffer
	out := multipart.NewWriter(&body)
	if err := out.SetBoundary(boundary); err != nil {
		return err
	}
	for i, p := range s.Parts {
		head := textproto.MIMEHeader{}
		content := contents[p.File]
		if p.File != "" {
			head.Set("Content-Disposition", multipart.FileContentDisposition(p.Name, filepath.Base(p.File)))
			head.Set("Content-Type", cmp.Or(p.Type, "application/octet-stream"))
		} else {
			text, err := fill(fmt.Sprintf("parts[%d].value", i), string(p.Value), nil)
			if err != nil {
				return err
			}
			content = []byte(text)
			head.Set("Content-Disposition", mime.FormatMediaType("form-data", map[string]string{"name": p.Name}))
			if p.Type != "" {
				head.Set("Content-Type", p.Type)
			}
		}
		if bytes.Contains(content, []byte("--"+boundary)) {
			return fmt.Errorf("part %s holds the line that parts are told apart by", p.Name)
		}
		w, err := out.CreatePart(head)
		if err != nil {
			return fmt.Errorf("write part %s: %w", p.Name, err)
		}
		w.Write(content) // to memory
	}
	if err := out.Close(); err != nil {
		return err
	}
	r.body = body.Bytes()
	r.headers["Content-Type"] = []string{out.FormDataContentType()}
	return nil
}

// boundary stands between parts: the same in every request, so that all contenders send the same bytes.
const boundary = "paceduel-part-4b1f0c6e9d27a853"

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
