package harbour

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"
)

// tracer sends what happens within requests that are marked as sampled, as instrumented services do: by OpenTelemetry's
// protocol, to where the environment says. Requests that are not marked cost it nothing. A nil tracer traces nothing.
type tracer struct {
	endpoint string
	mu       sync.Mutex
	ended    []traced
	sending  sync.WaitGroup
	stop     chan struct{}
}

// traced is a step that has ended.
type traced struct {
	Trace  string `json:"traceId"`
	ID     string `json:"spanId"`
	Parent string `json:"parentSpanId"`
	Name   string `json:"name"`
	Begin  string `json:"startTimeUnixNano"`
	End    string `json:"endTimeUnixNano"`
}

// newTracer makes the tracer that the environment asks for; nil where it asks for none.
func newTracer() *tracer {
	endpoint := os.Getenv("OTEL_EXPORTER_OTLP_ENDPOINT")
	if endpoint == "" {
		return nil
	}
	t := &tracer{endpoint: strings.TrimSuffix(endpoint, "/") + "/v1/traces", stop: make(chan struct{})}
	every := 5 * time.Second
	if ms, err := strconv.Atoi(os.Getenv("OTEL_BSP_SCHEDULE_DELAY")); err == nil && ms > 0 {
		every = time.Duration(ms) * time.Millisecond
	}
	t.sending.Go(func() {
		tick := time.NewTicker(every)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				t.send()
			case <-t.stop:
				t.send()
				return
			}
		}
	})
	return t
}

// close sends what is left.
func (t *tracer) close() {
	if t != nil {
		close(t.stop)
		t.sending.Wait()
	}
}

// send sends what has ended since it last did. What cannot be sent is lost, as with any exporter.
func (t *tracer) send() {
	t.mu.Lock()
	list := t.ended
	t.ended = nil
	t.mu.Unlock()
	if len(list) == 0 {
		return
	}
	type attribute struct {
		Key   string            `json:"key"`
		Value map[string]string `json:"value"`
	}
	type scope struct {
		Spans []traced `json:"spans"`
	}
	type resource struct {
		Resource struct {
			Attributes []attribute `json:"attributes"`
		} `json:"resource"`
		Scopes []scope `json:"scopeSpans"`
	}
	own := resource{Scopes: []scope{{list}}}
	own.Resource.Attributes = []attribute{{"service.name", map[string]string{"stringValue": "Skerrow Harbour"}}}
	text, err := json.Marshal(map[string]any{"resourceSpans": []resource{own}})
	if err != nil {
		return
	}
	if answer, err := http.Post(t.endpoint, "application/json", bytes.NewReader(text)); err == nil {
		answer.Body.Close()
	}
}

// under is what a step is part of.
type under struct {
	tracer *tracer
	trace  string
	span   string
}

type underKey struct{}

// request begins the span of a request, where that is marked as sampled (W3C Trace Context); done ends it.
func (t *tracer) request(r *http.Request) (ctx context.Context, done func()) {
	parts := strings.Split(r.Header.Get("Traceparent"), "-")
	if t == nil || len(parts) != 4 || len(parts[1]) != 32 || len(parts[2]) != 16 || parts[3] != "01" {
		return r.Context(), func() {}
	}
	return within(r.Context(), under{t, parts[1], parts[2]}, r.Method+" "+r.URL.Path)
}

// stepIn begins a step of whatever the context is part of, with a context for what is part of it; done ends it.
func stepIn(ctx context.Context, name string) (own context.Context, done func()) {
	of, ok := ctx.Value(underKey{}).(under)
	if !ok {
		return ctx, func() {}
	}
	return within(ctx, of, name)
}

// within begins a span as part of another one, with a context for what is part of it.
func within(ctx context.Context, of under, name string) (context.Context, func()) {
	var id [8]byte
	rand.Read(id[:])
	own := under{of.tracer, of.trace, hex.EncodeToString(id[:])}
	began := time.Now()
	return context.WithValue(ctx, underKey{}, own), func() {
		ended := time.Now()
		of.tracer.mu.Lock()
		defer of.tracer.mu.Unlock()
		of.tracer.ended = append(of.tracer.ended, traced{
			of.trace, own.span, of.span, name, strconv.FormatInt(began.UnixNano(), 10), strconv.FormatInt(ended.UnixNano(), 10),
		})
	}
}
