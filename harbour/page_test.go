package harbour

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
)

// sink takes in the spans that a tracer sends.
type sink struct {
	*httptest.Server
	mu    sync.Mutex
	spans []traced
}

func newSink(t *testing.T) *sink {
	t.Helper()
	s := &sink{}
	s.Server = httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var sent struct {
			ResourceSpans []struct {
				ScopeSpans []struct{ Spans []traced }
			}
		}
		if err := json.NewDecoder(r.Body).Decode(&sent); err != nil || r.URL.Path != "/v1/traces" {
			t.Errorf("%s: %v", r.URL, err)
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		for _, resource := range sent.ResourceSpans {
			for _, scope := range resource.ScopeSpans {
				s.spans = append(s.spans, scope.Spans...)
			}
		}
	}))
	t.Cleanup(s.Close)
	return s
}

// open starts a harbour whose spans go to the sink; stop ends it, when all have been sent.
func (s *sink) open(t *testing.T) (url string, stop func()) {
	t.Helper()
	t.Setenv("OTEL_EXPORTER_OTLP_ENDPOINT", s.URL)
	service, err := Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		service.Serve(t.Context())
	}()
	return service.URL(), func() {
		service.server.Close()
		<-done
	}
}

func get(t *testing.T, url string, headers ...string) string {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, url, nil)
	if err != nil {
		t.Fatal(err)
	}
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	var out strings.Builder
	answer.Write(&out)
	head, body, _ := strings.Cut(out.String(), "\r\n\r\n")
	return head[len("HTTP/1.1 "):len("HTTP/1.1 ")+3] + " " + strings.TrimSpace(body)
}

// A page is the same in whatever way it is made, and so are its parts; what is sampled alone is told of, step by step.
func TestAPageAndWhatItTells(t *testing.T) {
	s := newSink(t)
	url, stop := s.open(t)
	whole := get(t, url+"/page?id=7")
	if !strings.HasPrefix(whole, `200 {"vessel":{"id":7,"name":"Lady Petrel 1"`) {
		t.Fatalf("%s", whole)
	}
	if other := get(t, url+"/page?id=7", "X-Page", "at-once"); other != whole {
		t.Errorf("at once %s; in turn %s", other, whole)
	}
	var parts page
	json.Unmarshal([]byte(whole[4:]), &parts)
	for part, id := range map[string]int{"vessel": 7, "berth": parts.Vessel.Berth, "tide": parts.Vessel.Tide} {
		text := get(t, fmt.Sprintf("%s/page/%s?id=%d", url, part, id))
		if !strings.Contains(whole, strings.TrimPrefix(text, "200 ")) || !strings.HasPrefix(text, "200") {
			t.Errorf("%s: %s is not in %s", part, text, whole)
		}
	}
	for _, odd := range []string{"/page", "/page?id=x", "/page?id=9999", "/page/crew?id=7", "/page/berth?id=0",
		"/page?id=-1"} {
		if text := get(t, url+odd); !strings.HasPrefix(text, "4") {
			t.Errorf("%s answers %s", odd, text)
		}
	}
	const trace = "0123456789abcdef0123456789abcdef"
	for i, way := range []string{"in-turn", "at-once"} {
		get(t, url+"/page?id=7", "X-Page", way, "Traceparent", fmt.Sprintf("00-%s-000000000000000%d-01", trace, i+1))
		get(t, url+"/page?id=7", "X-Page", way, "Traceparent", "00-"+trace+"-0000000000000009-00") // not sampled
	}
	get(t, url+"/berths?tide="+TideName(0), "Traceparent", "00-"+trace+"-0000000000000003-01")
	stop()
	names := map[string]map[string]int{} // by the request's parent
	byID := map[string]traced{}
	for _, sp := range s.spans {
		byID[sp.ID] = sp
	}
	for _, sp := range s.spans {
		top := sp
		for byID[top.Parent].ID != "" {
			top = byID[top.Parent]
		}
		if names[top.Parent] == nil {
			names[top.Parent] = map[string]int{}
		}
		names[top.Parent][sp.Name]++
		if sp.Trace != trace || sp.End < sp.Begin {
			t.Errorf("%+v", sp)
		}
	}
	const inTurn, atOnce, board = "0000000000000001", "0000000000000002", "0000000000000003"
	if len(names) != 3 || names[inTurn]["look up berth"] != 1 || names[inTurn]["select its rank"] != 3 ||
		names[atOnce]["look up tide"] != 1 || names[board]["select vessel"] < callsMin ||
		names[board]["select pilot"] != names[board]["select vessel"] {
		t.Errorf("%v", names)
	}
}

// The front page and its parts are kept as they say.
func TestTheFrontPage(t *testing.T) {
	service, err := Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go service.server.Serve(service.listener)
	t.Cleanup(func() { service.server.Close() })
	for _, tt := range []struct{ part, keep, header string }{
		{"", "nothing", "no-store"}, {"/style", "nothing", "no-store"}, {"", "validated", "no-cache"},
		{"/chart", "validated", "no-cache"}, {"", "named", "no-cache"}, {"/news", "named", "no-cache"},
		{"/style", "named", "max-age=31536000, immutable"}, {"/board", "named", "max-age=31536000, immutable"},
	} {
		url := service.URL() + "/front" + tt.part + "?keep=" + tt.keep
		answer, err := http.Get(url)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		tag := answer.Header.Get("Etag")
		if answer.StatusCode != 200 || answer.Header.Get("Cache-Control") != tt.header ||
			(tag == "") != (tt.keep == "nothing") {
			t.Errorf("%s: %d, %s, tag %s", url, answer.StatusCode, answer.Header.Get("Cache-Control"), tag)
		}
		if again := get(t, url, "If-None-Match", tag); strings.HasPrefix(again, "304") != (tt.header == "no-cache") {
			t.Errorf("%s with its tag: %.20s", url, again)
		}
	}
	for _, odd := range []string{"/front/crew", "/front?keep=all"} {
		if text := get(t, service.URL()+odd); !strings.HasPrefix(text, "4") {
			t.Errorf("%s answers %.20s", odd, text)
		}
	}
}

// Look-ups at once overlap, and those in turn do not.
func TestLookUpsWaitOrDoNot(t *testing.T) {
	s := newSink(t)
	url, stop := s.open(t)
	const trace = "0123456789abcdef0123456789abcdef"
	for i, way := range []string{"in-turn", "at-once"} {
		get(t, url+"/page?id=7", "X-Page", way, "Traceparent", fmt.Sprintf("00-%s-000000000000000%d-01", trace, i+1))
	}
	stop()
	var pages []traced
	for _, sp := range s.spans {
		if sp.Name == "GET /page" {
			pages = append(pages, sp)
		}
	}
	if len(pages) != 2 {
		t.Fatalf("%d pages", len(pages))
	}
	for i, pg := range pages {
		var ups []traced
		for _, sp := range s.spans {
			if sp.Parent == pg.ID && strings.HasPrefix(sp.Name, "look up") {
				ups = append(ups, sp)
			}
		}
		slices.SortFunc(ups, func(a, b traced) int { return strings.Compare(a.Begin, b.Begin) })
		overlap := false
		for j := 1; j < len(ups); j++ {
			overlap = overlap || ups[j].Begin < ups[j-1].End
		}
		if len(ups) != 3 || overlap != (i == 1) {
			t.Errorf("page %d: %d look-ups, overlapping: %v", i, len(ups), overlap)
		}
	}
	if (*tracer)(nil).close(); newTracer() == nil {
		t.Error("an endpoint, and no tracer")
	}
}
