package traces

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	common "go.opentelemetry.io/proto/otlp/common/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
	otlp "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"paceduel/core/clock"
	"paceduel/core/marks"
	"paceduel/core/plan"
	"paceduel/core/spans"
)

const ms = time.Millisecond

var prefix = Prefix{1, 2, 3, 4, 5, 6, 7, 8}

func listen(t *testing.T) *Receiver {
	t.Helper()
	r, err := Listen(clock.StartAt(time.Hour), "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	r.Expect(prefix)
	return r
}

// traceOf is the n-th trace, whose shot is known under shotID(n).
func traceOf(n byte) (id [16]byte) {
	copy(id[:], prefix[:])
	id[15] = n
	return id
}

// sent is a span as a service sends it: times in ms from the start of its shot, by a clock that may be off.
type sent struct {
	trace            [16]byte
	id, parent       byte
	name             string
	from, to         int
	process          string
	zero             int64 // civil time of the shot's start
	parentIsTheShots bool
}

func (s *sent) ids() (trace, id, parent []byte) {
	p := make([]byte, 8)
	switch {
	case s.parentIsTheShots:
		copy(p, s.trace[8:])
	case s.parent == 0:
		p = nil
	default:
		p[0], p[7] = 0xaa, s.parent
	}
	return s.trace[:], []byte{0xaa, 0, 0, 0, 0, 0, 0, s.id}, p
}

func (s *sent) times() (begin, end uint64) {
	return uint64(s.zero + int64(s.from)*int64(ms)), uint64(s.zero + int64(s.to)*int64(ms))
}

// asProto is a request of protobuf with these spans.
func asProto(t testing.TB, all ...sent) []byte {
	t.Helper()
	var out otlp.TracesData
	for _, s := range all {
		trace, id, parent := s.ids()
		begin, end := s.times()
		out.ResourceSpans = append(out.ResourceSpans, &otlp.ResourceSpans{
			Resource: &resource.Resource{Attributes: []*common.KeyValue{
				{Key: "service.name", Value: &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: s.process}}},
				{Key: "process.pid", Value: &common.AnyValue{Value: &common.AnyValue_IntValue{IntValue: 7}}},
				{Key: "telemetry.sdk.language", Value: &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: "x"}}},
			}},
			ScopeSpans: []*otlp.ScopeSpans{{Spans: []*otlp.Span{{
				TraceId: trace, SpanId: id, ParentSpanId: parent, Name: s.name, StartTimeUnixNano: begin, EndTimeUnixNano: end,
			}}}},
		})
	}
	text, err := proto.Marshal(&out)
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// asJSON is the same in JSON, as services write it.
func asJSON(t testing.TB, all ...sent) []byte {
	t.Helper()
	var list []any
	for _, s := range all {
		trace, id, parent := s.ids()
		begin, end := s.times()
		one := map[string]any{
			"traceId": hex.EncodeToString(trace), "spanId": hex.EncodeToString(id), "name": s.name, "kind": 2,
			"startTimeUnixNano": fmt.Sprint(begin), "endTimeUnixNano": end, "attributes": []any{}, "status": map[string]any{},
		}
		if parent != nil {
			one["parentSpanId"] = hex.EncodeToString(parent)
		}
		list = append(list, map[string]any{
			"resource": map[string]any{"attributes": []any{
				map[string]any{"key": "service.name", "value": map[string]any{"stringValue": s.process}},
				map[string]any{"key": "process.pid", "value": map[string]any{"intValue": "7"}},
			}},
			"scopeSpans": []any{map[string]any{"scope": map[string]any{"name": "x"}, "spans": []any{one}}},
		})
	}
	text, err := json.Marshal(map[string]any{"resourceSpans": list})
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// post sends a request and returns the status.
func post(t *testing.T, r *Receiver, path, kind string, body io.Reader, headers ...string) int {
	t.Helper()
	req, err := http.NewRequest(http.MethodPost, r.Endpoint()+path, body)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Content-Type", kind)
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	answer, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	text, _ := io.ReadAll(answer.Body)
	if answer.StatusCode == 200 && kind == "application/json" && string(text) != "{}" || answer.StatusCode == 200 &&
		answer.Header.Get("Content-Type") != kind {
		t.Errorf("answered %q as %s", text, answer.Header.Get("Content-Type"))
	}
	return answer.StatusCode
}

// shotAt is a shot of the n-th trace that began at a moment of the run and took so many ms.
func shotAt(n byte, start time.Duration, took int) Shot {
	long := time.Duration(took) * ms
	return Shot{Trace: traceOf(n), Start: start, End: start + long, Length: long}
}

// inWords is each span with its place, in ms.
func inWords(s *spans.Shot) string {
	var out []string
	for _, sp := range s.Spans {
		parent := "-"
		if sp.Parent != spans.None {
			parent = s.Spans[sp.Parent].Name
		}
		round := func(d time.Duration) int { return int((d + ms/2) / ms) }
		out = append(out, fmt.Sprintf("%s %d-%d in %s", sp.Name, round(sp.Begin), round(sp.End), parent))
	}
	return strings.Join(out, ", ")
}

// civil is the civil time of a moment of the run.
func civil(r *Receiver, at time.Duration) int64 {
	return time.Now().UnixNano() + int64(at-r.clock.Now())
}

// In every form that services send, a shot gets its spans, in their places.
func TestSpansComeInEveryForm(t *testing.T) {
	for name, send := range map[string]func(*testing.T, *Receiver, []sent) int{
		"protobuf": func(t *testing.T, r *Receiver, all []sent) int {
			return post(t, r, "/v1/traces", "application/x-protobuf", bytes.NewReader(asProto(t, all...)))
		},
		"JSON": func(t *testing.T, r *Receiver, all []sent) int {
			return post(t, r, "/v1/traces", "application/json", bytes.NewReader(asJSON(t, all...)))
		},
		"JSON in chunks, with a charset": func(t *testing.T, r *Receiver, all []sent) int {
			req, _ := http.NewRequest(http.MethodPost, r.Endpoint()+"/v1/traces", io.MultiReader(bytes.NewReader(asJSON(t,
				all...))))
			req.Header.Set("Content-Type", "application/json; charset=utf-8")
			answer, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			answer.Body.Close()
			return answer.StatusCode
		},
		"gzip": func(t *testing.T, r *Receiver, all []sent) int {
			var packed bytes.Buffer
			z := gzip.NewWriter(&packed)
			z.Write(asProto(t, all...))
			z.Close()
			return post(t, r, "/v1/traces", "application/x-protobuf", &packed, "Content-Encoding", "gzip")
		},
		"one by one": func(t *testing.T, r *Receiver, all []sent) (status int) {
			for _, s := range slices.Backward(all) {
				status = post(t, r, "/v1/traces", "application/json", bytes.NewReader(asJSON(t, s)))
			}
			return status
		},
	} {
		t.Run(name, func(t *testing.T) {
			r := listen(t)
			start := r.clock.Now()
			zero := civil(r, start)
			before := r.Counts()
			all := []sent{
				{trace: traceOf(1), id: 1, parentIsTheShots: true, name: "GET /board", from: 1, to: 39, process: "board",
					zero: zero},
				{trace: traceOf(1), id: 2, parent: 1, name: "select", from: 5, to: 15, process: "board", zero: zero},
				{trace: traceOf(1), id: 3, parent: 1, name: "select", from: 15, to: 25, process: "board", zero: zero},
				{trace: traceOf(1), id: 4, parent: 3, name: "row", from: 16, to: 20, process: "board", zero: zero},
				{trace: traceOf(2), id: 1, parentIsTheShots: true, name: "GET /tide", from: 51, to: 59, process: "board",
					zero: zero},
			}
			if status := send(t, r, all); status != 200 {
				t.Fatalf("status %d", status)
			}
			inside, report := r.Gather(prefix, []Shot{shotAt(1, start, 40), shotAt(2, start+50*ms, 10), shotAt(3, start, 9)},
				before)
			if len(inside) != 2 || report.Sampled != 3 || report.Lost != 1 || report.Spans != 5 || report.Shifted != 0 ||
				report.Orphans+report.Foreign+report.Broken+report.Late+report.Doubled+report.Dropped+report.Refused != 0 {
				t.Fatalf("%d shots, %+v", len(inside), report)
			}
			want := "GET /board 1-39 in -, select 5-15 in GET /board, select 15-25 in GET /board, row 16-20 in select"
			if got := inWords(&inside[0]); got != want {
				t.Errorf("%s; want %s", got, want)
			}
			if got := inWords(&inside[1]); got != "GET /tide 1-9 in -" {
				t.Errorf("%s", got)
			}
		})
	}
}

// What is late, lost, doubled, foreign, without a parent, in a circle or broken is counted, and does no harm.
func TestSpansOfNoUse(t *testing.T) {
	r := listen(t)
	start := r.clock.Now()
	zero := civil(r, start)
	good := sent{trace: traceOf(1), id: 1, parentIsTheShots: true, name: "page", from: 1, to: 9, process: "p", zero: zero}
	with := func(change func(*sent)) sent {
		s := good
		change(&s)
		return s
	}
	foreign := with(func(s *sent) { s.trace[0] = 99 })
	all := []sent{
		good, good, foreign,
		with(func(s *sent) { s.id, s.from, s.to = 2, 8, 3 }),                                           // backwards
		with(func(s *sent) { s.id, s.zero, s.from, s.to = 3, 0, 0, 0 }),                                // no time
		with(func(s *sent) { s.id, s.parent, s.parentIsTheShots, s.name = 4, 77, false, "orphan" }),    // unknown parent
		with(func(s *sent) { s.id, s.parent, s.parentIsTheShots, s.name = 5, 0, false, "no parent" }),  // none
		with(func(s *sent) { s.id, s.parent, s.parentIsTheShots, s.name = 6, 7, false, "circle" }),     // a circle
		with(func(s *sent) { s.id, s.parent, s.parentIsTheShots, s.name = 7, 6, false, "circle" }),     // its other half
		with(func(s *sent) { s.id, s.parent, s.parentIsTheShots, s.name = 8, 4, false, "of orphan" }),  // placed beneath it
		with(func(s *sent) { s.id, s.parent, s.parentIsTheShots, s.name = 9, 9, false, "of oneself" }), // its own parent
	}
	for _, as := range []struct {
		kind string
		text func(testing.TB, ...sent) []byte
	}{{"application/json", asJSON}, {"application/x-protobuf", asProto}} {
		before := r.Counts()
		if status := post(t, r, "/v1/traces", as.kind, bytes.NewReader(as.text(t, all...))); status != 200 {
			t.Fatalf("status %d", status)
		}
		inside, report := r.Gather(prefix, []Shot{shotAt(1, start, 10)}, before)
		want := "page 1-9 in -, orphan 1-9 in -, of orphan 1-9 in orphan, no parent 1-9 in -"
		if got := inWords(&inside[0]); got != want {
			t.Errorf("%s: %s; want %s", as.kind, got, want)
		}
		if report.Doubled != 1 || report.Foreign != 1 || report.Broken != 5 || report.Orphans != 2 || report.Lost != 0 {
			t.Errorf("%s: %+v", as.kind, report)
		}
		// What comes now is late, whether its shot was chosen or not; the next heat begins anew.
		before = r.Counts()
		post(t, r, "/v1/traces", as.kind, bytes.NewReader(as.text(t, with(func(s *sent) { s.id = 50 }))))
		if c := r.Counts().minus(before); c.Late != 1 || c.Spans != 0 {
			t.Errorf("%s: %+v", as.kind, c)
		}
		r.Gather(prefix, nil, before)
	}
}

// Requests that cannot be read are refused, whatever is sent, and the receiver goes on.
func TestRequestsThatCannotBeRead(t *testing.T) {
	r := listen(t)
	bomb := func() io.Reader {
		var packed bytes.Buffer
		z := gzip.NewWriter(&packed)
		z.Write(make([]byte, maxBody+1))
		z.Close()
		return &packed
	}
	for _, tt := range []struct {
		name, path, kind, coding string
		body                     io.Reader
		want                     int
	}{
		{"elsewhere", "/v1/other", "application/json", "", strings.NewReader("{}"), 404},
		{"another type", "/v1/traces", "text/plain", "", strings.NewReader("{}"), 415},
		{"another coding", "/v1/traces", "application/json", "br", strings.NewReader("{}"), 415},
		{"no gzip", "/v1/traces", "application/json", "gzip", strings.NewReader("{}"), 400},
		{"a bomb", "/v1/traces", "application/json", "gzip", bomb(), 413},
		{"too long", "/v1/traces", "application/json", "", bytes.NewReader(make([]byte, maxBody+1)), 413},
		{"metrics", "/v1/metrics", "application/json", "", strings.NewReader("{}"), 200},
		{"logs", "/v1/logs", "application/x-protobuf", "", strings.NewReader("x"), 200},
	} {
		if got := post(t, r, tt.path, tt.kind, tt.body, "Content-Encoding", tt.coding); got != tt.want {
			t.Errorf("%s: status %d; want %d", tt.name, got, tt.want)
		}
	}
	before := r.Counts()
	for _, text := range []string{"", "[]", "{", `{"resourceSpans":7}`, strings.Repeat("[", 100_000)} {
		post(t, r, "/v1/traces", "application/json", strings.NewReader(text))
	}
	post(t, r, "/v1/traces", "application/x-protobuf", strings.NewReader("\xff\xff\xff"))
	if c := r.Counts().minus(before); c.Refused != 6 || c.Spans != 0 {
		t.Errorf("%+v", c)
	}
	if _, err := Listen(r.clock, "0.0.0.0:0"); err == nil {
		t.Error("it listens for everybody")
	}
	if _, err := Listen(r.clock, strings.TrimPrefix(r.Endpoint(), "http://")); err == nil {
		t.Error("two listen on one address")
	}
}

// A process whose clock is off has its spans put where they can have been, all by the same length of time.
func TestClocksThatDiffer(t *testing.T) {
	r := listen(t)
	start := r.clock.Now()
	zero := civil(r, start)
	hour := int64(time.Hour)
	before := r.Counts()
	all := []sent{
		{trace: traceOf(1), id: 1, parentIsTheShots: true, name: "front", from: 2, to: 98, process: "front",
			zero: zero + hour},
		{trace: traceOf(1), id: 2, parent: 1, name: "ask", from: 10, to: 60, process: "front", zero: zero + hour},
		{trace: traceOf(1), id: 3, parent: 2, name: "back", from: 12, to: 52, process: "back", zero: zero - 2*hour},
		{trace: traceOf(1), id: 4, parent: 3, name: "select", from: 20, to: 30, process: "back", zero: zero - 2*hour},
	}
	post(t, r, "/v1/traces", "application/x-protobuf", bytes.NewReader(asProto(t, all...)))
	inside, report := r.Gather(prefix, []Shot{shotAt(1, start, 100)}, before)
	want := "front 2-98 in -, ask 10-60 in front, back 15-55 in ask, select 23-33 in back"
	if got := inWords(&inside[0]); got != want {
		t.Errorf("%s; want %s", got, want)
	}
	if report.Shifted < 110*time.Minute || report.Shifted > 130*time.Minute {
		t.Errorf("shifted by %s", report.Shifted)
	}
}

// Spans of each request of a shot stand within its leg, by the leg's own time.
func TestSpansOfLegs(t *testing.T) {
	r := listen(t)
	start := r.clock.Now()
	zero := civil(r, start)
	legs := []spans.Span{
		{Name: "vessel", End: 20 * ms, Parent: spans.None, ID: [8]byte{0xaa, 7: 100}, At: start},
		{Name: "berth", Begin: 20 * ms, End: 40 * ms, Parent: spans.None, ID: [8]byte{0xaa, 7: 101}, At: start + 25*ms,
			Needs: []int{0}},
	}
	before := r.Counts()
	post(t, r, "/v1/traces", "application/json", bytes.NewReader(asJSON(t,
		sent{trace: traceOf(1), id: 1, parent: 100, name: "GET /vessel", from: 1, to: 19, process: "p", zero: zero},
		sent{trace: traceOf(1), id: 2, parent: 101, name: "GET /berth", from: 26, to: 44, process: "p", zero: zero},
	)))
	inside, _ := r.Gather(prefix, []Shot{{
		Trace: traceOf(1), Start: start, End: start + 45*ms, Length: 40 * ms, Spans: legs, Known: true,
	}}, before)
	want := "vessel 0-20 in -, berth 20-40 in -, GET /vessel 1-19 in vessel, GET /berth 21-39 in berth"
	if got := inWords(&inside[0]); got != want || !inside[0].Known {
		t.Errorf("%s; want %s", got, want)
	}
}

// It is waited for spans until they came and none came for a while, not for ever, and not after an interrupt.
func TestWaitingForSpans(t *testing.T) {
	r := listen(t)
	r.quiet, r.longest = 100*ms, 300*ms
	zero := civil(r, r.clock.Now())
	one := sent{trace: traceOf(1), id: 1, parentIsTheShots: true, name: "page", from: 0, to: 1, process: "p", zero: zero}
	post(t, r, "/v1/traces", "application/json", bytes.NewReader(asJSON(t, one)))
	began := time.Now()
	if err := r.Settle(t.Context(), [][16]byte{traceOf(1)}); err != nil || time.Since(began) < r.quiet-lookEvery {
		t.Errorf("%v after %s", err, time.Since(began))
	}
	began = time.Now()
	if err := r.Settle(t.Context(), [][16]byte{traceOf(1), traceOf(2)}); err != nil ||
		time.Since(began) < r.longest-lookEvery {
		t.Errorf("%v after %s", err, time.Since(began))
	}
	if err := r.Settle(canceled(t), [][16]byte{traceOf(2)}); !errors.Is(err, canceled(t).Err()) {
		t.Errorf("after an interrupt: %v", err)
	}
}

// A million spans take bounded memory: what there is no room for is dropped and counted.
func TestAMillionSpans(t *testing.T) {
	if testing.Short() {
		t.Skip("it computes for long, and starts no goroutine that others do not")
	}
	r := listen(t)
	zero := civil(r, r.clock.Now())
	const each = 5_000
	sum := int64(0)
	for batch := range 1_000_000 / each {
		var out otlp.TracesData
		scope := &otlp.ScopeSpans{}
		for i := range each {
			trace := traceOf(byte(i))
			trace[14] = byte(i % 3)
			id := []byte{byte(batch), byte(batch >> 8), byte(i), byte(i >> 8), 1, 1, 1, 1}
			scope.Spans = append(scope.Spans, &otlp.Span{
				TraceId: trace[:], SpanId: id, Name: fmt.Sprint("span ", i*batch), StartTimeUnixNano: uint64(zero),
				EndTimeUnixNano: uint64(zero + 1),
			})
		}
		out.ResourceSpans = []*otlp.ResourceSpans{{ScopeSpans: []*otlp.ScopeSpans{scope}}}
		text, err := proto.Marshal(&out)
		if err != nil {
			t.Fatal(err)
		}
		r.mu.Lock()
		err = r.read(body{content: text})
		r.mu.Unlock()
		if err != nil {
			t.Fatal(err)
		}
		sum += each
	}
	c := r.Counts()
	if c.Spans+c.Dropped != sum || c.Spans != MaxSpans || len(r.names) > maxNames {
		t.Errorf("%+v, %d names", c, len(r.names))
	}
	r.takeOut(prefix, nil)
	if r.spans != 0 || len(r.kept) != 0 {
		t.Errorf("%d spans left", r.spans)
	}
}

func FuzzSpans(f *testing.F) {
	one := sent{trace: traceOf(1), id: 1, parentIsTheShots: true, name: "page", from: 0, to: 1, process: "p", zero: 1e18}
	f.Add(true, asJSON(f, one, one))
	f.Add(false, asProto(f, one, one))
	f.Add(true, []byte(`{"resourceSpans":[{"scopeSpans":[{"spans":[{"traceId":"00"}]}]}]}`))
	f.Add(true, []byte(`{"resourceSpans":[{"scopeSpans":[{"spans":[{"startTimeUnixNano":1e3}]}]}]}`))
	f.Fuzz(func(t *testing.T, isJSON bool, content []byte) {
		r := &Receiver{
			clock: clock.Start(), ours: map[Prefix]bool{prefix: true}, kept: map[[16]byte]*trace{},
			names:  map[string]string{},
			closed: map[[16]byte]bool{},
		}
		r.take(body{content, isJSON})
		shots := []Shot{shotAt(1, 0, 10)}
		inside, report := r.Gather(prefix, shots, Counts{})
		if int64(len(inside))+report.Lost != 1 {
			t.Fatalf("%d shots, %+v", len(inside), report)
		}
		for i := range inside {
			spans.Look(&inside[i])
		}
	})
}

func canceled(t *testing.T) context.Context {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	return ctx
}

// A service that sends nothing has its printed lines made spans, of the shots whose traces stand in them.
func TestSpansOutOfLines(t *testing.T) {
	r := listen(t)
	start := r.clock.Now()
	zero := civil(r, start)
	lines := r.LinesOf(marks.NewSteps(&plan.StepLines{
		Begin: `^(?P<time>\S+) \[(?P<key>\S+)\] begin (?P<step>.+)$`, End: `^(?P<time>\S+) \[(?P<key>\S+)\] end (?P<step>.+)$`,
	}))
	before := r.Counts()
	one := traceOf(1)
	at := func(ms int) int64 { return zero + int64(ms)*1e6 }
	printed := fmt.Sprintf("hello\n%d [%x] begin load\n%d [%x] end load\n%d [%x] begin render\n"+
		"%d [no-trace] begin x\n%d [no-trace] end x\n%d [%x] en",
		at(1), one, at(4), one, at(4), one, at(4), at(5), at(9), one)
	for _, part := range []string{printed[:50], printed[50:]} { // as it comes
		io.WriteString(lines, part)
	}
	if c := r.Counts().minus(before); c.Spans != 1 || c.Foreign != 1 {
		t.Errorf("%+v", c)
	}
	io.WriteString(lines, "d render\n")
	inside, report := r.Gather(prefix, []Shot{shotAt(1, start, 10)}, before)
	if got := inWords(&inside[0]); got != "load 1-4 in -, render 4-9 in -" || report.Orphans > 0 || report.Lost > 0 {
		t.Errorf("%s, %+v", got, report)
	}
	lines.Write(make([]byte, maxAside+1))
	if c := r.Counts().minus(before); c.Dropped != 1 {
		t.Errorf("%+v after more than there is room for", c)
	}
}

// A clock that tells the beginning of spans in whole milliseconds, as JavaScript's does, and their lengths exactly:
// what came one after another is put so, what was at once stays so.
func TestClocksOfMilliseconds(t *testing.T) {
	const us = 1_000
	base := int64(1_795_788_306_000) * 1e6
	zero := base + 300*us // of the shot
	p := frame{begin: 0, end: 7 * ms, process: ourselves}
	for _, tt := range []struct {
		name string
		sent [][2]int64 // beginning and length in microseconds, from the base, in the order of ends
		want string
	}{
		{"in turn", [][2]int64{{0, 400}, {0, 300}, {1000, 400}, {1000, 500}, {2000, 100}},
			"0-400 400-700 700-1100 1100-1600 1700-1800"},
		{"at once", [][2]int64{{0, 2000}, {0, 2100}, {0, 2500}}, "0-2000 0-2100 0-2500"},
		{"with a gap", [][2]int64{{0, 200}, {3000, 200}}, "0-200 2700-2900"},
		{"to the end", [][2]int64{{6000, 900}, {6000, 800}}, "5700-6600 5800-6600"},
	} {
		g := gathering{zero: zero, shift: map[string]time.Duration{"p": 0}, report: &Report{}, grain: ms}
		last := p.begin
		var got []string
		for _, s := range tt.sent {
			own := g.place(&span{process: "p", begin: base + s[0]*us, end: base + (s[0]+s[1])*us}, p, last)
			last = max(last, own.end)
			got = append(got, fmt.Sprintf("%d-%d", own.begin.Microseconds(), own.end.Microseconds()))
		}
		if text := strings.Join(got, " "); text != tt.want {
			t.Errorf("%s: %s; want %s", tt.name, text, tt.want)
		}
	}
}
