// Package weighin is the check before any timing: one full shot of each contender, with what it answered in view.
//
// A contender that cannot be started, is refused or answers wrongly is named here in plain words with what to try, so
// that no failure is ever timed as a fast run. The answers are held to the plan's rules for the same work, and taken
// apart by what their bytes are. Figures are judged elsewhere.
package weighin

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"paceduel/core/contender"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

// maxKept bounds what of an answer goes into the result; more of it is no use to a reader there.
const maxKept = 4 << 10

// FailedError says which contenders did not pass.
type FailedError struct {
	Names []string // in the order of the plan
	First string   // the first one's trouble, in words
}

func (e *FailedError) Error() string {
	return fmt.Sprintf("%s did not pass the weigh-in: %s", units.List(e.Names), e.First)
}

// UnequalError says which contenders break the plan's rules for the same work.
type UnequalError struct {
	Names []string // in the order of the plan
	First string   // the first difference, in words
}

func (e *UnequalError) Error() string {
	return fmt.Sprintf("%s not the same work as the baseline: %s; mend the plan, or accept it with --accept-unequal", doOrDoes(e.Names), e.First)
}

func doOrDoes(names []string) string {
	if len(names) == 1 {
		return names[0] + " does"
	}
	return units.List(names) + " do"
}

// IsFailed reports whether err is a contender's failure at the weigh-in.
func IsFailed(err error) bool {
	var failed *FailedError
	return errors.As(err, &failed) || IsUnequal(err)
}

// IsUnequal reports whether err is about contenders that do unequal work.
func IsUnequal(err error) bool {
	var unequal *UnequalError
	return errors.As(err, &unequal)
}

// Judge turns what Compare found into an error when it breaks rules of the plan that were not accepted; nil otherwise.
func Judge(w *result.Weighing) error {
	names := w.Unequal()
	if w == nil || !w.Ruled || w.Accepted || len(names) == 0 {
		return nil
	}
	first := ""
	for _, c := range w.Checks {
		if !c.Same && first == "" {
			first = c.Rule
			if len(c.Differences) > 0 {
				d := c.Differences[0]
				first = fmt.Sprintf("%s: %s is %s, not %s", c.Rule, d.Where, d.Contender, d.Baseline)
			}
		}
	}
	return &UnequalError{names, first}
}

// Touch performs the one shot of e. mask hides values of the environment in whatever is kept. The shot's trouble, if
// any, is in the Touch; Passed tells. The answer is for Compare and is not kept.
func Touch(ctx context.Context, e contender.Entry, mask func(string) string) (*result.Touch, Answer) {
	if e.Err != nil {
		return &result.Touch{Class: contender.NoStart.String(), Err: mask(e.Err.Error()), Try: advice(contender.NoStart)}, Answer{Name: e.Name}
	}
	c := e.Driver.Client(0, 1)
	defer c.Close()
	view := &contender.View{Limit: maxCompared}
	shot := contender.Shot{View: view}
	c.Shoot(ctx, &shot)
	t := &result.Touch{
		Class: shot.Class.String(), Outcome: view.Outcome, Latency: shot.Latency(), Bytes: view.Bytes, Received: shot.Received,
		Type: view.Type, Version: mask(oneLine(view.Version)), Body: mask(readable(view.Body)), Stderr: mask(readable(view.Stderr)),
	}
	for _, h := range view.Headers {
		t.Headers = append(t.Headers, mask(h))
	}
	t.Notes, t.Parts = oddities(t, view.Done), Weigh(view.Body)
	if shot.Err != nil {
		t.Err, t.Try = mask(shot.Err.Error()), advice(shot.Class)
	}
	return t, Answer{Name: e.Name, Outcome: view.Outcome, Type: view.Type, Body: view.Body, Whole: view.Bytes == int64(len(view.Body))}
}

// oddities are what makes an answer that passed look like a failure all the same.
func oddities(t *result.Touch, done string) (notes []string) {
	// A command may well work without printing anything; a request is made for its answer, unless it asks for none.
	if t.Bytes == 0 && strings.HasPrefix(t.Outcome, "200") && !strings.HasPrefix(done, "HEAD ") {
		notes = append(notes, "its answer is empty: is that all that it has to do?")
	}
	if said := strings.ToLower(t.Stderr); strings.Contains(said, "usage:") || strings.Contains(said, "try '") && strings.Contains(said, "--help") {
		notes = append(notes, "it printed how to use it: an option may be mistyped")
	}
	return notes
}

// maskAll hides values of the environment in what Compare found.
func maskAll(w *result.Weighing, mask func(string) string) *result.Weighing {
	for i := range w.Checks {
		for j := range w.Checks[i].Differences {
			d := &w.Checks[i].Differences[j]
			d.Baseline, d.Contender = mask(d.Baseline), mask(d.Contender)
		}
	}
	return w
}

// Run asks every contender once, in order, and compares what they answered when all passed; the baseline's answer is
// what the others are held to. tell, when set, hears of each touch. The error names who failed, or ctx's.
func Run(ctx context.Context, p *plan.Plan, entries []contender.Entry, accept bool, tell func(name string, t *result.Touch)) (*result.Weighing, error) {
	var failed FailedError
	var answers []Answer
	for _, e := range entries {
		touch, answer := Touch(ctx, e, p.Mask)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if tell != nil {
			tell(e.Name, touch)
		}
		switch {
		case !Passed(touch):
			if len(failed.Names) == 0 {
				failed.First = touch.Err + "; " + touch.Try
			}
			failed.Names = append(failed.Names, e.Name)
		case e.Name == p.Baseline:
			answers = slices.Insert(answers, 0, answer)
		default:
			answers = append(answers, answer)
		}
	}
	if len(failed.Names) > 0 {
		return nil, &failed
	}
	w := maskAll(Compare(p.Same, answers), p.Mask)
	w.Accepted = accept && w.Ruled && len(w.Unequal()) > 0
	return w, Judge(w)
}

// Passed reports whether the shot went well.
func Passed(t *result.Touch) bool { return t != nil && t.Class == contender.OK.String() }

// oneLine makes a text of a contender's fit for a line of ours.
func oneLine(text string) string {
	const longest = 80
	runes := []rune(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, text))
	return strings.TrimSpace(string(runes[:min(len(runes), longest)]))
}

// maxIndented bounds the JSON that is indented for reading.
const maxIndented = 4 << 20

// readable cuts a body to what is kept and makes it printable; JSON is indented.
func readable(body []byte) string {
	if len(body) > 0 && len(body) <= maxIndented && (body[0] == '{' || body[0] == '[') {
		var out bytes.Buffer
		if json.Indent(&out, body, "", "  ") == nil {
			body = out.Bytes()
		}
	}
	if len(body) > maxKept {
		body = body[:maxKept]
		for len(body) > 0 && !utf8.RuneStart(body[len(body)-1]) {
			body = body[:len(body)-1]
		}
		if n := len(body); n > 0 && body[n-1] >= utf8.RuneSelf {
			body = body[:n-1]
		}
	}
	if !utf8.Valid(body) {
		return fmt.Sprintf("% x", body[:min(len(body), 256)])
	}
	return string(body)
}

// advice is what to try first.
func advice(c contender.Class) string {
	switch c {
	case contender.NoStart:
		return "check the program's name and folder in the plan, and that it may be executed"
	case contender.Refused:
		return "start the service, or correct host and port in the plan"
	case contender.Reset:
		return "see the service's own log: it closed the connection before it had answered"
	case contender.Timeout:
		return "see whether it hangs; if it is only slow, raise timeout: in the plan"
	case contender.TLS:
		return "check http against https and the server's certificate"
	case contender.Status:
		return "correct the request, or set expect: to the status that a good answer has"
	case contender.Length:
		return "raise max-body: if such a long answer is wanted"
	case contender.Exit:
		return "run it by hand from the same folder, or set expect: to the exit code of a good run"
	case contender.Signal:
		return "run it by hand from the same folder: it crashes before any timing"
	}
	return "try the same by hand"
}
