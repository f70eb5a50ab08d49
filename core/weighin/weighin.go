// Package weighin is the check before any timing: one full shot of each contender, with what it answered in view.
//
// A contender that cannot be started, is refused or answers wrongly is named here in plain words with what to try, so
// that no failure is ever timed as a fast run. The answers are held to the plan's rules for the same work, and taken
// apart by what their bytes are. Figures are judged elsewhere.
package weighin

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"paceduel/core/contender"
	"paceduel/core/footing"
	"paceduel/core/launch"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/units"
)

// maxKept bounds what of an answer goes into the result; more of it is no use to a reader there.
const maxKept = 64 << 10

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
	return fmt.Sprintf(
		"%s not do the same work as the baseline: %s; mend the plan, or accept it with --accept-unequal", doOrDoes(e.Names),
		e.First,
	)
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
	return &UnequalError{names, w.First()}
}

// Touch performs the one shot of e on its footing in a state. Its trouble, if any, is in the Touch; Passed tells. The
// answer is for Compare and is not kept.
func Touch(
	ctx context.Context, p *plan.Plan, e contender.Entry, f *footing.Footing, state plan.State,
) (*result.Touch, Answer) {
	a := asking{ctx, p, f}
	return a.touch(e, state, true)
}

// asking is one weigh-in under way.
type asking struct {
	ctx     context.Context
	plan    *plan.Plan
	footing *footing.Footing
}

// touch performs the shot of e in a state, and again for those that answer fast, to see whether it answers the same.
// The trouble, if any, is in the Touch; Passed tells. The answer is for Compare and is not kept.
func (a *asking) touch(e contender.Entry, state plan.State, first bool) (*result.Touch, Answer) {
	answer := Answer{Name: e.Name}
	if s, ok := e.Contender.Settings.(plan.Expecter); ok {
		answer.Own = s.Expects()
	}
	t := &result.Touch{Class: shots.NoStart.String()}
	if state != plan.AsFound {
		t.State, answer.State = string(state), string(state)
	}
	if e.Err != nil {
		t.Err, t.Try = e.Err.Error(), a.advice(cmp.Or(contender.HintOf(e.Err), advice(shots.NoStart)))
		return t, answer
	}
	if v, ok := e.Driver.(contender.Visited); ok {
		v.Visit(state.IsCold())
	}
	c := e.Driver.Client(0, 1)
	defer c.Close()
	ground := a.footing.Of(e.Name)
	err := ground.BeginHeat(a.ctx, state, 0)
	if err == nil && !first && state.IsWarm() {
		err = a.shoot(ground, c, &shots.Shot{}) // fills what is to be warm
	}
	// Where no warm-up learns what a run holds, and a second shot may be too long, this one has to.
	shot := shots.Shot{View: &shots.View{Limit: maxCompared}, Measure: !a.plan.Pace.WarmsUp()}
	if err == nil {
		err = a.shoot(ground, c, &shot)
		t.Peak = e.Shape.Of(&shot, shots.Memory)
	}
	if err == nil {
		err = within(a.ctx, func() { a.describe(t, &answer, &shot) })
	}
	if err == nil {
		answer.Files, err = ground.Written(a.ctx)
		if shot.Class == shots.OK && a.plan.Same != nil {
			answer.refine(a.ctx, filter{a.plan.Same.Through, a.plan.Dir, ground.Setup().Place()})
		}
	}
	const quick = time.Second
	if err == nil && shot.Class == shots.OK && shot.Latency() < quick {
		c.Rewind()
		again := shots.Shot{View: &shots.View{Limit: maxCompared, Sample: true}, Measure: true}
		if err = a.shoot(ground, c, &again); err == nil {
			t.Peak = max(t.Peak, e.Shape.Of(&again, shots.Memory))
			t.Steady = again.Class == shots.OK && again.View.Known && bytes.Equal(again.View.Body, shot.View.Body)
		}
	}
	seen, endErr := ground.EndHeat(a.ctx)
	t.Changes, t.Costs = seen.Changes, seen.Costs
	if err = cmp.Or(err, endErr); err != nil {
		t.Class, t.Err, t.Try = shots.NoStart.String(), err.Error(),
			"run that step by hand where the contender stands, or correct it in the plan"
	}
	return t, answer
}

// shoot performs one shot with what is to be done before and after it.
func (a *asking) shoot(ground *footing.Ground, c contender.Client, shot *shots.Shot) error {
	if !ground.PerRun() {
		c.Shoot(a.ctx, shot)
		return nil
	}
	if err := ground.BeforeRun(a.ctx, true); err != nil {
		return err
	}
	c.Shoot(a.ctx, shot)
	return ground.AfterRun(a.ctx, shot)
}

// describe turns what was seen of a shot into what is kept and what is compared.
func (a *asking) describe(t *result.Touch, answer *Answer, shot *shots.Shot) {
	view := shot.View
	body, note := decode(view.Encoding, view.Body)
	t.Class, t.Outcome, t.Latency, t.Bytes, t.Received = shot.Class.String(), view.Outcome, shot.Latency(), view.Bytes,
		shot.Received
	t.Type, t.Version, t.Body, t.Stderr = view.Type, oneLine(view.Version), readable(body), readable(view.Stderr)
	if t.Encoding = view.Encoding; t.Encoding != "" && note == "" {
		t.Decoded = int64(len(body))
	}
	t.Headers = slices.Clone(view.Headers[:min(len(view.Headers), maxHeaders)])
	t.Notes, t.Parts, t.Heads = oddities(t, view.Done), Weigh(body), weighHeaders(view.Headers)
	t.Terminal, t.QueryPlan, t.QueryShape = view.Terminal, view.QueryPlan, view.QueryShape
	if note != "" {
		t.Notes = append(t.Notes, note)
	}
	if more := len(view.Headers) - maxHeaders; more > 0 {
		t.Notes = append(
			t.Notes, fmt.Sprintf("it came with %s headers more than the %d that are kept", units.Count(int64(more)), maxHeaders),
		)
	}
	if isDeep(body) {
		t.Notes = append(t.Notes, fmt.Sprintf("its JSON is %s: it is not looked into", errDeep))
	}
	t.Notes = append(t.Notes, view.Notes...)
	t.Told = toldOf(shot.Told)
	marked := plan.MarkNames(a.plan.Contenders)
	for _, f := range a.plan.Named() {
		if f.IsTold() && !slices.Contains(marked, f) && !a.tellsLater(answer.Name) &&
			!slices.ContainsFunc(shot.Told, func(m shots.Mark) bool { return m.Name == f.Spoken() }) {
			t.Notes = append(t.Notes, fmt.Sprintf("it does not tell %s, which the plan names", f.Spoken()))
		}
	}
	if shot.Err != nil {
		t.Err, t.Try = shot.Err.Error(), a.advice(cmp.Or(contender.HintOf(shot.Err), advice(shot.Class)))
	}
	answer.Outcome, answer.Type, answer.Body, answer.Whole = view.Outcome, view.Type, body,
		view.Bytes == int64(len(view.Body))
	answer.raw, answer.length = body, shot.Length
}

// toldOf are the marks of a shot, added up by name as heats have them.
func toldOf(marks []shots.Mark) (out []result.StartMark) {
	for _, m := range marks {
		same := func(o result.StartMark) bool { return o.Name == m.Name && o.Unit == m.Unit }
		if i := slices.IndexFunc(out, same); i >= 0 {
			out[i].Value += m.Value
			continue
		}
		out = append(out, result.StartMark{Name: m.Name, Unit: m.Unit, Value: m.Value})
	}
	return out
}

// tellsLater reports whether a contender tells of its steps in spans, which come when its shots are over.
func (a *asking) tellsLater(name string) bool {
	return slices.ContainsFunc(a.plan.Contenders, func(c plan.Contender) bool {
		return c.Name == name && c.Ground.Traces != nil
	})
}

// advice is put in options where whoever runs the duel gave these instead of a plan.
func (a *asking) advice(try string) string {
	if o := a.plan.Options; o != nil {
		return o.Replace(try)
	}
	return try
}

// oddities are what makes an answer that passed look like a failure all the same.
func oddities(t *result.Touch, done string) (notes []string) {
	// A command may well work without printing anything; a request is made for its answer, unless it asks for none.
	if t.Bytes == 0 && strings.HasPrefix(t.Outcome, "200") && !strings.HasPrefix(done, "HEAD ") {
		notes = append(notes, "its answer is empty: is that all that it has to do?")
	}
	if said := strings.ToLower(t.Stderr); strings.Contains(said, "usage:") || strings.Contains(said, "try '") &&
		strings.Contains(said, "--help") {
		notes = append(notes, "it printed how to use it: an option may be mistyped")
	}
	return notes
}

// Run asks every contender once in each state, in order, and compares what they answered when all passed; the
// baseline's first answer is what the others are held to. ask, when set, hears of each before it is asked; tell of each
// touch and the whole answer, decoded. The error names who failed, or is ctx's. The standard is what answers during the
// run are held to.
func Run(ctx context.Context, p *plan.Plan, entries []contender.Entry, f *footing.Footing, accept bool,
	ask func(name string, state plan.State), tell func(name string, t *result.Touch, body []byte),
) (*result.Weighing, *Standard, error) {
	a := asking{ctx, p, f}
	var failed FailedError
	var answers []Answer
	standard := newStandard(p)
	standard.place = func(name string) launch.Place { return f.Of(name).Setup().Place() }
	for _, e := range entries {
		for i, state := range f.States() {
			if ask != nil {
				ask(e.Name, state)
			}
			touch, answer := a.touch(e, state, i == 0)
			if ctx.Err() != nil {
				return nil, nil, ctx.Err()
			}
			if tell != nil {
				tell(e.Name, touch, answer.raw)
			}
			if !Passed(touch) {
				if len(failed.Names) == 0 {
					failed.First = strings.TrimSuffix(touch.Err, "?") + "; " + touch.Try
				}
				failed.Names = append(failed.Names, e.Name)
				break
			}
			if i == 0 {
				standard.set(answer, touch)
			}
			if e.Name == p.Baseline {
				answers = slices.Insert(answers, i, answer)
			} else {
				answers = append(answers, answer)
			}
		}
	}
	if len(answers) > 0 && answers[0].Name != p.Baseline {
		answers = nil // there is nothing to hold them to
	}
	var w *result.Weighing
	if err := within(ctx, func() { w = Compare(p.Same, answers) }); err != nil {
		return nil, nil, err
	}
	w.Accepted = accept && w.Ruled && len(w.Unequal()) > 0
	if len(failed.Names) > 0 {
		return w, nil, &failed
	}
	standard.apart(w.Unequal())
	return w, standard, Judge(w)
}

// Passed reports whether the shot went well.
func Passed(t *result.Touch) bool { return t != nil && t.Class == shots.OK.String() }

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

// maxHex bounds the bytes that are shown as such.
const maxHex = 512

// maxIndented bounds the JSON that is indented for reading.
const maxIndented = 4 << 20

// readable cuts a body to what is kept and makes it printable; JSON is indented.
func readable(body []byte) string {
	if len(body) > 0 && len(body) <= maxIndented && (body[0] == '{' || body[0] == '[') && !isDeep(body) {
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
		var lines []string
		for row := range slices.Chunk(body[:min(len(body), maxHex)], 16) {
			lines = append(lines, fmt.Sprintf("% x", row))
		}
		return strings.Join(lines, "\n")
	}
	return string(body)
}

// advice is what to try first.
func advice(c shots.Class) string {
	switch c {
	case shots.NoStart:
		return "check the program's name and folder in the plan, and that it may be executed"
	case shots.Refused:
		return "start the service, or correct host and port in the plan"
	case shots.Reset:
		return "see the service's own log: it closed the connection before it had answered"
	case shots.Timeout:
		return "see whether it hangs; if it is only slow, raise timeout: in the plan"
	case shots.TLS:
		return "check http against https and the server's certificate"
	case shots.Status:
		return "correct the request, or set expect: to the status that a good answer has"
	case shots.Length:
		return "raise max-body: if such a long answer is wanted"
	case shots.Exit:
		return "run it by hand from the same folder, or set expect: to the exit code of a good run"
	case shots.Unequal:
		return "see under weigh-in what it answered, and whether its answers may differ from time to time"
	case shots.Limits:
		return "raise the limits of this shell (ulimit -n, ulimit -u), or take fewer clients"
	case shots.Protocol:
		return "see what listens there, and correct the address in the plan"
	case shots.Access:
		return "correct who asks, in the plan or in the environment"
	case shots.Statement:
		return "correct the statement in the plan"
	case shots.Conflict:
		return "see who else works on the same data"
	case shots.Signal:
		return "run it by hand from the same folder: it crashes before any timing"
	}
	return "try the same by hand"
}
