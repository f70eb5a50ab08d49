package plan

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/invopop/jsonschema"
)

// Span is a length of time, written as in "500ms", "2s" or "1m30s"; never negative.
type Span time.Duration

const spanPattern = `^([0-9]+(\.[0-9]+)?(ns|us|µs|ms|s|m|h))+$`

// Read accepts what time.ParseDuration does, without signs.
func (s *Span) Read(text string) error {
	d, err := time.ParseDuration(text)
	if err != nil || strings.ContainsAny(text, "+-") || text == "0" {
		return fmt.Errorf("%q is not a length of time, write it as 500ms, 2s or 1m30s", text)
	}
	*s = Span(d)
	return nil
}

// D is the span as a time.Duration.
func (s Span) D() time.Duration { return time.Duration(s) }

// JSONSchema describes a span for the published schema.
func (Span) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Type: "string", Pattern: spanPattern, Description: "a length of time, as 500ms, 2s or 1m30s"}
}

// Fraction is a share of one, written "2%" or 0.02; from 0 up to and including 1.
type Fraction float64

const fractionPattern = `^([0-9]{1,2}(\.[0-9]+)?|100(\.0+)?)%$`

// Read accepts a percentage with its sign or a number from 0 to 1.
func (f *Fraction) Read(text string) error {
	number, isPercent := strings.CutSuffix(text, "%")
	v, err := strconv.ParseFloat(number, 64)
	if isPercent {
		v /= 100
	}
	if err != nil || !(v >= 0 && v <= 1) || strings.ContainsAny(number, "+-xXpP_") {
		return fmt.Errorf("%q is not a share, write it as 2%% or 0.02", text)
	}
	*f = Fraction(v)
	return nil
}

// JSONSchema describes a fraction for the published schema.
func (Fraction) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Description: "a share, as 2% or 0.02", OneOf: []*jsonschema.Schema{
		{Type: "string", Pattern: fractionPattern},
		{Type: "number", Minimum: "0", Maximum: "1"},
	}}
}

// Rate is a number of shots a second, written "500/s" or "90/m".
type Rate float64

const (
	ratePattern = `^[0-9]{1,7}(\.[0-9]+)?/[sm]$`
	// MaxRate is the highest rate, in shots a second: it keeps a slip of the keyboard from becoming a flood.
	MaxRate = 200_000
)

// Read accepts a number with /s or /m.
func (r *Rate) Read(text string) error {
	wrong := fmt.Errorf("%q is not a rate, write it as 500/s or 90/m, up to %d/s", text, MaxRate)
	number, unit, ok := strings.Cut(text, "/")
	v, err := strconv.ParseFloat(number, 64)
	if !ok || err != nil || strings.ContainsAny(number, "+-xXpPeEnN_") || unit != "s" && unit != "m" {
		return wrong
	}
	if unit == "m" {
		v /= 60
	}
	if !(v > 0 && v <= MaxRate) {
		return wrong
	}
	*r = Rate(v)
	return nil
}

func (r Rate) String() string { return strconv.FormatFloat(float64(r), 'g', 6, 64) + "/s" }

// JSONSchema describes a rate for the published schema.
func (Rate) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{
		Type: "string", Pattern: ratePattern, Description: "shots a second or minute, as 500/s or 90/m",
	}
}

// Level is an amount of load: a rate, or a number of clients at once. One of the two is set.
type Level struct {
	Rate    Rate
	Clients int
}

// Read accepts a rate (100/s) or a whole number.
func (l *Level) Read(text string) error {
	*l = Level{}
	if n, err := strconv.Atoi(text); err == nil && n >= 1 && n <= MaxClients {
		l.Clients = n
		return nil
	}
	if l.Rate.Read(text) != nil {
		return fmt.Errorf("%q is not a load, write a rate (500/s) or a number of clients (up to %d)", text, MaxClients)
	}
	return nil
}

// Value is the level as a number.
func (l Level) Value() float64 { return float64(l.Rate) + float64(l.Clients) }

// JSONSchema describes a level for the published schema.
func (Level) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Description: "a rate (500/s) or a number of clients", OneOf: []*jsonschema.Schema{
		{Type: "string", Pattern: ratePattern},
		{Type: "integer", Minimum: "1", Maximum: "1024"},
	}}
}

// Bytes is an amount of data, written as "64MiB", "10 kB" or a plain number of bytes.
type Bytes int64

const bytesPattern = `^[0-9]{1,15}(\.[0-9]+)? ?([kKMGT]?i?B)?$`

// Read accepts a number with an optional decimal (kB, MB) or binary (KiB, MiB) unit.
func (b *Bytes) Read(text string) error {
	n, err := humanize.ParseBytes(text)
	if err != nil || n > 1<<50 || strings.ContainsAny(text, "+-,") {
		return fmt.Errorf("%q is not an amount of data, write it as 64MiB or a number of bytes", text)
	}
	*b = Bytes(n)
	return nil
}

// JSONSchema describes an amount of data for the published schema.
func (Bytes) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Description: "an amount of data, as 64MiB or a number of bytes", OneOf: []*jsonschema.Schema{
		{Type: "string", Pattern: bytesPattern},
		{Type: "integer", Minimum: "0"},
	}}
}

// Warmup is what comes before the judged part of every heat: a length of time or a number of shots, never both.
type Warmup struct {
	For   Span
	Shots int
}

// Read accepts a whole number of shots or a span.
func (w *Warmup) Read(text string) error {
	if n, err := strconv.Atoi(text); err == nil {
		if n < 0 || n > 1_000_000 {
			return fmt.Errorf("%d warm-up shots is out of range, 0 to 1000000", n)
		}
		*w = Warmup{Shots: n}
		return nil
	}
	var s Span
	if err := s.Read(text); err != nil {
		return fmt.Errorf("%q is not a warm-up, write a time (500ms) or a number of shots (3)", text)
	}
	*w = Warmup{For: s}
	return nil
}

func (w Warmup) String() string {
	switch {
	case w.For > 0:
		return w.For.D().String()
	case w.Shots == 1:
		return "1 shot"
	case w.Shots > 0:
		return fmt.Sprintf("%d shots", w.Shots)
	}
	return "none"
}

// JSONSchema describes a warm-up for the published schema.
func (Warmup) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Description: "before the judged part of each heat: a length of time (500ms) or a number " +
		"of shots (3)", OneOf: []*jsonschema.Schema{
		{Type: "string", Pattern: spanPattern},
		{Type: "integer", Minimum: "0", Maximum: "1000000"},
	}}
}

// Word is a single word that may look like a number: arguments, header values, settings of the environment. Its text
// is kept as it was written.
type Word string

// Read accepts any text.
func (w *Word) Read(text string) error {
	*w = Word(text)
	return nil
}

// JSONSchema describes a word for the published schema.
func (Word) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Description: "a word or a number, taken as written", OneOf: []*jsonschema.Schema{
		{Type: "string"}, {Type: "number"}, {Type: "boolean"},
	}}
}

// Secret is a word that must come from the environment: a plan that holds it in clear is refused.
type Secret string

// Read accepts any text.
func (s *Secret) Read(text string) error {
	*s = Secret(text)
	return nil
}

// JSONSchema describes a secret for the published schema.
func (Secret) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{
		Type: "string", Pattern: `\$\{`, Description: "a secret, taken from the environment: ${NAME}",
	}
}

// Address says where something is that may ask for a password: one that stands in it in clear is refused.
type Address string

// Read accepts any text.
func (a *Address) Read(text string) error {
	*a = Address(text)
	return nil
}

var passwords = regexp.MustCompile(`^[a-zA-Z]+://[^/@]*?:(.*)@|[?&](?i:password|passwd|pwd)=([^&]*)`)

// HasClearPassword reports whether an address, as it is written in a plan, has a password that is no variable.
func HasClearPassword(written string) bool {
	for _, found := range passwords.FindAllStringSubmatch(written, -1) {
		if p := found[1] + found[2]; p != "" && !strings.HasPrefix(p, "${") {
			return true
		}
	}
	return false
}

// JSONSchema describes an address for the published schema.
func (Address) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Type: "string", MinLength: new(uint64(1))}
}

// Size is that of a terminal in cells, written as 80x24.
type Size struct{ Columns, Rows int }

const (
	maxSide     = 1000
	sizePattern = `^[0-9]{1,4}x[0-9]{1,4}$`
)

// Read accepts COLUMNSxROWS.
func (s *Size) Read(text string) error {
	columns, rows, ok := strings.Cut(text, "x")
	c, err1 := strconv.ParseUint(columns, 10, 16)
	r, err2 := strconv.ParseUint(rows, 10, 16)
	if !ok || err1 != nil || err2 != nil || c < 1 || r < 1 || c > maxSide || r > maxSide {
		return fmt.Errorf("%q is not a size of a terminal, write it as 80x24, up to %dx%d", text, maxSide, maxSide)
	}
	*s = Size{int(c), int(r)}
	return nil
}

func (s Size) String() string { return fmt.Sprintf("%dx%d", s.Columns, s.Rows) }

// JSONSchema describes a terminal's size for the published schema.
func (Size) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{
		Type: "string", Pattern: sizePattern, Description: "with stdout: terminal, its columns and rows; 80x24 unless said",
	}
}
