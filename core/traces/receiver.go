// Package traces takes in the spans that instrumented services send of single shots, by OpenTelemetry's protocol over
// HTTP (OTLP/HTTP 1.x, protobuf and JSON), and gives each shot what happened inside it.
//
// A Receiver listens on an address of this machine. It keeps spans of the run's own traces alone, as far as they belong
// to it, and never more than a bounded number; everything else is counted. What comes in a heat is put aside as it
// came and read when the heat is over, so that reading costs nobody's latency. Marking shots as sampled is left to
// drivers, what spans say to package spans.
package traces

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"mime"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	otlp "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"paceduel/core/clock"
)

// Bounds of what is taken in.
const (
	maxBody  = 16 << 20 // of one request, unpacked
	maxAside = 32 << 20 // put aside in a heat before it is read at once
	MaxSpans = 400_000  // kept at a time, over all shots
	maxName  = 200      // bytes of a span's name
	maxNames = 20_000   // names told apart
	atOnce   = 4        // requests that are taken in at a time
)

// Prefix is the first half of the identifiers of all traces of a contender.
type Prefix [8]byte

// Receiver takes spans in. It is safe for concurrent use.
type Receiver struct {
	clock    *clock.Clock
	listener net.Listener
	server   *http.Server
	ended    chan struct{}
	room     chan struct{} // one for each request that is taken in

	mu     sync.Mutex
	ours   map[Prefix]bool
	aside  []body
	length int // of them
	kept   map[[16]byte]*trace
	spans  int
	names  map[string]string
	closed map[[16]byte]bool // traces that were given out
	counts Counts
	lines  []*Lines

	quiet, longest time.Duration // see Settle
	waited         bool          // some heat's spans were waited for to the end; of whoever calls Settle
}

// Counts are what came, and what of it was of no use.
type Counts struct {
	Requests int64 // that brought spans
	Spans    int64 // kept
	Foreign  int64 // spans of traces that are none of ours
	Late     int64 // that came when their shot had been given out
	Doubled  int64 // that were there already
	Broken   int64 // that cannot be
	Dropped  int64 // that there was no room for
	Refused  int64 // requests that could not be read
}

// minus is what came since an earlier count.
func (c Counts) minus(o Counts) Counts {
	return Counts{
		c.Requests - o.Requests, c.Spans - o.Spans, c.Foreign - o.Foreign, c.Late - o.Late, c.Doubled - o.Doubled,
		c.Broken - o.Broken, c.Dropped - o.Dropped, c.Refused - o.Refused,
	}
}

// body is a request as it came.
type body struct {
	content []byte
	json    bool
}

// trace is what came of one shot.
type trace struct {
	spans []span
	have  map[[8]byte]bool
}

// span is one span as it was sent. Times are nanoseconds of civil time.
type span struct {
	id, parent [8]byte
	name       string
	process    string // that sent it
	begin, end int64
}

// Listen starts a receiver on an address of this machine; empty: any free port of the loopback interface.
func Listen(clk *clock.Clock, address string) (*Receiver, error) {
	if address == "" {
		address = "127.0.0.1:0"
	}
	host, _, err := net.SplitHostPort(address)
	if ip := net.ParseIP(host); err == nil && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		err = errors.New("it is not an address of this machine's own")
	}
	if err != nil {
		return nil, fmt.Errorf("listen for spans on %s: %w", address, err)
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("listen for spans on %s: %w", address, err)
	}
	r := &Receiver{
		clock: clk, listener: l, ended: make(chan struct{}), room: make(chan struct{}, atOnce), ours: map[Prefix]bool{},
		kept: map[[16]byte]*trace{}, names: map[string]string{}, closed: map[[16]byte]bool{}, quiet: quiet, longest: longest,
	}
	const slow = 10 * time.Second
	r.server = &http.Server{
		Handler: r, ReadTimeout: slow, WriteTimeout: slow, IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10,
		ErrorLog: slog.NewLogLogger(slog.DiscardHandler, slog.LevelError), // what strangers do wrong is their matter
	}
	go func() {
		defer close(r.ended)
		r.server.Serve(l) // until Close; it recovers what a request makes panic
	}()
	return r, nil
}

// Endpoint is where spans are sent, as services are told in OTEL_EXPORTER_OTLP_ENDPOINT.
func (r *Receiver) Endpoint() string { return "http://" + r.listener.Addr().String() }

// Environment has a service send its spans here, those of sampled shots alone, and soon. It says the same in every
// language that knows OpenTelemetry's variables.
func (r *Receiver) Environment() []string {
	return []string{
		"OTEL_EXPORTER_OTLP_ENDPOINT=" + r.Endpoint(), "OTEL_EXPORTER_OTLP_PROTOCOL=http/protobuf",
		fmt.Sprintf("OTEL_BSP_SCHEDULE_DELAY=%d", scheduleDelay.Milliseconds()),
		"OTEL_TRACES_SAMPLER=parentbased_always_off",
	}
}

// scheduleDelay is how long a service gathers spans before it sends them.
const scheduleDelay = 200 * time.Millisecond

// Expect says that traces which begin with a prefix are ours.
func (r *Receiver) Expect(p Prefix) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.ours[p] = true
}

// Close ends the receiver, if there is one. It may be called twice.
func (r *Receiver) Close() error {
	if r == nil {
		return nil
	}
	err := r.server.Close()
	<-r.ended
	return err
}

// ServeHTTP takes in what a service sends: spans under /v1/traces. Metrics and logs, which some send unasked, are taken
// and forgotten, so that no service complains.
func (r *Receiver) ServeHTTP(w http.ResponseWriter, req *http.Request) {
	kind, _, _ := mime.ParseMediaType(req.Header.Get("Content-Type"))
	isJSON := kind == "application/json"
	switch {
	case req.Method != http.MethodPost:
		http.Error(w, "spans are sent by POST", http.StatusMethodNotAllowed)
		return
	case req.URL.Path == "/v1/metrics", req.URL.Path == "/v1/logs":
		io.Copy(io.Discard, io.LimitReader(req.Body, maxBody))
		done(w, isJSON)
		return
	case req.URL.Path != "/v1/traces":
		http.Error(w, "spans are sent to /v1/traces", http.StatusNotFound)
		return
	case !isJSON && kind != "application/x-protobuf":
		http.Error(w, "spans come as application/x-protobuf or application/json", http.StatusUnsupportedMediaType)
		return
	}
	r.room <- struct{}{}
	defer func() { <-r.room }()
	content, status := unpacked(req)
	if status == 0 {
		status = r.take(body{content, isJSON})
	}
	if status != 0 {
		r.mu.Lock()
		r.counts.Refused++
		r.mu.Unlock()
		http.Error(w, http.StatusText(status), status)
		return
	}
	done(w, isJSON)
}

// done answers that all was taken: an ExportTraceServiceResponse without anything in it.
func done(w http.ResponseWriter, isJSON bool) {
	if isJSON {
		w.Header().Set("Content-Type", "application/json")
		io.WriteString(w, "{}")
		return
	}
	w.Header().Set("Content-Type", "application/x-protobuf")
}

// unpacked reads a request; status is why it cannot be, 0 for none.
func unpacked(req *http.Request) (content []byte, status int) {
	var in io.Reader = req.Body
	switch strings.ToLower(req.Header.Get("Content-Encoding")) {
	case "", "identity":
	case "gzip":
		z, err := gzip.NewReader(req.Body)
		if err != nil {
			return nil, http.StatusBadRequest
		}
		in = z
	default:
		return nil, http.StatusUnsupportedMediaType
	}
	var out bytes.Buffer
	n, err := io.Copy(&out, io.LimitReader(in, maxBody+1))
	switch {
	case n > maxBody:
		return nil, http.StatusRequestEntityTooLarge
	case err != nil:
		return nil, http.StatusBadRequest
	}
	return out.Bytes(), 0
}

// take puts a request aside, or reads it at once where too much lies there.
func (r *Receiver) take(b body) (status int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.length+len(b.content) <= maxAside {
		r.aside, r.length = append(r.aside, b), r.length+len(b.content)
		return 0
	}
	if r.read(b) != nil {
		return http.StatusBadRequest
	}
	return 0
}

// readAside reads what was put aside; it is called with the lock held.
func (r *Receiver) readAside() {
	for _, b := range r.aside {
		if r.read(b) != nil {
			r.counts.Refused++
		}
	}
	r.aside, r.length = nil, 0
	for _, l := range r.lines {
		l.read()
	}
}

// read takes the spans of a request in; it is called with the lock held.
func (r *Receiver) read(b body) error {
	r.counts.Requests++
	if b.json {
		return readJSON(b.content, r.add, func() { r.counts.Broken++ })
	}
	var sent otlp.TracesData // an ExportTraceServiceRequest has the same form
	if err := proto.Unmarshal(b.content, &sent); err != nil {
		return fmt.Errorf("read spans: %w", err)
	}
	for _, resource := range sent.GetResourceSpans() {
		process := processOf(resource.GetResource())
		for _, scope := range resource.GetScopeSpans() {
			for _, s := range scope.GetSpans() {
				one := span{name: s.GetName(), process: process, begin: int64(s.GetStartTimeUnixNano()),
					end: int64(s.GetEndTimeUnixNano())}
				trace := s.GetTraceId()
				if len(trace) != 16 || len(s.GetSpanId()) != 8 || len(s.GetParentSpanId()) != 0 && len(s.GetParentSpanId()) != 8 {
					r.counts.Broken++
					continue
				}
				copy(one.id[:], s.GetSpanId())
				copy(one.parent[:], s.GetParentSpanId())
				r.add([16]byte(trace), one)
			}
		}
	}
	return nil
}

// add takes a span in; it is called with the lock held.
func (r *Receiver) add(of [16]byte, s span) {
	switch {
	case !r.ours[Prefix(of[:8])]:
		r.counts.Foreign++
		return
	case s.id == [8]byte{} || s.end < s.begin || s.begin <= 0 || s.id == s.parent:
		r.counts.Broken++
		return
	case r.closed[of]:
		r.counts.Late++
		return
	case r.spans >= MaxSpans:
		r.counts.Dropped++
		return
	}
	t := r.kept[of]
	if t == nil {
		t = &trace{have: map[[8]byte]bool{}}
		r.kept[of] = t
	}
	if t.have[s.id] {
		r.counts.Doubled++
		return
	}
	s.name, s.process = r.named(s.name), r.named(s.process)
	t.have[s.id] = true
	t.spans = append(t.spans, s)
	r.spans++
	r.counts.Spans++
}

// named keeps each name once. Of very many only the first are told apart.
func (r *Receiver) named(name string) string {
	if len(name) > maxName {
		name = strings.ToValidUTF8(name[:maxName], "")
	}
	known, ok := r.names[name]
	switch {
	case ok:
		return known
	case len(r.names) >= maxNames:
		return "others"
	}
	name = strings.Clone(name)
	r.names[name] = name
	return name
}

// Waiting bounds how long a shot's spans are waited for: until all of them have sent some and nothing came for a while,
// which is longer than a service gathers them, or this long in all.
const (
	quiet     = scheduleDelay + 150*time.Millisecond
	longest   = 3 * time.Second
	lookEvery = 20 * time.Millisecond
)

// Settle waits until the traces of a heat are most likely whole, and gives out what came of them; what comes later is
// late. The error is ctx's.
func (r *Receiver) Settle(ctx context.Context, traces [][16]byte) error {
	began := r.clock.Now()
	seen, since := int64(-1), began
	limit := r.longest
	for {
		r.mu.Lock()
		r.readAside()
		came, all := r.counts.Spans+r.counts.Doubled, true
		for _, t := range traces {
			all = all && r.kept[t] != nil
		}
		r.mu.Unlock()
		now := r.clock.Now()
		if came != seen {
			seen, since = came, now
		}
		if came == 0 && r.waited {
			limit = r.quiet // nothing has ever come, and it was waited for long enough once
		}
		if all && now-since >= r.quiet || now-began >= limit {
			r.waited = true
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(lookEvery):
		}
	}
}

// Counts are what came so far.
func (r *Receiver) Counts() Counts {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.readAside()
	return r.counts
}

// takeOut gives out what came of some traces, and forgets all others of the same contender: they are of shots that were
// not chosen, or not judged.
func (r *Receiver) takeOut(p Prefix, traces map[[16]byte]bool) map[[16]byte]*trace {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.readAside()
	out := map[[16]byte]*trace{}
	maps.DeleteFunc(r.closed, func(t [16]byte, _ bool) bool { return Prefix(t[:8]) == p }) // of the heat before
	for id, t := range r.kept {
		if Prefix(id[:8]) != p {
			continue
		}
		if traces[id] {
			out[id] = t
		}
		delete(r.kept, id)
		r.spans -= len(t.spans)
		r.closed[id] = true
	}
	for id := range traces {
		r.closed[id] = true
	}
	return out
}
