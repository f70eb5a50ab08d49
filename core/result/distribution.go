package result

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"math/bits"
	"slices"
	"sync"

	"github.com/klauspost/compress/zlib"

	"paceduel/core/quantile"
)

// Distribution is what a histogram holds: how often values lie in which narrow range, as far as there are any. It takes
// a hundredth of the memory and time that a histogram of all ranges does, since most of those are empty. It is not
// modified once made; a nil one is empty.
type Distribution struct {
	Bars    []Bar // ascending, none of them empty
	Total   int64
	PerUnit float64 // how many of the bars' values make one of the unit
}

// Bar is one range of values, in steps of the recording, ends included, at most 0.1 % wide.
type Bar struct{ From, To, Count int64 }

// errNoHistogram is a text that is no histogram in the form that this program writes.
var errNoHistogram = errors.New("this is not a HDR histogram (V2, compressed, base64)")

// The head of a histogram's encoding, see HdrHistogram's V2 format: a cookie and a length around the compressed part,
// and within that cookie, length, offset, digits, lowest and highest value and a ratio, before the counts.
const (
	compressedCookie = 0x1c849304
	plainCookie      = 0x1c849303
	cookieMask       = ^uint32(0xf0) // word sizes, which say nothing here
	outerBytes       = 8
	innerBytes       = 40
	maxEncoded       = 64 << 20 // bytes that one may unpack to
)

// DecodeDistribution reads a histogram of nanoseconds as EncodeHistogram writes it.
func DecodeDistribution(text string) (*Distribution, error) { return decodeDistribution(text, 0) }

func decodeDistribution(text string, perUnitSaid float64) (*Distribution, error) {
	packed, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(packed) < outerBytes ||
		binary.BigEndian.Uint32(packed)&cookieMask != compressedCookie&cookieMask {
		return nil, errNoHistogram
	}
	u := unpackers.Get().(*unpacker)
	defer unpackers.Put(u)
	plain, err := u.unpack(packed[outerBytes:])
	if err != nil || len(plain) < innerBytes || binary.BigEndian.Uint32(plain)&cookieMask != plainCookie&cookieMask {
		return nil, errNoHistogram
	}
	length, digits := int(binary.BigEndian.Uint32(plain[4:])), binary.BigEndian.Uint32(plain[12:])
	lowest := binary.BigEndian.Uint64(plain[16:])
	if offset := binary.BigEndian.Uint32(plain[8:]); offset != 0 || digits > 5 || lowest < 1 || lowest > 1<<40 ||
		length > len(plain)-innerBytes {
		return nil, errNoHistogram
	}
	d, err := u.decodeBars(plain[innerBytes:innerBytes+length], newScale(digits, lowest))
	if err == nil {
		d.PerUnit = perUnit(perUnitSaid)
	}
	return d, err
}

// unpacker reads histograms. A run has hundreds of them, and the tables for unpacking one are larger than it.
type unpacker struct {
	packed bytes.Reader
	zlib   io.ReadCloser // nil before the first
	plain  bytes.Buffer
	bars   []Bar
}

var unpackers = sync.Pool{New: func() any { return new(unpacker) }}

// unpack returns what text holds, which is valid until the next call.
func (u *unpacker) unpack(text []byte) (plain []byte, err error) {
	u.packed.Reset(text)
	defer u.packed.Reset(nil)
	if u.zlib == nil {
		u.zlib, err = zlib.NewReader(&u.packed)
	} else {
		err = u.zlib.(zlib.Resetter).Reset(&u.packed, nil)
	}
	if err != nil {
		return nil, err
	}
	u.plain.Reset()
	_, err = u.plain.ReadFrom(io.LimitReader(u.zlib, maxEncoded))
	return u.plain.Bytes(), err
}

// scale is how a histogram's places are laid over values.
type scale struct {
	unit uint // values are multiples of 1<<unit
	half uint // each octave has 1<<half places
}

func newScale(digits uint32, lowest uint64) scale {
	single := 2 * int64(math.Pow10(int(digits))) // up to which values are told apart one by one
	places := bits.Len64(uint64(single - 1))
	return scale{unit: uint(bits.Len64(lowest) - 1), half: uint(max(places, 1) - 1)}
}

// at is the range of a place; ok is false for one beyond all values.
func (s scale) at(place int64) (from, to int64, ok bool) {
	octave, within := uint(0), place
	if o := place >> s.half; o > 0 {
		octave, within = uint(o-1), place&(1<<s.half-1)+1<<s.half
	}
	if shift := octave + s.unit; shift > 62-s.half {
		return 0, 0, false
	} else {
		from = within << shift
		return from, from + 1<<shift - 1, true
	}
}

// decodeBars reads counts in place order: a positive number is one, a negative number that many places without any.
func (u *unpacker) decodeBars(text []byte, s scale) (*Distribution, error) {
	u.bars = u.bars[:0]
	total := int64(0)
	place := int64(0)
	for len(text) > 0 {
		n, size := zigzag(text)
		if size == 0 {
			return nil, errNoHistogram
		}
		text = text[size:]
		if n <= 0 {
			if place += max(-n, 1); n < -1<<32 || place > 1<<32 { // a single place may be written as 0
				return nil, errNoHistogram
			}
			continue
		}
		from, to, ok := s.at(place)
		if !ok || n > math.MaxInt64-total {
			return nil, errNoHistogram
		}
		u.bars = append(u.bars, Bar{from, to, n})
		total += n
		place++
	}
	return &Distribution{Bars: slices.Clone(u.bars), Total: total}, nil
}

// zigzag reads a number of up to nine bytes, of which the last has eight bits; size is 0 when it is cut short.
func zigzag(text []byte) (n int64, size int) {
	var u uint64
	for i := range text {
		b := uint64(text[i])
		if i == 8 {
			u |= b << 56
			return int64(u>>1) ^ -int64(u&1), i + 1
		}
		u |= b & 0x7f << (7 * i)
		if b < 0x80 {
			return int64(u>>1) ^ -int64(u&1), i + 1
		}
	}
	return 0, 0
}

// TotalCount is how many values there are.
func (d *Distribution) TotalCount() int64 {
	if d == nil {
		return 0
	}
	return d.Total
}

// Quantile is the upper end of the first range at or below which a share q of the values lies, in the unit; NaN without
// any.
func (d *Distribution) Quantile(q float64) float64 {
	if d.TotalCount() == 0 {
		return math.NaN()
	}
	want, sum := quantile.Rank(q, d.Total), int64(0)
	for _, b := range d.Bars {
		if sum += b.Count; sum >= want {
			return float64(b.To) / perUnit(d.PerUnit)
		}
	}
	return float64(d.Bars[len(d.Bars)-1].To) / perUnit(d.PerUnit)
}

// Sum adds up distributions. Its zero value is empty.
type Sum struct {
	bars, spare []Bar // spare is room for the next sum
	total       int64
	perUnit     float64
	mixed       bool
}

// Add adds d, which may be nil. It reports whether all that was added has the same ranges, without which it cannot be
// added.
func (s *Sum) Add(d *Distribution) bool {
	if s.mixed || d.TotalCount() == 0 {
		return !s.mixed
	}
	merged, ok := merge(s.spare[:0], s.bars, d.Bars)
	if !ok || s.total > 0 && s.perUnit != d.PerUnit {
		*s = Sum{mixed: true}
		return false
	}
	s.bars, s.spare = merged, s.bars
	s.total, s.perUnit = s.total+d.Total, d.PerUnit
	return true
}

// Distribution is what was added; nil where it could not be. The sum is over then.
func (s *Sum) Distribution() *Distribution {
	if s.mixed {
		return nil
	}
	s.spare = nil
	return &Distribution{Bars: s.bars, Total: s.total, PerUnit: s.perUnit}
}

// merge appends the sum of two lists of bars to out.
func merge(out, a, b []Bar) (_ []Bar, ok bool) {
	out = slices.Grow(out, len(a)+len(b))
	for len(a) > 0 && len(b) > 0 {
		switch x, y := a[0], b[0]; {
		case x.To < y.From:
			out, a = append(out, x), a[1:]
		case y.To < x.From:
			out, b = append(out, y), b[1:]
		case x.From == y.From && x.To == y.To:
			x.Count += y.Count
			out, a, b = append(out, x), a[1:], b[1:]
		default:
			return nil, false
		}
	}
	return append(append(out, a...), b...), true
}

// distribution reads one that belongs to what.
func distribution(text string, perUnit float64, what string, more ...any) (*Distribution, error) {
	d, err := decodeDistribution(text, perUnit)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", fmt.Sprintf(what, more...), err)
	}
	return d, nil
}
