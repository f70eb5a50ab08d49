package weighin

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/go-openapi/jsonpointer"

	"paceduel/core/footing"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Answer is a contender's first answer as far as it is compared.
type Answer struct {
	Name    string
	Outcome string         // status or exit code, in words
	Own     bool           // the outcome is one that the plan expects of this contender
	Type    string         // content type; empty where there is none
	Body    []byte         // decoded, and put through the plan's filter where it has one
	Whole   bool           // whether Body is all of it
	State   string         // of caches, when there is more than one
	Files   []footing.File // written in its workspace; by path

	raw     []byte // the body before the filter
	length  int64  // of the answer as shots count it, see shots.Shot
	through string // the filter; empty without one
	unread  string // why the filter failed; empty when it did not
}

const (
	maxCompared    = 128 << 20 // bytes of an answer; what is longer is compared as far as this
	maxDifferences = 20        // of one check, the first ones
	maxShown       = 60        // characters of a value that differs
)

// Compare holds every answer to the first one, which is the baseline's. Without rules, outcome, content type and bytes
// are looked at, and the outcome says that this was no rule of the plan.
func Compare(rules *plan.Same, answers []Answer) *result.Weighing {
	w := &result.Weighing{Ruled: rules.Ruled()}
	if len(answers) == 0 {
		return w
	}
	base := answers[0]
	for i, a := range answers {
		from := len(w.Checks)
		if !a.Whole {
			w.Checks = append(w.Checks, result.Check{
				Contender: a.Name, Rule: fmt.Sprintf("compared as far as %d MiB", maxCompared>>20), Same: true,
			})
		}
		switch {
		case i == 0:
		case !rules.Ruled():
			w.Checks = append(w.Checks, sameOutcome(base, a),
				simple(a.Name, "content type", "content type", base.Type, a.Type), exact(base, a))
		default:
			w.Checks = append(w.Checks, sameOutcome(base, a))
			if base.unread == "" && a.unread == "" {
				w.Checks = append(w.Checks, ruled(rules, base, a)...)
			}
		}
		if a.through != "" && (i == 0 || a.unread != "") {
			c := result.Check{
				Contender: a.Name, Rule: "read through " + units.Printable(strings.TrimSpace(a.through)), Same: a.unread == "",
			}
			if !c.Same {
				c.Differences = []result.Difference{{Where: "the filter", Baseline: "its answer", Contender: a.unread}}
			}
			w.Checks = append(w.Checks, c)
		}
		if rules.Ruled() && rules.Match != "" && a.unread == "" {
			w.Checks = append(w.Checks, matches(rules.Match, a))
		}
		for j := from; j < len(w.Checks); j++ {
			w.Checks[j].State = a.State
		}
	}
	return w
}

func ruled(rules *plan.Same, base, a Answer) (checks []result.Check) {
	switch rules.Body {
	case "exact":
		checks = append(checks, exact(base, a))
	case "json":
		checks = append(checks, sameJSON(rules, base, a))
	case "lines":
		checks = append(checks, simple(a.Name, "as many lines", "lines", lineCount(base.Body), lineCount(a.Body)))
	case "rows":
		checks = append(checks, sameRows(rules, base, a))
	}
	if rules.Files != "" {
		checks = append(checks, sameFiles(rules.Files, base, a))
	}
	for _, pointer := range rules.At {
		checks = append(checks, sameAt(pointer, base, a))
	}
	if rules.Count != "" {
		pattern := regexp.MustCompile(rules.Count) // the plan was refused if it is none
		count := func(b []byte) string { return strconv.Itoa(len(pattern.FindAllIndex(b, -1))) }
		checks = append(checks, simple(a.Name, "as many matches of "+rules.Count, "matches", count(base.Body), count(a.Body)))
	}
	return checks
}

// sameOutcome compares outcomes, unless the plan itself expects one that differs: that is the contender's own rule.
func sameOutcome(base, a Answer) result.Check {
	if base.Outcome != a.Outcome && (base.Own || a.Own) {
		return result.Check{Contender: a.Name, Rule: a.Outcome + ", as the plan expects of it", Same: true}
	}
	return simple(a.Name, "outcome", "outcome", base.Outcome, a.Outcome)
}

// simple compares two values that are short texts.
func simple(contender, rule, where, base, own string) result.Check {
	c := result.Check{Contender: contender, Rule: rule, Same: base == own}
	if !c.Same {
		c.Differences = []result.Difference{{Where: where, Baseline: base, Contender: own}}
	}
	return c
}

func matches(pattern string, a Answer) result.Check {
	c := result.Check{Contender: a.Name, Rule: "matches " + pattern, Same: regexp.MustCompile(pattern).Match(a.Body)}
	if !c.Same {
		c.Differences = []result.Difference{{Where: "answer", Baseline: "a match of " + pattern, Contender: show(a.Body)}}
	}
	return c
}

func lineCount(body []byte) string {
	n := bytes.Count(body, []byte{'\n'})
	if len(body) > 0 && body[len(body)-1] != '\n' {
		n++
	}
	return strconv.Itoa(n)
}

// exact compares bytes and shows the first lines that differ, or where bytes that are no text do.
func exact(base, a Answer) result.Check {
	c := result.Check{Contender: a.Name, Rule: "the same bytes", Same: bytes.Equal(base.Body, a.Body)}
	if c.Same {
		return c
	}
	if !utf8.Valid(head(base.Body)) || !utf8.Valid(head(a.Body)) {
		at := firstDifference(base.Body, a.Body)
		c.Differences = []result.Difference{{
			Where: fmt.Sprintf("byte %d of %d and %d", at, len(base.Body), len(a.Body)), Baseline: bytesFrom(base.Body, at),
			Contender: bytesFrom(a.Body, at),
		}}
		return c
	}
	c.Differences = lineDifferences(base.Body, a.Body)
	return c
}

// lineDifferences are the first lines of two texts that differ, each with what stands in its place.
func lineDifferences(base, own []byte) (out []result.Difference) {
	// What both begin with needs no pairing, and what is far behind the first difference is not shown.
	at := bytes.LastIndexByte(base[:firstDifference(base, own)], '\n') + 1
	before := bytes.Count(base[:at], []byte{'\n'})
	left, right := linesOf(base[at:]), linesOf(own[at:])
	for _, p := range Pairs(left, right) {
		if p.Same {
			continue
		}
		if len(out) == maxDifferences {
			break
		}
		d := result.Difference{Where: lineNumber(before + max(p.Left, p.Right)), Baseline: missing, Contender: missing}
		switch {
		case p.Left < 0:
			d.Contender = show(bare(right[p.Right]))
		case p.Right < 0:
			d.Baseline = show(bare(left[p.Left]))
		default:
			d.Baseline, d.Contender = apart(left[p.Left], right[p.Right])
			if p.Left != p.Right {
				d.Where = fmt.Sprintf("lines %d and %d", before+p.Left+1, before+p.Right+1)
			}
		}
		out = append(out, d)
	}
	return out
}

// missing stands for what only one of two answers has.
const missing = "missing"

// apart is how two lines differ: from the place itself on, with a little before it.
func apart(left, right string) (l, r string) {
	a, b := bare(left), bare(right)
	if bytes.Equal(a, b) {
		ends := map[bool]string{true: "its end of line", false: "no end of line"}
		return ends[strings.HasSuffix(left, "\n")], ends[strings.HasSuffix(right, "\n")]
	}
	from := max(firstDifference(a, b)-10, 0)
	return show(a[min(from, len(a)):]), show(b[min(from, len(b)):])
}

// bare is a line without its end.
func bare(line string) []byte { return []byte(strings.TrimSuffix(line, "\n")) }

func lineNumber(n int) string { return fmt.Sprintf("line %d", n+1) }

// maxPaired bounds the bytes of a text whose lines are paired, but for the first of them.
const maxPaired = 1 << 20

// linesOf is the beginning of a text in lines, each with its end.
func linesOf(text []byte) (lines []string) {
	taken := 0
	for line := range bytes.Lines(text) {
		lines = append(lines, string(line))
		if taken += len(line); taken > maxPaired {
			break
		}
	}
	return lines
}

func head(b []byte) []byte {
	b = b[:min(len(b), 4096)]
	for len(b) > 0 && len(b) == 4096 && !utf8.RuneStart(b[len(b)-1]) {
		b = b[:len(b)-1]
	}
	if len(b) >= 4093 && b[len(b)-1] >= utf8.RuneSelf {
		b = b[:len(b)-1]
	}
	return b
}

func firstDifference(a, b []byte) int {
	n := min(len(a), len(b))
	for i := range n {
		if a[i] != b[i] {
			return i
		}
	}
	return n
}

func bytesFrom(b []byte, at int) string {
	if at >= len(b) {
		return "the end"
	}
	return fmt.Sprintf("% x", b[at:min(at+16, len(b))])
}

// show is a value in little room.
func show(b []byte) string {
	if len(b) == 0 {
		return "nothing"
	}
	text := []rune(string(b[:min(len(b), 4*maxShown)]))
	if len(text) > maxShown {
		text = append(text[:maxShown-1], '…')
	}
	return string(text)
}

// sameRows compares rows as a set in which each may stand several times: whole lines, or keys where the plan says what
// identifies a row.
func sameRows(rules *plan.Same, base, a Answer) result.Check {
	c := result.Check{Contender: a.Name, Rule: "the same rows in any order", Same: true}
	if rules.Key != "" {
		c.Rule = "the same rows by " + string(rules.Key)
	}
	left, leftErr := rowsOf(rules, base.Body)
	right, rightErr := rowsOf(rules, a.Body)
	if leftErr != nil || rightErr != nil {
		c.Same = false
		c.Differences = []result.Difference{{Where: "rows", Baseline: orRows(leftErr), Contender: orRows(rightErr)}}
		return c
	}
	counts := map[string]int{}
	for _, row := range left {
		counts[row]++
	}
	for _, row := range right {
		counts[row]--
	}
	for _, row := range slices.Sorted(maps.Keys(counts)) {
		n := counts[row]
		if n == 0 {
			continue
		}
		c.Same = false
		if len(c.Differences) < maxDifferences {
			d := result.Difference{Where: "row", Baseline: show([]byte(row)), Contender: missing}
			if n < 0 {
				d.Baseline, d.Contender = d.Contender, d.Baseline
			}
			c.Differences = append(c.Differences, d)
		}
	}
	return c
}

func orRows(err error) string {
	if err != nil {
		return err.Error()
	}
	return "rows"
}

// rowsOf lists an answer's rows by what identifies them.
func rowsOf(rules *plan.Same, body []byte) (rows []string, err error) {
	if strings.HasPrefix(string(rules.Key), "/") {
		return rowsOfJSON(rules, body)
	}
	var pattern *regexp.Regexp
	if rules.Key != "" {
		pattern = regexp.MustCompile(string(rules.Key)) // the plan was refused if it is none
	}
	for line := range bytes.Lines(body) {
		line = bytes.TrimRight(line, "\r\n")
		if pattern == nil {
			rows = append(rows, string(line))
		} else if found := pattern.FindSubmatch(line); found != nil {
			rows = append(rows, string(found[1]))
		}
	}
	if pattern != nil && len(rows) == 0 && len(body) > 0 {
		return nil, fmt.Errorf("no line matches %s", rules.Key)
	}
	return rows, nil
}

func rowsOfJSON(rules *plan.Same, body []byte) (rows []string, err error) {
	whole, err := parse(body)
	if err != nil {
		return nil, fmt.Errorf("no JSON: %w", err)
	}
	at, err := follow(rules.List, whole)
	if err != nil {
		return nil, err
	}
	list, ok := at.([]any)
	if !ok {
		return nil, fmt.Errorf("no list at %q", rules.List)
	}
	for i, row := range list {
		key, err := follow(string(rules.Key), row)
		if err != nil {
			return nil, fmt.Errorf("row %d has no %s", i, rules.Key)
		}
		rows = append(rows, written(key))
	}
	return rows, nil
}

// follow is what a JSON Pointer leads to.
func follow(pointer string, v any) (any, error) {
	p, err := jsonpointer.New(pointer)
	if err != nil {
		return nil, err
	}
	found, _, err := p.Get(v)
	if err != nil {
		return nil, fmt.Errorf("nothing at %s", pointer)
	}
	return found, nil
}

// sameFiles compares what was written in the workspaces.
func sameFiles(how string, base, a Answer) result.Check {
	words := map[string]string{
		"hash": "the same files written, by contents", "size": "the same files written, by size",
		"names": "the same files written, by name",
	}
	c := result.Check{Contender: a.Name, Rule: words[how], Same: true}
	own := map[string]footing.File{}
	for _, f := range a.Files {
		own[f.Path] = f
	}
	say := func(f footing.File) string {
		switch how {
		case "hash":
			return fmt.Sprintf("%d bytes, sha256 %.12s", f.Bytes, f.SHA256)
		case "size":
			return fmt.Sprintf("%d bytes", f.Bytes)
		}
		return "written"
	}
	differ := func(path, left, right string) {
		if left == right {
			return
		}
		c.Same = false
		if len(c.Differences) < maxDifferences {
			c.Differences = append(c.Differences, result.Difference{Where: path, Baseline: left, Contender: right})
		}
	}
	for _, f := range base.Files {
		right := "not written"
		if o, ok := own[f.Path]; ok {
			right = say(o)
			delete(own, f.Path)
		}
		differ(f.Path, say(f), right)
	}
	for _, path := range slices.Sorted(maps.Keys(own)) {
		differ(path, "not written", say(own[path]))
	}
	return c
}

// parse reads JSON with its numbers as written.
func parse(body []byte) (any, error) {
	if isDeep(body) {
		return nil, errDeep
	}
	dec := json.NewDecoder(bytes.NewReader(body))
	dec.UseNumber()
	var v any
	err := dec.Decode(&v)
	return v, err
}

func sameJSON(rules *plan.Same, base, a Answer) result.Check {
	c := result.Check{Contender: a.Name, Rule: "the same JSON"}
	if len(rules.Ignore) > 0 {
		c.Rule += " but for " + strings.Join(rules.Ignore, ", ")
	}
	left, leftErr := parse(base.Body)
	right, rightErr := parse(a.Body)
	if leftErr != nil || rightErr != nil {
		c.Differences = []result.Difference{{Where: "answer", Baseline: orJSON(leftErr), Contender: orJSON(rightErr)}}
		return c
	}
	effort := maxEffort
	cmp := comparison{rules: rules, most: maxDifferences, effort: &effort}
	for _, i := range rules.Ignore {
		cmp.ignore = append(cmp.ignore, strings.Split(i, "/"))
	}
	cmp.compare(nil, left, right)
	c.Same, c.Differences = len(cmp.found) == 0, cmp.found
	return c
}

func orJSON(err error) string {
	if err != nil {
		return "no JSON: " + err.Error()
	}
	return "JSON"
}

// comparison walks through two JSON values side by side.
type comparison struct {
	rules  *plan.Same
	ignore [][]string // JSON Pointers in parts, the first of which is empty
	found  []result.Difference
	most   int  // differences after which it ends
	effort *int // comparisons that may still be made to match lists
}

// maxEffort bounds the comparisons of two answers whose lists may be in any order.
const maxEffort = 2_000_000

// ignored reports whether the place is left out; * stands for any part.
func (c *comparison) ignored(path []string) bool {
	return slices.ContainsFunc(c.ignore, func(pointer []string) bool {
		if len(pointer)-1 != len(path) {
			return false
		}
		for i, part := range path {
			if want := pointer[i+1]; want != "*" && jsonpointer.Unescape(want) != part {
				return false
			}
		}
		return true
	})
}

func (c *comparison) differ(path []string, left, right any) {
	if len(c.found) == c.most {
		return
	}
	where := ""
	for _, part := range path {
		where += "/" + jsonpointer.Escape(part)
	}
	if where == "" {
		where = "/"
	}
	c.found = append(c.found, result.Difference{Where: where, Baseline: written(left), Contender: written(right)})
}

// absent stands for a member that one side does not have.
type absent struct{}

func written(v any) string {
	if _, ok := v.(absent); ok {
		return missing
	}
	text, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return show(text)
}

func (c *comparison) compare(path []string, left, right any) {
	if *c.effort--; c.ignored(path) || len(c.found) == c.most {
		return
	}
	switch l := left.(type) {
	case map[string]any:
		if r, ok := right.(map[string]any); ok {
			c.objects(path, l, r)
			return
		}
	case []any:
		if r, ok := right.([]any); ok {
			c.lists(path, l, r)
			return
		}
	case json.Number:
		if r, ok := right.(json.Number); ok && sameNumber(l, r, float64(c.rules.Tolerance)) {
			return
		}
	default:
		if left == right {
			return
		}
	}
	c.differ(path, left, right)
}

func sameNumber(a, b json.Number, tolerance float64) bool {
	x, errX := a.Float64()
	y, errY := b.Float64()
	if errX != nil || errY != nil {
		return a == b
	}
	if tolerance == 0 && a != b && x == y {
		// Numbers too long for a float are told apart by their digits.
		return len(strings.TrimLeft(a.String(), "-0.")) < 16 && len(strings.TrimLeft(b.String(), "-0.")) < 16
	}
	return math.Abs(x-y) <= tolerance*math.Max(math.Abs(x), math.Abs(y))
}

func (c *comparison) objects(path []string, left, right map[string]any) {
	names := slices.Sorted(maps.Keys(left))
	for name := range right {
		if _, ok := left[name]; !ok {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		at := append(path[:len(path):len(path)], name)
		l, okL := left[name]
		r, okR := right[name]
		switch {
		case c.ignored(at):
		case !okL:
			c.differ(at, absent{}, r)
		case !okR:
			c.differ(at, l, absent{})
		default:
			c.compare(at, l, r)
		}
	}
}

func (c *comparison) lists(path []string, left, right []any) {
	if c.rules.Unordered {
		left, right = c.unmatched(path, left, right)
	}
	for i := range max(len(left), len(right)) {
		at := append(path[:len(path):len(path)], strconv.Itoa(i))
		switch {
		case i >= len(left):
			c.differ(at, absent{}, right[i])
		case i >= len(right):
			c.differ(at, left[i], absent{})
		default:
			c.compare(at, left[i], right[i])
		}
	}
}

// maxPairs bounds the pairs that are tried to match lists whose order does not count.
const maxPairs = 1 << 20

// unmatched takes out of two lists what both have, in whatever order: first what is written alike, then what is the
// same by the rules. What is left differs.
func (c *comparison) unmatched(path []string, left, right []any) (restLeft, restRight []any) {
	*c.effort -= len(left) + len(right)
	written := map[digest][]int{} // → places in right that have it
	for i, v := range right {
		text := digestOf(v)
		written[text] = append(written[text], i)
	}
	taken := make([]bool, len(right))
	for _, v := range left {
		text := digestOf(v)
		if places := written[text]; len(places) > 0 {
			taken[places[0]], written[text] = true, places[1:]
			continue
		}
		restLeft = append(restLeft, v)
	}
	for i, v := range right {
		if !taken[i] {
			restRight = append(restRight, v)
		}
	}
	if len(restLeft)*len(restRight) > maxPairs || *c.effort <= 0 {
		return restLeft, restRight
	}
	at := append(path[:len(path):len(path)], "*")
	restLeft = slices.DeleteFunc(restLeft, func(l any) bool {
		i := slices.IndexFunc(restRight, func(r any) bool {
			if *c.effort <= 0 {
				return false
			}
			sub := comparison{rules: c.rules, ignore: c.ignore, most: 1, effort: c.effort}
			sub.compare(at, l, r)
			return len(sub.found) == 0 && *c.effort > 0
		})
		if i >= 0 {
			restRight = slices.Delete(restRight, i, i+1)
		}
		return i >= 0
	})
	return restLeft, restRight
}

// digest stands for a value whatever the order of its members and lists: values with the same digest are the same.
type digest [sha256.Size]byte

func digestOf(v any) digest {
	h := sha256.New()
	switch v := v.(type) {
	case map[string]any:
		h.Write([]byte("{"))
		for _, name := range slices.Sorted(maps.Keys(v)) {
			member := digestOf(v[name])
			fmt.Fprintf(h, "%d:%s", len(name), name)
			h.Write(member[:])
		}
	case []any:
		h.Write([]byte("["))
		items := make([]digest, len(v))
		for i := range v {
			items[i] = digestOf(v[i])
		}
		slices.SortFunc(items, func(a, b digest) int { return bytes.Compare(a[:], b[:]) })
		for _, item := range items {
			h.Write(item[:])
		}
	default:
		fmt.Fprintf(h, "%T:%v", v, v)
	}
	return digest(h.Sum(nil))
}

func sameAt(pointer string, base, a Answer) result.Check {
	at := func(body []byte) (any, error) {
		v, err := parse(body)
		if err != nil {
			return nil, fmt.Errorf("no JSON: %w", err)
		}
		found, err := follow(pointer, v)
		if err != nil {
			return absent{}, nil
		}
		return found, nil
	}
	left, leftErr := at(base.Body)
	right, rightErr := at(a.Body)
	value := func(v any, err error) string {
		if err != nil {
			return err.Error()
		}
		return written(v)
	}
	c := simple(a.Name, "the same value at "+pointer, pointer, value(left, leftErr), value(right, rightErr))
	c.Same = c.Same && leftErr == nil && left != absent{}
	if !c.Same && c.Differences == nil {
		c.Differences = []result.Difference{
			{Where: pointer, Baseline: value(left, leftErr), Contender: value(right, rightErr)},
		}
	}
	return c
}
