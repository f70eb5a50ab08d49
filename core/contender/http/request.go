package http

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"fmt"
	"mime"
	"mime/multipart"
	"net/textproto"
	"net/url"
	"path/filepath"
	"strings"

	"paceduel/core/files"
	"paceduel/core/guard"
	"paceduel/core/plan"
	"paceduel/core/rows"
	"paceduel/core/shots"
)

// readRows reads the rows, as they are dealt.
func (s *Settings) readRows(dir string) (t rows.Table, sorts shots.Sorts, err error) {
	t = rows.None()
	if s.Rows != "" {
		t, err = rows.Open(within(dir, s.Rows))
	}
	if err != nil {
		return t, sorts, err
	}
	return s.Mix.Deal(t)
}

// within is a path that starts from dir unless it is absolute.
func within(dir, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(dir, path)
}

// request is one rendered request.
type request struct {
	url     *url.URL
	headers map[string][]string
	host    string // from a Host header; empty: that of the URL
	body    []byte
}

// anyPort stands for the port of a service while a plan is checked.
const anyPort = "1"

// maxBodies bounds what the bodies of all rows take together.
const maxBodies = 256 << 20

// render makes one request for each row; files are looked for from dir, port is that of the contender's service.
func (s *Settings) render(t rows.Table, dir, port string) ([]request, error) {
	out := make([]request, 0, len(t.Rows))
	contents, err := s.readFiles(dir)
	if err != nil {
		return nil, err
	}
	total := 0
	for i := range t.Rows {
		fill := func(key, text string, escape func(string) string) (string, error) {
			return t.Fill(key, strings.ReplaceAll(text, plan.PortMark, port), i, escape)
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
func (s *Settings) fillBody(
	r *request, contents map[string][]byte, fill func(key, text string, escape func(string) string) (string, error),
) error {
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
