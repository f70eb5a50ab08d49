package logbook

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"github.com/klauspost/compress/zstd"

	"paceduel/core/result"
)

// Documents are kept as JSON, compressed. A heat's histograms, which are compressed already and written in base64, and
// its dots, which are many, follow the JSON in binary: that takes a third of the room, and a tenth of the time to read.

// The encoder and the decoder are safe for concurrent use; making them cannot fail with these options.
var (
	packer, _ = zstd.NewWriter(
		nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(1<<20),
	)
	unpacker, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(maxBody))
)

// maxBody bounds what one body may unpack to.
const maxBody = 256 << 20

func pack(text []byte) []byte { return packer.EncodeAll(text, nil) }

func unpack(body []byte) ([]byte, error) { return unpacker.DecodeAll(body, nil) }

// inBinary is put before a histogram that was decoded from base64, asText before one that could not be.
const (
	asText byte = iota
	inBinary
)

// histograms are where a heat keeps them, in a fixed order.
func histograms(h *result.Heat) (out []*string) {
	out = append(out, &h.Latencies)
	for i := range h.Splits {
		out = append(out, &h.Splits[i].Lengths)
	}
	for i := range h.Steps {
		out = append(out, &h.Steps[i].Latencies)
	}
	return out
}

// packHeat leaves h as it is.
func packHeat(h *result.Heat) ([]byte, error) {
	bare := *h
	bare.Dots, bare.Splits, bare.Steps = nil, slices.Clone(h.Splits), slices.Clone(h.Steps)
	var binaries [][]byte
	for _, text := range histograms(&bare) {
		raw, err := base64.StdEncoding.DecodeString(*text)
		how := inBinary
		if err != nil || base64.StdEncoding.EncodeToString(raw) != *text {
			how, raw = asText, []byte(*text)
		}
		binaries = append(binaries, append([]byte{how}, raw...))
		*text = ""
	}
	text, err := json.Marshal(&bare)
	if err != nil {
		return nil, err
	}
	out := append(binary.AppendUvarint(nil, uint64(len(text))), text...)
	for _, b := range binaries {
		out = append(binary.AppendUvarint(out, uint64(len(b))), b...)
	}
	return pack(appendDots(out, h.Dots)), nil
}

// unpackHeat reads what packHeat wrote, or, of a logbook brought forward, a heat that is all JSON. version is that of
// the heat's document.
func unpackHeat(version int, body []byte, h *result.Heat) error {
	text, err := unpacker.DecodeAll(body, nil)
	if err != nil {
		return err
	}
	if len(text) > 0 && text[0] == '{' {
		if *h, err = result.DecodeHeat(version, text); err == nil { // else it is the length of what follows
			return nil
		}
	}
	in := reader{rest: text}
	if *h, err = result.DecodeHeat(version, in.bytes()); err != nil {
		return err
	}
	for _, text := range histograms(h) {
		switch b := in.bytes(); {
		case len(b) > 0 && b[0] == inBinary:
			*text = base64.StdEncoding.EncodeToString(b[1:])
		case len(b) > 0:
			*text = string(b[1:])
		}
	}
	h.Dots = in.dots()
	if in.broken || len(in.rest) > 0 {
		return errBroken
	}
	return nil
}

var errBroken = errors.New("the heat's body is damaged")

// appendDots writes how many there are, and class by class, moment by moment, latency by latency: each moment as what
// it is after the one before, in units of the greatest of which all are multiples; each latency without the zeros at
// its end.
func appendDots(out []byte, dots []result.Dot) []byte {
	out = binary.AppendUvarint(out, uint64(len(dots)))
	if len(dots) == 0 {
		return out
	}
	var classes []string
	for _, d := range dots {
		if !slices.Contains(classes, d.Class) {
			classes = append(classes, d.Class)
		}
	}
	out = binary.AppendUvarint(out, uint64(len(classes)))
	for _, c := range classes {
		out = append(binary.AppendUvarint(out, uint64(len(c))), c...)
	}
	unit := unitOf(dots)
	out = binary.AppendUvarint(out, uint64(unit))
	for _, d := range dots {
		out = append(out, byte(slices.Index(classes, d.Class)))
	}
	before := time.Duration(0)
	for _, d := range dots {
		out = binary.AppendVarint(out, int64((d.At-before)/unit))
		before = d.At
	}
	for _, d := range dots {
		zeros := byte(0)
		for ; d.Latency != 0 && d.Latency%10 == 0; zeros++ {
			d.Latency /= 10
		}
		out = binary.AppendVarint(append(out, zeros), int64(d.Latency))
	}
	return out
}

// unitOf is the greatest of some units that all moments are multiples of.
func unitOf(dots []result.Dot) time.Duration {
	for _, unit := range []time.Duration{10 * time.Microsecond, time.Microsecond} {
		if !slices.ContainsFunc(dots, func(d result.Dot) bool { return d.At%unit != 0 }) {
			return unit
		}
	}
	return time.Nanosecond
}

// reader takes a body apart; broken says that it ended too early or says what cannot be.
type reader struct {
	rest   []byte
	broken bool
}

func (r *reader) uint(most int) int {
	n, size := binary.Uvarint(r.rest)
	if size <= 0 || n > uint64(most) {
		r.broken, r.rest = true, nil
		return 0
	}
	r.rest = r.rest[size:]
	return int(n)
}

func (r *reader) int() int64 {
	n, size := binary.Varint(r.rest)
	if size <= 0 {
		r.broken, r.rest = true, nil
		return 0
	}
	r.rest = r.rest[size:]
	return n
}

func (r *reader) byte() byte {
	if len(r.rest) == 0 {
		r.broken = true
		return 0
	}
	b := r.rest[0]
	r.rest = r.rest[1:]
	return b
}

// bytes are as many as the number before them says.
func (r *reader) bytes() []byte {
	n := r.uint(len(r.rest))
	if r.broken || n > len(r.rest) {
		r.broken, r.rest = true, nil
		return nil
	}
	out := r.rest[:n]
	r.rest = r.rest[n:]
	return out
}

func (r *reader) dots() []result.Dot {
	n := r.uint(len(r.rest)) // each takes several bytes
	if n == 0 {
		return nil
	}
	classes := make([]string, r.uint(len(r.rest)))
	for i := range classes {
		classes[i] = string(r.bytes())
	}
	unit := time.Duration(r.uint(int(time.Second)))
	dots := make([]result.Dot, n)
	for i := range dots {
		if class := int(r.byte()); class < len(classes) {
			dots[i].Class = classes[class]
		} else {
			r.broken = true
		}
	}
	at := time.Duration(0)
	for i := range dots {
		at += time.Duration(r.int()) * unit
		dots[i].At = at
	}
	for i := range dots {
		zeros := r.byte()
		latency := time.Duration(r.int())
		for range min(zeros, 18) {
			latency *= 10
		}
		dots[i].Latency = latency
	}
	return dots
}
