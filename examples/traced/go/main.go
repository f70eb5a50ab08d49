// Page is a service in Go with OpenTelemetry's SDK: a page of Skerrow Harbour out of three look-ups, made one after
// another or at once. It listens on 127.0.0.1:$PORT.
package main

import (
	"context"
	"encoding/json"
	"fmt"
	"log"
	"net/http"
	"os"
	"slices"
	"sync"

	"go.opentelemetry.io/contrib/instrumentation/net/http/otelhttp"
	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/sdk/trace"
)

// lookUp reads the tides of a year at a station and sorts them: real work, in steps that are told of.
func lookUp(ctx context.Context, name string, n int) int {
	ctx, span := otel.Tracer("page").Start(ctx, "look up "+name)
	defer span.End()
	_, read := otel.Tracer("page").Start(ctx, "read")
	heights := make([]int, n)
	for i := range heights {
		heights[i] = i * 7919 % 104729
	}
	read.End()
	_, sorted := otel.Tracer("page").Start(ctx, "sort")
	defer sorted.End()
	slices.Sort(heights)
	return heights[n/2]
}

// sizes are how much there is to read for each part of the page.
var sizes = map[string]int{"vessel": 40_000, "berth": 60_000, "tide": 50_000}

func inTurn(ctx context.Context) map[string]int {
	page := map[string]int{}
	for _, name := range []string{"vessel", "berth", "tide"} {
		page[name] = lookUp(ctx, name, sizes[name])
	}
	return page
}

func atOnce(ctx context.Context) map[string]int {
	var mu sync.Mutex
	var work sync.WaitGroup
	page := map[string]int{}
	for name, n := range sizes {
		work.Add(1)
		go func() {
			defer work.Done()
			height := lookUp(ctx, name, n)
			mu.Lock()
			defer mu.Unlock()
			page[name] = height
		}()
	}
	work.Wait()
	return page
}

func main() {
	exporter, err := otlptracehttp.New(context.Background()) // to where the environment says
	if err != nil {
		log.Fatal(err)
	}
	otel.SetTracerProvider(trace.NewTracerProvider(trace.WithBatcher(exporter)))
	otel.SetTextMapPropagator(propagation.TraceContext{})
	page := func(way func(context.Context) map[string]int) http.Handler {
		return otelhttp.NewHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			json.NewEncoder(w).Encode(way(r.Context()))
		}), "page")
	}
	http.Handle("/in-turn", page(inTurn))
	http.Handle("/at-once", page(atOnce))
	fmt.Println("page answers")
	log.Fatal(http.ListenAndServe("127.0.0.1:"+os.Getenv("PORT"), nil))
}
