package weighin

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
)

// Answers that nest without end, or have headers and members without end, are told as such and looked at in time that
// goes with their length: each of these took minutes or gigabytes when it went with its square.
func TestAnswersWithoutEnd(t *testing.T) {
	deep := strings.Repeat(`[`, 100_000) + strings.Repeat(`]`, 100_000)
	named := strings.Repeat(`{"a":`, 100_000) + `1` + strings.Repeat(`}`, 100_000)
	var wide strings.Builder
	for i := range 200_000 {
		fmt.Fprintf(&wide, `,"m%d":1`, i)
	}
	flat := "{" + wide.String()[1:] + "}"
	var headers []string
	for i := range 100_000 {
		headers = append(headers, fmt.Sprintf("X-%d: y", i))
	}
	look := func(body string) *result.Touch {
		a := asking{ctx: t.Context(), plan: &plan.Plan{}}
		touch := &result.Touch{}
		a.describe(touch, &Answer{}, &shots.Shot{
			View: &shots.View{Body: []byte(body), Bytes: int64(len(body)), Headers: headers},
		})
		return touch
	}
	for name, body := range map[string]string{"lists": deep, "members": named} {
		touch := look(body)
		if touch.Parts != nil || !strings.Contains(strings.Join(touch.Notes, " "), "nested deeper than 1 000") {
			t.Errorf("%s: %d parts, notes %q", name, len(touch.Parts), touch.Notes)
		}
		if len(touch.Headers) != maxHeaders || !strings.Contains(strings.Join(touch.Notes, " "), "99 800 headers more") ||
			len(touch.Heads) > maxParts {
			t.Errorf("%s: %d headers kept, %d told apart, notes %q", name, len(touch.Headers), len(touch.Heads), touch.Notes)
		}
	}
	for _, rules := range []*plan.Same{
		{Body: "json"}, {Body: "json", Unordered: true}, {Body: "rows", Key: "/a"}, {Body: "exact", At: []string{"/a"}},
	} {
		w := Compare(rules, []Answer{
			{Name: "a", Body: []byte(deep), Whole: true}, {Name: "b", Body: []byte(named), Whole: true},
		})
		if !strings.Contains(fmt.Sprint(w.Checks), "nested deeper than 1 000") {
			t.Errorf("%+v says %v", rules, w.Checks)
		}
	}
	var sum int64
	for _, p := range look(flat).Parts {
		sum += p.Bytes
	}
	if sum != int64(len(flat)) {
		t.Errorf("the parts of %d bytes come to %d", len(flat), sum)
	}
	sum = 0
	for _, p := range Weigh(
		[]byte(strings.Repeat("[", 90) + `"` + strings.Repeat("n", 500) + `"` + strings.Repeat("]", 90)),
	) {
		if sum += p.Bytes; len(p.Path) > 10_000 {
			t.Errorf("a path of %d characters", len(p.Path))
		}
	}
	if sum != 682 {
		t.Errorf("the parts come to %d bytes; want 682", sum)
	}
}

func TestDepth(t *testing.T) {
	for text, want := range map[string]int{
		"": 0, "1": 0, "[]": 1, `{"a":[1,[2]]}`: 3, `["[[[","\"[","\\"]`: 1, "[[[": 3, "]]": 0, `{"a":{}},{}`: 2,
	} {
		if got := depth([]byte(text)); got != want {
			t.Errorf("depth(%q) = %d; want %d", text, got, want)
		}
	}
}

// Lists in any order are matched in time that goes with their length, and bounded where nothing of them is written
// alike.
func TestListsThatAreHardToMatch(t *testing.T) {
	list := func(n int, item func(i int) string) string {
		var out []string
		for i := range n {
			out = append(out, item(i))
		}
		return "[" + strings.Join(out, ",") + "]"
	}
	nested := func(turn int) string {
		text := `"x"`
		for i := range 300 {
			if (i+turn)%2 == 0 {
				text = `["a",` + text + `]`
			} else {
				text = `[` + text + `,"a"]`
			}
		}
		return text
	}
	tests := []struct {
		name, left, right string
		same              bool
	}{
		{
			"turned round", list(50_000, func(i int) string { return fmt.Sprint(i) }),
			list(50_000, func(i int) string { return fmt.Sprint(49_999 - i) }), true,
		},
		{"nested, each level turned round", nested(0), nested(1), true},
		{"a number for its text", `[1]`, `["1"]`, false},
		{
			"nearly alike, all of them",
			list(900, func(i int) string { return list(100, func(j int) string { return fmt.Sprintf("%d.0", i*j) }) }),
			list(900, func(i int) string { return list(100, func(j int) string { return fmt.Sprintf("%d", i*j+1) }) }), false,
		},
	}
	for _, tt := range tests {
		check := sameJSON(&plan.Same{
			Body: "json", Unordered: true,
		}, Answer{Body: []byte(tt.left)}, Answer{Name: "b", Body: []byte(tt.right)})
		if check.Same != tt.same {
			t.Errorf("%s: the same: %t", tt.name, check.Same)
		}
	}
}

// What has no patience of its own is left behind when the run is interrupted.
func TestAnInterruptDoesNotWaitForComparisons(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	release := make(chan struct{})
	defer close(release)
	go cancel()
	began := time.Now()
	if err := within(ctx, func() { <-release }); !errors.Is(err, context.Canceled) {
		t.Errorf("it says %v after %s", err, time.Since(began))
	}
	ran := false
	if err := within(t.Context(), func() { ran = true }); err != nil || !ran {
		t.Errorf("%v, ran %t", err, ran)
	}
	defer func() {
		if p := recover(); !strings.Contains(fmt.Sprint(p), "tide") {
			t.Errorf("the panic got lost: %v", p)
		}
	}()
	within(t.Context(), func() { panic("tide") })
}
