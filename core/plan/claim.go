package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"github.com/dustin/go-humanize"

	"paceduel/core/figure"
	"paceduel/core/units"
)

// Claim is a statement about contenders that a run upholds, refutes or leaves undecided:
//
//	joined p95 at least 2x faster than per-vessel
//	joined throughput at least 1.5x that of per-vessel
//	joined memory at most 1.2x that of per-vessel
//	joined memory not more than 1.2x per-vessel
//	slim bytes at most 10% of full
//	joined at least 70 % less time than per-vessel
//	joined at least 70 % faster than per-vessel
//	joined p99 under 20ms
//	joined error rate under 0.1%
//	error rate of joined under 0.1 %
//	tidy cold p50 over 5ms
//	joined best
type Claim struct {
	Text      string
	Contender string
	State     string      // of caches, as cold, or the place asked from; empty: any
	Figure    figure.Name // empty: the one that the verdict rests on
	How       ClaimHow
	Factor    float64 // of the two first
	Limit     float64 // in the figure's unit: seconds, shots a second, bytes, a share
	Than      string  // the other contender
	At        Along   // where in a sweep it holds
	Reading   string  // what a share in it is read as, where that is not plain: "at least 1.7x faster"; else empty
}

// ClaimHow is what a claim says of its figure.
type ClaimHow int

// The kinds of claims.
const (
	AtLeast ClaimHow = iota // better than the other's by a factor, or more than it by one
	AtMost                  // no more than a factor of the other's
	Under                   // a limit
	Over
	Best // better than everybody else
)

// ClaimError is a claim that cannot be understood: At is the byte of its text where that shows.
type ClaimError struct {
	At        int
	What, Try string
}

func (e *ClaimError) Error() string { return e.What + suffix("; ", e.Try) }

func suffix(before, text string) string {
	if text == "" {
		return ""
	}
	return before + text
}

// claimReader reads the words of a claim.
type claimReader struct {
	text   string
	at     int
	names  []string // of contenders, the longest first
	states []string
	marks  []figure.Name
}

// ParseClaim reads a claim about the contenders of these names, and what they tell of themselves; places are states
// beside those of caches. The error is a *ClaimError.
func ParseClaim(text string, names, places []string, marks ...figure.Name) (Claim, error) {
	names = slices.Clone(names)
	slices.SortFunc(names, func(a, b string) int { return len(b) - len(a) })
	marks = slices.Clone(marks)
	slices.SortStableFunc(marks, func(a, b figure.Name) int { return len(b) - len(a) })
	r := &claimReader{text: text, names: names, marks: marks, states: append(slices.Clone(StateNames), places...)}
	c := Claim{Text: text}
	err := r.read(&c)
	return c, err
}

func (r *claimReader) fail(at int, try, what string, args ...any) error {
	return &ClaimError{at, fmt.Sprintf(what, args...), try}
}

func (r *claimReader) skip() {
	for r.at < len(r.text) && unicode.IsSpace(rune(r.text[r.at])) {
		r.at++
	}
}

// word is the next word, which stays.
func (r *claimReader) word() string {
	r.skip()
	end := r.at
	for end < len(r.text) && !unicode.IsSpace(rune(r.text[end])) {
		end++
	}
	return r.text[r.at:end]
}

// take takes a text if it is next, as whole words.
func (r *claimReader) take(text string) bool {
	r.skip()
	rest, ok := strings.CutPrefix(r.text[r.at:], text)
	if !ok || rest != "" && !unicode.IsSpace(rune(rest[0])) {
		return false
	}
	r.at += len(text)
	return true
}

// next reports whether one of these figures comes next, as first answer does, which is no state.
func (r *claimReader) next(figures []figure.Name) bool {
	at := r.at
	defer func() { r.at = at }()
	return slices.ContainsFunc(figures, func(f figure.Name) bool { return r.take(f.Spoken()) })
}

// own is what a contender tells of itself by name, in quotes or a word, with how often it does it where that follows;
// it stays.
func (r *claimReader) own() string {
	name := r.word()
	if rest, quoted := strings.CutPrefix(r.text[r.at:], `"`); quoted {
		inner, _, closed := strings.Cut(rest, `"`)
		if closed {
			name = `"` + inner + `"`
		}
	}
	counted := " " + string(HowOften)
	if after := r.text[min(r.at+len(name), len(r.text)):]; after == counted || strings.HasPrefix(after, counted+" ") {
		name += counted
	}
	return name
}

func (r *claimReader) contender() (string, error) {
	for _, name := range r.names {
		if r.take(name) {
			return name, nil
		}
	}
	if r.word() == "" {
		return "", r.fail(r.at, PointTo("", r.names), "a contender is missing")
	}
	return "", r.fail(r.at, PointTo(r.word(), r.names), "no contender is called %q", r.word())
}

// isContender reports whether the next words name one, and stays before them.
func (r *claimReader) isContender() bool {
	at := r.at
	defer func() { r.at = at }()
	return slices.ContainsFunc(r.names, r.take)
}

// read reads the claim word by word. It is long since each kind of claim is a case.
func (r *claimReader) read(c *Claim) (err error) {
	for _, f := range figure.For(figure.InClaims) { // error rate of joined
		if f.Row().Limits && c.Figure == "" && r.take(f.Spoken()+" of") {
			c.Figure = f
		}
	}
	if c.Contender, err = r.contender(); err != nil {
		return err
	}
	state := func() {
		for _, state := range r.states {
			if c.State == "" && State(state) != AsFound && !r.next(figure.For(figure.InClaims)) && r.take(state) {
				c.State = state
			}
		}
	}
	state()
	all := append(figure.For(figure.InClaims), r.marks...)
	slices.SortStableFunc(all, func(a, b figure.Name) int { // "p50 of operation" begins like p50
		return cmp.Compare(len(b.Spoken()), len(a.Spoken()))
	})
	r.stream(c)
	for _, f := range all {
		if c.Figure != "" {
			break
		}
		if r.take(f.Spoken()) || f.IsRate() && r.take(strings.TrimSuffix(f.Spoken(), "/s")) {
			c.Figure = f
			break
		}
	}
	if at := r.at; c.Figure == "" && r.take(strings.TrimSpace(ToldBySelf)) {
		name := r.own()
		if f, ok := TakeOwn(ToldBySelf + name); ok {
			c.Figure, r.at = f, r.at+len(name)
		} else {
			r.at = at
		}
	}
	state() // which may as well stand behind the figure
	at := r.at
	switch {
	case r.take("at least"):
		c.How = AtLeast
	case r.take("at most"), r.take("not more than"):
		c.How = AtMost
	case r.take("under"):
		c.How = Under
	case r.take("over"):
		c.How = Over
	case r.take("best"):
		c.How = Best
	default:
		var known []string
		if c.Figure == "" {
			for _, f := range append(figure.For(figure.InClaims), r.marks...) {
				known = append(known, f.Spoken())
			}
		}
		known = append(known, "at least", "at most", "not more than", "under", "over", "best")
		r.skip()
		return r.fail(r.at, PointTo(r.word(), known), "%q says neither which figure nor how much", r.word())
	}
	if c.Figure == "" && (c.How == Under || c.How == Over) {
		return r.fail(at, "name a figure, as p99", "nothing says which figure")
	}
	switch c.How {
	case Under, Over:
		err = r.limit(c)
	case Best:
		err = r.limitsAlone(c, at)
	default:
		err = r.ratio(c)
	}
	if r.skip(); err == nil && r.at < len(r.text) {
		err = r.fail(r.at, "leave it out", "%q is more than a claim says", r.text[r.at:])
	}
	return err
}

// limitsAlone refuses a figure that is only held to limits.
func (r *claimReader) limitsAlone(c *Claim, at int) error {
	if c.Figure == "" || !c.Figure.Row().Limits {
		return nil
	}
	limit := "0.1%"
	if c.Figure.Unit() == units.Second {
		limit = "2s"
	}
	return r.fail(at, "write it as: "+c.Figure.Spoken()+" under "+limit, "%s is held to a limit", c.Figure.Spoken())
}

// stream takes the figure of a stream, if that is next: p99 of ping, longest of "select pilot".
func (r *claimReader) stream(c *Claim) {
	r.skip()
	for _, m := range r.marks { // a mark may be called so
		if strings.HasPrefix(r.text[r.at:], m.Spoken()) {
			return
		}
	}
	begin := r.at
	of := r.word()
	if r.at += len(of); !r.take("of") {
		r.at = begin
		return
	}
	name := r.own()
	if f, ok := figure.ParseOf(of + " of " + name); ok {
		c.Figure, r.at = f, r.at+len(name)
		return
	}
	r.at = begin
}

// ratio reads "2x faster than B", "1.5x that of B", "10% of B".
func (r *claimReader) ratio(c *Claim) (err error) {
	word := r.word()
	at := r.at
	if r.at+len(word)+2 <= len(r.text) && r.text[r.at+len(word):r.at+len(word)+2] == " %" { // 10 %
		word = r.text[r.at : r.at+len(word)+2]
	}
	number, isTimes := strings.CutSuffix(word, "x")
	share, isShare := strings.CutSuffix(word, "%")
	switch {
	case isTimes:
		c.Factor, err = strconv.ParseFloat(number, 64)
	case isShare:
		c.Factor, err = strconv.ParseFloat(strings.TrimSpace(share), 64)
		c.Factor /= 100
	default:
		err = strconv.ErrSyntax
	}
	if err != nil || !(c.Factor > 0 && c.Factor < 1e6) {
		return r.fail(at, "write it as 2x or 10%", "%q is not a factor", word)
	}
	r.at += len(word)
	way, isApart, err := r.apart(c)
	switch {
	case err != nil:
		return err
	case isApart && isShare:
		err = r.shareApart(c, at, word, way)
	case isApart:
		err = r.fail(
			at, "write it as: at least 2x faster than …, or 30 % less time than …", "%s %s is not a claim", word, way,
		)
	case r.take("faster than"), r.take("better than"):
		if c.How != AtLeast {
			return r.fail(at, "write it as: at least 2x faster than …", "faster goes with at least")
		}
		if isShare {
			c.Factor++
			c.Reading = "at least " + units.Times(c.Factor) + " faster"
		}
		if err := r.limitsAlone(c, at); err != nil {
			return err
		}
	case r.take("that of"), r.take("of"), c.How == AtMost && r.isContender():
		if c.Figure == "" {
			return r.fail(at, "name a figure, as p99", "nothing says which figure")
		}
		if c.How == AtLeast && !c.Figure.MoreIsBetter() {
			return r.fail(
				at, "write it as: at least 2x faster than …, or at most 1.2x that of …", "less of %s is better",
				c.Figure.Spoken(),
			)
		}
		if err := r.limitsAlone(c, at); err != nil {
			return err
		}
	default:
		r.skip()
		return r.fail(r.at, PointTo(r.word(), []string{
			"faster than", "better than", "that of", "of",
		}), "%q does not say than whom", r.word())
	}
	if err != nil {
		return err
	}
	c.Than, err = r.contender()
	if err == nil && c.Than == c.Contender {
		return r.fail(r.at, "", "%s against itself", c.Than)
	}
	return err
}

// apart takes "less time than", "fewer bytes than", "more throughput than": isApart says that it was there, less which
// of the two. What it names is the figure, where none was named before.
func (r *claimReader) apart(c *Claim) (less string, isApart bool, err error) {
	begin := r.at
	for _, way := range []string{"less", "fewer", "more"} {
		if !r.take(way) {
			continue
		}
		named := map[string]figure.Name{
			"memory": figure.Memory, "CPU": figure.CPU, "cpu": figure.CPU, "bytes": figure.Received, "time": "",
			"throughput": figure.Throughput,
		}
		for what, fig := range named {
			if !r.take(what) {
				continue
			}
			switch {
			case c.Figure == "":
				c.Figure = fig
			case fig != "" && fig != c.Figure || what == "time" && c.Figure.Unit() != units.Second:
				return "", false, r.fail(begin, "name one of them", "%s, and then %s", c.Figure.Spoken(), what)
			}
			break
		}
		if !r.take("than") {
			r.skip()
			return "", false, r.fail(r.at, PointTo(r.word(), []string{"than", "time", "memory", "CPU", "bytes",
				"throughput"}),
				"%q does not say than whom", r.word())
		}
		return way, true, nil
	}
	return "", false, nil
}

// shareApart is a claim of so many percent less or more.
func (r *claimReader) shareApart(c *Claim, at int, word, way string) error {
	isMore := way == "more"
	moreIsBetter := c.Figure != "" && c.Figure.MoreIsBetter()
	if err := r.limitsAlone(c, at); err != nil {
		return err
	}
	switch {
	case !isMore && c.How == AtLeast && !moreIsBetter && c.Factor < 1:
		c.Factor = 1 / (1 - c.Factor) // so many times better
		c.Reading = "at least " + units.Times(c.Factor) + " better"
	case isMore && c.How == AtMost && !moreIsBetter, isMore && c.How == AtLeast && moreIsBetter:
		c.Factor++
	default:
		return r.fail(
			at, "write it as: at least 30 % less time than …, or at most 20 % more memory than …", "%s %s %s is not a claim",
			map[ClaimHow]string{AtLeast: "at least", AtMost: "at most"}[c.How], word, way,
		)
	}
	return nil
}

// nanoseconds reads a time that may have parts of them: 1.3ns, 250us, 2ms.
func nanoseconds(text string) (ns float64, err error) {
	if number, ok := strings.CutSuffix(text, "ns"); ok {
		return strconv.ParseFloat(number, 64)
	}
	var s Span
	err = s.Read(text)
	return float64(s.D()), err
}

// limit reads a value in the figure's unit.
func (r *claimReader) limit(c *Claim) (err error) {
	r.skip()
	at, text := r.at, strings.TrimSpace(r.text[r.at:])
	r.at = len(r.text)
	switch unit := c.Figure.Unit(); unit {
	case units.Second:
		var s Span
		err = s.Read(strings.ReplaceAll(text, " ", ""))
		c.Limit = s.D().Seconds()
	case units.Nanosecond:
		c.Limit, err = nanoseconds(strings.ReplaceAll(text, " ", ""))
	case units.PerSecond:
		var rate Rate
		err = rate.Read(strings.ReplaceAll(text, " ", ""))
		c.Limit = float64(rate)
	case units.Byte, units.BytesPerSecond:
		var n uint64
		n, err = humanize.ParseBytes(strings.TrimSuffix(text, "/s"))
		c.Limit = float64(n)
	case units.Part:
		number, isShare := strings.CutSuffix(text, "%")
		c.Limit, err = strconv.ParseFloat(strings.TrimSpace(number), 64)
		if c.Limit /= 100; err == nil && (!isShare || c.Limit > 1) {
			err = strconv.ErrSyntax
		}
	default:
		c.Limit, err = strconv.ParseFloat(text, 64)
	}
	if err != nil || !(c.Limit > 0) {
		return r.fail(at, "write "+unitOf(c.Figure), "%q is not a limit for %s", text, c.Figure.Spoken())
	}
	return nil
}

// unitOf says how a limit of a figure is written.
func unitOf(f figure.Name) string {
	switch f.Unit() {
	case units.Second:
		return "a time, as 20ms"
	case units.Nanosecond:
		return "a time, as 1.3ns or 250us"
	case units.PerSecond:
		return "a rate, as 500/s"
	case units.Byte:
		return "an amount, as 10MiB"
	case units.BytesPerSecond:
		return "an amount a second, as 200MB/s"
	case units.Part:
		return "a share, as 0.1%"
	}
	return "a number"
}
