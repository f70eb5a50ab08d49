package http

import (
	"encoding/hex"
	"maps"

	"paceduel/core/contender"
	"paceduel/core/contender/http/lean"
	"paceduel/core/shots"
)

// sampler chooses the shots of a client, or a crew, that are marked as sampled: an even choice, so many a heat or a
// share of all. Where nobody knows how many there will be, it begins with every shot, and takes every second one of
// what it took so far whenever it has twice as many as are wanted: those that are left are told by their numbers.
type sampler struct {
	tracing *contender.Tracing
	number  uint64 // of the client, which is that of no other in the whole run
	most    int64  // wanted; 0: a share
	n       int64
	chosen  int64
	stride  int64
}

// newSampler makes that of one of n clients; nil where no shot is to be sampled.
func (d *driver) newSampler(n int) *sampler {
	if d.tracing == nil {
		return nil
	}
	s := &sampler{tracing: d.tracing, number: d.tracing.Client(), stride: 1}
	if d.tracing.Of > 0 {
		s.most = max(int64(d.tracing.Of/max(n, 1)), 1)
	} else {
		s.stride = max(int64(1/d.tracing.Share+0.5), 1)
	}
	return s
}

// next reports whether the next shot is sampled, and gives it the identifier of its trace.
func (s *sampler) next(shot *shots.Shot) bool {
	if s == nil {
		return false
	}
	s.n++
	if s.n%s.stride != 0 {
		return false
	}
	if s.chosen++; s.most > 0 && s.chosen >= 2*s.most {
		s.stride *= 2
		s.chosen /= 2
	}
	shot.TraceNo, shot.TraceStride = s.n, s.stride
	copy(shot.Trace[:8], s.tracing.Prefix[:])
	numbered(shot.Trace[8:], s.number<<clientBits|uint64(s.n))
	return true
}

// part is the identifier of the n-th request of the client's sampled shots that have several: the service's spans are
// found by it.
func (s *sampler) part(n uint64) (id [8]byte) {
	numbered(id[:], 1<<63|s.number<<clientBits|n)
	return id
}

// clientBits are those of an identifier that count a client's own shots.
const clientBits = 40

// numbered writes a number as an identifier.
func numbered(into []byte, n uint64) {
	for i := range into {
		into[len(into)-1-i] = byte(n >> (8 * i))
	}
}

// sampledParent is the header value (W3C Trace Context, version 00) of a request that is part of a sampled trace.
func sampledParent(trace [16]byte, span [8]byte) string {
	return "00-" + hex.EncodeToString(trace[:]) + "-" + hex.EncodeToString(span[:]) + "-01"
}

// traceHeader is the header that it stands in.
const traceHeader = "Traceparent"

// marked is a request with the header of a sampled trace.
func (r *request) marked(trace [16]byte, span [8]byte) request {
	out := *r
	out.headers = maps.Clone(r.headers)
	out.headers[traceHeader] = []string{sampledParent(trace, span)}
	return out
}

// sampledWire gives the lean path the request of a sampled shot, which is written for it; nil for all others.
func (d *driver) sampledWire(s *sampler, row int, shot *shots.Shot) *lean.Request {
	if !s.next(shot) {
		return nil
	}
	r := d.requests[row].marked(shot.Trace, [8]byte(shot.Trace[8:]))
	wire, err := d.wire(&r)
	if err != nil { // it could be written without the header
		return nil
	}
	return &wire
}
