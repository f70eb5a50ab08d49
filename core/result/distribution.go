package result

import (
	"bytes"
	"compress/zlib"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"math/bits"
)

// Distribution is what a histogram holds: how often values lie in which narrow range, as far as there are any. It takes a
// hundredth of the memory and time that a histogram of all ranges does, since most of those are empty. It is not modified
// once made; a nil one is empty.
type Distribution struct {
	Bars  []Bar // ascending, none of them empty
	Total int64
}

// Bar is one range of values, in nanoseconds, ends included, at most 0.1 % wide.
type Bar struct{ From, To, Count int64 }

// errNoHistogram is a text that is no histogram in the form that this program writes.
var errNoHistogram = errors.New("this is no HDR histogram (V2, compressed, base64)")

// The head of a histogram's encoding, see HdrHistogram's V2 format: a cookie and a length around the compressed part, and
// within that cookie, length, offset, digits, lowest and highest value and a ratio, before the counts.
const (
	compressedCookie = 0x1c849304
	plainCookie      = 0x1c849303
	cookieMask       = ^uint32(0xf0) // word sizes, which say nothing here
	outerBytes       = 8
	innerBytes       = 40
	maxEncoded       = 64 << 20 // bytes that one may unpack to
)

// DecodeDistribution reads a histogram as EncodeHistogram writes it.
func DecodeDistribution(text string) (*Distribution, error) {
	packed, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(packed) < outerBytes || binary.BigEndian.Uint32(packed)&cookieMask != compressedCookie&cookieMask {
		return nil, errNoHistogram
	}
	z, err := zlib.NewReader(bytes.NewReader(packed[outerBytes:]))
	if err != nil {
		return nil, errNoHistogram
	}
	plain, err := io.ReadAll(io.LimitReader(z, maxEncoded))
	if err != nil || len(plain) < innerBytes || binary.BigEndian.Uint32(plain)&cookieMask != plainCookie&cookieMask {
		return nil, errNoHistogram
	}
	length, digits := int(binary.BigEndian.Uint32(plain[4:])), binary.BigEndian.Uint32(plain[12:])
	lowest := binary.BigEndian.Uint64(plain[16:])
	if offset := binary.BigEndian.Uint32(plain[8:]); offset != 0 || digits > 5 || lowest < 1 || lowest > 1<<40 || length > len(plain)-innerBytes {
		return nil, errNoHistogram
	}
	return decodeBars(plain[innerBytes:innerBytes+length], newScale(digits, lowest))
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
func decodeBars(text []byte, s scale) (*Distribution, error) {
	d := &Distribution{Bars: make([]Bar, 0, len(text)/2)} // each takes a byte at least, and a gap before most
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
		if !ok || n > math.MaxInt64-d.Total {
			return nil, errNoHistogram
		}
		d.Bars = append(d.Bars, Bar{from, to, n})
		d.Total += n
		place++
	}
	return d, nil
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

// Quantile is the upper end of the first range at or below which a share q of the values lies, in seconds; NaN without any.
func (d *Distribution) Quantile(q float64) float64 {
	if d.TotalCount() == 0 {
		return math.NaN()
	}
	want := min(max(int64(q*100/100*float64(d.Total)+0.5), 1), d.Total) // as the library rounds it
	var sum int64
	for _, b := range d.Bars {
		if sum += b.Count; sum >= want {
			return float64(b.To) / 1e9
		}
	}
	return float64(d.Bars[len(d.Bars)-1].To) / 1e9
}

// Sum adds up distributions. Those of other ranges than the rest cannot be added: ok is false then.
func Sum(all []*Distribution) (sum *Distribution, ok bool) {
	sum = &Distribution{}
	var lists [][]Bar
	for _, d := range all {
		if d.TotalCount() > 0 {
			lists = append(lists, d.Bars)
			sum.Total += d.Total
		}
	}
	// Two by two, so that what stands in most of them is soon but once there.
	for len(lists) > 1 {
		half := lists[:0]
		for i := 0; i < len(lists); i += 2 {
			if i+1 == len(lists) {
				half = append(half, lists[i])
				continue
			}
			both, ok := merge(lists[i], lists[i+1])
			if !ok {
				return nil, false
			}
			half = append(half, both)
		}
		lists = half
	}
	if len(lists) == 1 {
		sum.Bars = lists[0]
	}
	return sum, true
}

// merge adds up two lists of bars.
func merge(a, b []Bar) (out []Bar, ok bool) {
	out = make([]Bar, 0, len(a)+len(b)/4)
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
func distribution(text, what string, more ...any) (*Distribution, error) {
	d, err := DecodeDistribution(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", fmt.Sprintf(what, more...), err)
	}
	return d, nil
}
