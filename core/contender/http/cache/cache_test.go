package cache

import (
	"bytes"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"
)

// origin is a server that answers as it is told, on a clock of its own.
type origin struct {
	*Cache
	at     time.Time
	asked  []*http.Request
	answer func(r *http.Request) (status int, headers []string, body string)
}

func newOrigin(headers ...string) *origin {
	o := &origin{at: time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)}
	o.Cache = New(func() time.Time { return o.at })
	o.answer = func(*http.Request) (int, []string, string) { return 200, headers, "tide is in" }
	return o
}

func (o *origin) send(r *http.Request) (*http.Response, error) {
	o.asked = append(o.asked, r)
	status, headers, body := o.answer(r)
	h := http.Header{"Date": {o.at.Format(http.TimeFormat)}}
	for _, line := range headers {
		name, value, _ := strings.Cut(line, ": ")
		h.Add(name, value)
	}
	return &http.Response{StatusCode: status, Proto: "HTTP/1.1", Header: h, Body: io.NopCloser(strings.NewReader(body)),
		Request: r}, nil
}

// get asks once, and reads the answer to its end.
func (o *origin) get(t *testing.T, method string, headers ...string) (Outcome, string, http.Header) {
	t.Helper()
	r := &http.Request{Method: method, URL: &url.URL{Scheme: "http", Host: "harbour", Path: "/tide"},
		Header: http.Header{}}
	for _, line := range headers {
		name, value, _ := strings.Cut(line, ": ")
		r.Header.Add(name, value)
	}
	answer, how, err := o.Do(r, o.send)
	if err != nil {
		t.Fatal(err)
	}
	body, _ := io.ReadAll(answer.Body)
	answer.Body.Close()
	return how, string(body), answer.Header
}

func TestWhatIsFresh(t *testing.T) {
	const (
		fetched     = Fetched
		fresh       = Fresh
		revalidated = Revalidated
	)
	for _, tt := range []struct {
		name    string
		headers []string // of the answer
		after   time.Duration
		ask     []string
		want    Outcome
	}{
		{"max-age", []string{"Cache-Control: max-age=60"}, 59 * time.Second, nil, fresh},
		{"max-age is over", []string{"Cache-Control: max-age=60"}, 60 * time.Second, nil, fetched},
		{"immutable", []string{"Cache-Control: public, max-age=31536000, immutable"}, 300 * 24 * time.Hour, nil, fresh},
		{"private", []string{"Cache-Control: private, max-age=60"}, time.Second, nil, fresh},
		{"s-maxage is for shared ones", []string{"Cache-Control: s-maxage=60"}, time.Second, nil, fetched},
		{"no-store", []string{"Cache-Control: no-store, max-age=60"}, time.Second, nil, fetched},
		{"no-cache with a tag", []string{"Cache-Control: no-cache, max-age=60", `Etag: "7"`}, time.Second, nil, revalidated},
		{"over, with a tag", []string{"Cache-Control: max-age=1", `Etag: "7"`}, time.Hour, nil, revalidated},
		{"over, with a date", []string{"Cache-Control: max-age=1", "Last-Modified: Thu, 26 Nov 2026 12:00:00 GMT"},
			time.Hour, nil, revalidated},
		{"Expires", []string{"Expires: Fri, 27 Nov 2026 13:00:00 GMT"}, 59 * time.Minute, nil, fresh},
		{"Expires is over", []string{"Expires: Fri, 27 Nov 2026 13:00:00 GMT"}, 61 * time.Minute, nil, fetched},
		{"Expires is nonsense", []string{"Expires: 0", `Etag: "7"`}, 0, nil, revalidated},
		{"max-age before Expires", []string{"Cache-Control: max-age=1", "Expires: Fri, 27 Nov 2026 13:00:00 GMT"},
			time.Minute, nil, fetched},
		{"nothing said", nil, 0, nil, fetched},
		{"a tenth of its age", []string{"Last-Modified: Thu, 26 Nov 2026 12:00:00 GMT"}, 2 * time.Hour, nil, fresh},
		{"more than a tenth", []string{"Last-Modified: Thu, 26 Nov 2026 12:00:00 GMT"}, 3 * time.Hour, nil, revalidated},
		{"its age when it came", []string{"Cache-Control: max-age=60", "Age: 50"}, 11 * time.Second, nil, fetched},
		{"asked anew", []string{"Cache-Control: max-age=60"}, 0, []string{"Cache-Control: no-cache"}, fetched},
		{"asked for younger", []string{"Cache-Control: max-age=60"}, 10 * time.Second,
			[]string{"Cache-Control: max-age=5"}, fetched},
		{"to last longer", []string{"Cache-Control: max-age=60"}, 50 * time.Second,
			[]string{"Cache-Control: min-fresh=20"}, fetched},
		{"a bad number", []string{"Cache-Control: max-age=soon", `Etag: "7"`}, 0, nil, revalidated},
		{"a quoted comma", []string{`Cache-Control: ext="a, no-store", max-age=60`}, time.Second, nil, fresh},
		{"the first of two", []string{"Cache-Control: max-age=60, max-age=1"}, 30 * time.Second, nil, fresh},
	} {
		o := newOrigin(tt.headers...)
		first, _, _ := o.get(t, "GET")
		o.at = o.at.Add(tt.after)
		ask := o.answer
		o.answer = func(r *http.Request) (int, []string, string) {
			if r.Header.Get("If-None-Match") != "" || r.Header.Get("If-Modified-Since") != "" {
				return 304, nil, ""
			}
			return ask(r)
		}
		how, body, _ := o.get(t, "GET", tt.ask...)
		if first != Fetched || how != tt.want || body != "tide is in" {
			t.Errorf("%s: outcome %d, %q; want %d", tt.name, how, body, tt.want)
		}
	}
}

// What a server says when it says that an answer still holds is taken over, and answers that were given out stay.
func TestRevalidated(t *testing.T) {
	o := newOrigin("Cache-Control: max-age=1", `Etag: "7"`, "Content-Type: text/plain")
	_, _, old := o.get(t, "GET")
	o.at = o.at.Add(time.Minute)
	o.answer = func(*http.Request) (int, []string, string) {
		return 304, []string{"Cache-Control: max-age=60", `Etag: "7"`, "Content-Type: nonsense"}, ""
	}
	o.get(t, "GET")
	o.at = o.at.Add(30 * time.Second)
	how, body, h := o.get(t, "GET")
	if how != Fresh || body != "tide is in" || h.Get("Age") != "30" || h.Get("Content-Type") != "text/plain" ||
		old.Get("Cache-Control") != "max-age=1" || len(o.asked) != 2 || o.asked[1].Header.Get("If-None-Match") != `"7"` {
		t.Errorf("%d %q %v, asked %d times", how, body, h, len(o.asked))
	}
	o.at = o.at.Add(time.Hour)
	o.answer = func(*http.Request) (int, []string, string) { return 200, []string{`Etag: "8"`}, "tide is out" }
	if how, body, _ := o.get(t, "GET"); how != Fetched || body != "tide is out" {
		t.Errorf("%d %q after it changed", how, body)
	}
}

// Variants of an answer stand beside each other, and "*" fits nothing.
func TestVary(t *testing.T) {
	o := newOrigin("Cache-Control: max-age=60", "Vary: accept-language, Accept-Encoding")
	o.answer = func(r *http.Request) (int, []string, string) {
		return 200, []string{"Cache-Control: max-age=60", "Vary: accept-language, Accept-Encoding"},
			r.Header.Get("Accept-Language")
	}
	for _, step := range []struct {
		language string
		want     Outcome
	}{{"nn", Fetched}, {"gd", Fetched}, {"nn", Fresh}, {"gd", Fresh}, {"", Fetched}, {"", Fresh}} {
		var headers []string
		if step.language != "" {
			headers = []string{"Accept-Language: " + step.language}
		}
		if how, body, _ := o.get(t, "GET", headers...); how != step.want || body != step.language {
			t.Errorf("%q: %d %q; want %d", step.language, how, body, step.want)
		}
	}
	all := newOrigin("Cache-Control: max-age=60", "Vary: *")
	all.get(t, "GET")
	if how, _, _ := all.get(t, "GET"); how != Fetched {
		t.Errorf("%d although it varies by everything", how)
	}
}

// What may change something is never answered from the cache, and forgets what it may have changed.
func TestUnsafeRequests(t *testing.T) {
	o := newOrigin("Cache-Control: max-age=60")
	o.get(t, "GET")
	if how, _, _ := o.get(t, "HEAD"); how != Fetched {
		t.Error("a HEAD was answered from the cache")
	}
	if how, _, _ := o.get(t, "GET"); how != Fresh {
		t.Error("a HEAD forgot what was stored")
	}
	o.get(t, "POST")
	if how, _, _ := o.get(t, "GET"); how != Fetched {
		t.Error("what a POST may have changed is still there")
	}
	o.Clear()
	if how, _, _ := o.get(t, "GET"); how != Fetched {
		t.Error("an empty cache answers")
	}
}

// An answer that was not read to its end, that failed, or that finds no room is not stored.
func TestWhatIsNotStored(t *testing.T) {
	o := newOrigin("Cache-Control: max-age=60")
	r := &http.Request{Method: "GET", URL: &url.URL{Path: "/tide"}, Header: http.Header{}}
	answer, _, _ := o.Do(r, o.send)
	answer.Body.Close()
	if len(o.kept) != 0 {
		t.Error("half an answer was stored")
	}
	o.answer = func(*http.Request) (int, []string, string) { return 500, []string{"Cache-Control: max-age=60"}, "gone" }
	o.get(t, "GET")
	if how, _, _ := o.get(t, "GET"); how != Fetched {
		t.Error("a failure was stored")
	}
	large := string(bytes.Repeat([]byte("x"), MaxBytes+1))
	o.answer = func(*http.Request) (int, []string, string) { return 200, []string{"Cache-Control: max-age=60"}, large }
	o.get(t, "GET")
	if how, _, _ := o.get(t, "GET"); how != Fetched || o.bytes != 0 {
		t.Errorf("%d bytes are held", o.bytes)
	}
}

func TestSideBySide(t *testing.T) {
	o := newOrigin()
	var mu sync.Mutex
	send := func(r *http.Request) (*http.Response, error) {
		mu.Lock()
		defer mu.Unlock()
		h := http.Header{"Cache-Control": {"max-age=0"}, "Etag": {`"7"`}, "Date": {o.at.Format(http.TimeFormat)}}
		status := 200
		if r.Header.Get("If-None-Match") != "" {
			status = 304
		}
		return &http.Response{StatusCode: status, Header: h, Body: io.NopCloser(strings.NewReader("tide"))}, nil
	}
	var work sync.WaitGroup
	for range 8 {
		work.Go(func() {
			for range 200 {
				r := &http.Request{Method: "GET", URL: &url.URL{Path: "/tide"}, Header: http.Header{}}
				answer, _, err := o.Do(r, send)
				if err != nil {
					t.Error(err)
					return
				}
				if body, _ := io.ReadAll(answer.Body); string(body) != "tide" {
					t.Errorf("%q", body)
				}
			}
		})
	}
	work.Wait()
}

func FuzzDirectives(f *testing.F) {
	f.Add(`max-age=60, no-store, x="a,b"`)
	f.Fuzz(func(t *testing.T, line string) {
		for name := range directives(http.Header{"Cache-Control": {line}}) {
			if name == "" || name != strings.ToLower(name) {
				t.Fatalf("%q", name)
			}
		}
	})
}
