// Package cache is a private HTTP cache (RFC 9111) in memory, as a browser has one: what a client of a duel keeps from
// visit to visit.
//
// It stores what may be stored of GET requests, answers from that while it is fresh, asks with validators when it is
// not, and forgets what an unsafe request has changed. It does not store parts of answers (206), warns of nothing, and
// serves nothing stale. It may be used by several goroutines.
package cache

import (
	"bytes"
	"io"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// MaxBytes is how much a cache holds; what does not fit is not stored.
const MaxBytes = 64 << 20

// Outcome is how an answer came about.
type Outcome int

// The outcomes.
const (
	Fetched     Outcome = iota // from the server, whole
	Fresh                      // from the cache, without asking
	Revalidated                // from the cache, after the server said that it still holds
)

// Cache is a private cache.
type Cache struct {
	mu    sync.Mutex
	now   func() time.Time
	kept  map[string][]*stored // variants by address
	bytes int
}

// New makes an empty cache that takes the time from now.
func New(now func() time.Time) *Cache { return &Cache{now: now, kept: map[string][]*stored{}} }

// Clear empties it.
func (c *Cache) Clear() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.kept, c.bytes = map[string][]*stored{}, 0
}

// stored is one answer.
type stored struct {
	status int
	proto  string
	header http.Header
	body   []byte
	vary   http.Header // what the request had of the fields that the answer varies by
	asked  time.Time   // when it was asked for, and came
	came   time.Time
}

// Do answers a request from the cache, or by send. The body of an answer that is fetched is stored when it has been
// read to its end. The request is not changed.
func (c *Cache) Do(r *http.Request, send func(*http.Request) (*http.Response, error)) (*http.Response, Outcome, error) {
	key := r.URL.String()
	if r.Method != http.MethodGet {
		answer, err := send(r)
		if err == nil && !safe(r.Method) && answer.StatusCode < http.StatusBadRequest {
			c.forget(key) // RFC 9111, 4.4
		}
		return answer, Fetched, err
	}
	asks := directives(r.Header)
	held := c.find(key, r)
	_, again := asks["no-cache"]
	ask := r
	if held != nil {
		c.mu.Lock()
		if !again && c.fresh(held, asks) {
			defer c.mu.Unlock()
			return held.answer(r, c.age(held)), Fresh, nil
		}
		ask = conditional(r, held)
		c.mu.Unlock()
	}
	asked := c.now()
	answer, err := send(ask)
	if err != nil {
		return nil, Fetched, err
	}
	if answer.StatusCode == http.StatusNotModified && held != nil && ask != r {
		io.Copy(io.Discard, answer.Body)
		answer.Body.Close()
		c.mu.Lock()
		defer c.mu.Unlock()
		held.refresh(answer.Header, asked, c.now())
		return held.answer(r, 0), Revalidated, nil
	}
	if _, none := asks["no-store"]; !none && storable(answer) {
		c.keepWhenRead(key, r, answer, asked)
	}
	return answer, Fetched, nil
}

func safe(method string) bool {
	return method == http.MethodGet || method == http.MethodHead || method == http.MethodOptions ||
		method == http.MethodTrace
}

// find is the stored answer that fits a request; nil where there is none.
func (c *Cache) find(key string, r *http.Request) *stored {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, s := range c.kept[key] {
		if s.fits(r) {
			return s
		}
	}
	return nil
}

func (c *Cache) forget(key string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, s := range c.kept[key] {
		c.bytes -= len(s.body)
	}
	delete(c.kept, key)
}

// fits reports whether a request has the same of all fields that the answer varies by (RFC 9111, 4.1).
func (s *stored) fits(r *http.Request) bool {
	for name, had := range s.vary {
		if !slices.Equal(r.Header[name], had) {
			return false
		}
	}
	return true
}

// directives are those of Cache-Control, in lower case, with their values; of one that stands twice the first.
func directives(h http.Header) map[string]string {
	out := map[string]string{}
	for _, line := range h["Cache-Control"] {
		for line != "" {
			var one string
			one, line = cutDirective(line)
			name, value, _ := strings.Cut(one, "=")
			name = strings.ToLower(strings.TrimSpace(name))
			if _, twice := out[name]; name != "" && !twice {
				out[name] = strings.Trim(strings.TrimSpace(value), `"`)
			}
		}
	}
	return out
}

// cutDirective cuts at the first comma that stands in no quotes.
func cutDirective(line string) (one, rest string) {
	quoted := false
	for i := range len(line) {
		switch line[i] {
		case '"':
			quoted = !quoted
		case ',':
			if !quoted {
				return line[:i], line[i+1:]
			}
		}
	}
	return line, ""
}

// seconds is a number of seconds; ok is false for anything else, which counts as none at all (RFC 9111, 1.2.2).
func seconds(text string) (time.Duration, bool) {
	n, err := strconv.ParseInt(text, 10, 64)
	const most = 1 << 31
	return time.Duration(min(n, most)) * time.Second, err == nil && n >= 0
}

// storable reports whether an answer may be stored (RFC 9111, 3), as far as this cache stores such.
func storable(answer *http.Response) bool {
	switch answer.StatusCode {
	case 200, 203, 204, 300, 301, 308, 404, 405, 410, 414, 501:
	default:
		return false
	}
	says := directives(answer.Header)
	if _, none := says["no-store"]; none || slices.Contains(fields(answer.Header, "Vary"), "*") {
		return false
	}
	return lasts(answer.Header, answer.StatusCode) > 0 || answer.Header.Get("Etag") != "" ||
		answer.Header.Get("Last-Modified") != ""
}

// fields are the names in a list of them, in canonical form.
func fields(h http.Header, name string) (out []string) {
	for _, line := range h[name] {
		for one := range strings.SplitSeq(line, ",") {
			if one = strings.TrimSpace(one); one != "" {
				out = append(out, http.CanonicalHeaderKey(one))
			}
		}
	}
	return out
}

// lasts is for how long an answer is fresh after it was made (RFC 9111, 4.2.1); without a word of it a tenth of its age
// when it came, as 4.2.2 has it.
func lasts(h http.Header, status int) time.Duration {
	says := directives(h)
	if text, ok := says["max-age"]; ok {
		d, good := seconds(text)
		if !good {
			return 0
		}
		return d
	}
	made, err := http.ParseTime(h.Get("Date"))
	if text := h.Get("Expires"); text != "" {
		until, bad := http.ParseTime(text)
		if bad != nil || err != nil {
			return 0
		}
		return max(until.Sub(made), 0)
	}
	changed, unknown := http.ParseTime(h.Get("Last-Modified"))
	if unknown != nil || err != nil || status != http.StatusOK {
		return 0
	}
	const share = 10
	return max(made.Sub(changed)/share, 0)
}

// age is how old a stored answer is (RFC 9111, 4.2.3).
func (c *Cache) age(s *stored) time.Duration {
	apparent := time.Duration(0)
	if made, err := http.ParseTime(s.header.Get("Date")); err == nil {
		apparent = max(s.came.Sub(made), 0)
	}
	told, _ := seconds(s.header.Get("Age"))
	initial := max(apparent, told+s.came.Sub(s.asked))
	return initial + c.now().Sub(s.came)
}

// fresh reports whether a stored answer may be used without asking. It is called with the lock held.
func (c *Cache) fresh(s *stored, asks map[string]string) bool {
	if _, always := directives(s.header)["no-cache"]; always {
		return false
	}
	age, left := c.age(s), lasts(s.header, s.status)
	if most, ok := seconds(asks["max-age"]); ok {
		left = min(left, most)
	}
	if least, ok := seconds(asks["min-fresh"]); ok {
		age += least
	}
	return age < left
}

// conditional is a request that asks whether what is held still holds; the request itself where nothing tells.
func conditional(r *http.Request, s *stored) *http.Request {
	tag, changed := s.header.Get("Etag"), s.header.Get("Last-Modified")
	if tag == "" && changed == "" || r.Header.Get("If-None-Match") != "" || r.Header.Get("If-Modified-Since") != "" {
		return r
	}
	ask := r.Clone(r.Context())
	if ask.Header == nil {
		ask.Header = http.Header{}
	}
	if tag != "" {
		ask.Header.Set("If-None-Match", tag)
	}
	if changed != "" {
		ask.Header.Set("If-Modified-Since", changed)
	}
	return ask
}

// refresh takes over what the server said when it said that an answer still holds (RFC 9111, 3.2). The header is
// replaced, since answers that were given out have the old one.
func (s *stored) refresh(h http.Header, asked, came time.Time) {
	own := s.header.Clone()
	for name, values := range h {
		if name != "Content-Length" && name != "Content-Encoding" && name != "Content-Type" && name != "Content-Range" {
			own[name] = values
		}
	}
	s.header, s.asked, s.came = own, asked, came
}

// answer is what is held as an answer to a request.
func (s *stored) answer(r *http.Request, age time.Duration) *http.Response {
	h := s.header.Clone()
	h.Set("Age", strconv.FormatInt(int64(age/time.Second), 10))
	return &http.Response{
		Status: strconv.Itoa(s.status) + " " + http.StatusText(s.status), StatusCode: s.status, Proto: s.proto, Header: h,
		Body: io.NopCloser(bytes.NewReader(s.body)), ContentLength: int64(len(s.body)), Request: r,
	}
}

// keepWhenRead has an answer stored when its body has been read to its end.
func (c *Cache) keepWhenRead(key string, r *http.Request, answer *http.Response, asked time.Time) {
	s := &stored{
		status: answer.StatusCode, proto: answer.Proto, header: answer.Header.Clone(), vary: http.Header{}, asked: asked,
		came: c.now(),
	}
	for _, name := range fields(answer.Header, "Vary") {
		s.vary[name] = slices.Clone(r.Header[name])
	}
	answer.Body = &keeping{ReadCloser: answer.Body, done: func(body []byte) {
		s.body = body
		c.mu.Lock()
		defer c.mu.Unlock()
		others := slices.DeleteFunc(c.kept[key], func(o *stored) bool {
			if same := maps.EqualFunc(o.vary, s.vary, slices.Equal); !same {
				return false
			}
			c.bytes -= len(o.body)
			return true
		})
		if c.bytes+len(body) <= MaxBytes {
			c.bytes += len(body)
			others = append(others, s)
		}
		c.kept[key] = others
	}}
}

// keeping is a body that is kept as it is read.
type keeping struct {
	io.ReadCloser
	body []byte
	done func([]byte)
}

func (k *keeping) Read(p []byte) (int, error) {
	n, err := k.ReadCloser.Read(p)
	if len(k.body)+n > MaxBytes {
		k.done = nil
	} else if k.done != nil {
		k.body = append(k.body, p[:n]...)
	}
	if err == io.EOF && k.done != nil {
		k.done(k.body)
		k.done = nil
	}
	return n, err
}
