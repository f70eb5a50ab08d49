package find

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"paceduel/core/commits"
)

// line is a made-up line of commits, the good one first.
func line(n int) (first commits.Commit, list []commits.Commit) {
	at := func(i int) commits.Commit {
		return commits.Commit{Hash: fmt.Sprintf("%040x", 0xabc0000+i), Subject: fmt.Sprintf("step %d", i)}
	}
	for i := range n {
		list = append(list, at(i+1))
	}
	return at(0), list
}

func question() Question {
	return Question{Plan: "duel: x", Contender: "commit", Against: "good", Figure: "mean", Worse: 0.05, Rounds: 5,
		Anchored: true, Error: 0.05}
}

// looker makes looks at commits that are slower from one on; some of them do not build.
func looker(slowFrom int, broken ...int) func(context.Context, commits.Commit) (Seen, error) {
	rng := rand.New(rand.NewPCG(5, 5))
	return func(_ context.Context, c commits.Commit) (Seen, error) {
		var i int
		fmt.Sscanf(c.Subject, "step %d", &i)
		for _, b := range broken {
			if i == b {
				return Seen{}, &commits.BuildError{Commit: c, Line: "make", Why: "exit code 2", Said: "no such name"}
			}
		}
		level := 0.0
		if i >= slowFrom {
			level = 0.2
		}
		s := Seen{}
		for range 5 {
			s.Diffs = append(s.Diffs, level+0.03*rng.NormFloat64())
		}
		return s, nil
	}
}

func quiet(Event) {}

func TestCommitsThatDoNotBuildArePassedOver(t *testing.T) {
	first, list := line(32)
	h, err := Open("", question(), first, list, false)
	if err != nil {
		t.Fatal(err)
	}
	st, err := h.Run(t.Context(), 15, looker(19, 17, 18, 23), quiet)
	if err != nil || !st.Known || h.At(st.Answer).Subject != "step 19" {
		t.Fatalf("%+v, %v", st, err)
	}
	said := h.Say(st, true)
	for _, want := range []string{"(step 19) made the mean worse, by 2", "It may as well be", h.At(16).Short() + " and " +
		h.At(17).Short()} {
		if !strings.Contains(said, want) {
			t.Errorf("%q lacks %q", said, want)
		}
	}
}

// An interrupted search goes on where it was, and another question is another search.
func TestASearchIsGoneOnWith(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "finds")
	first, list := line(32)
	h, err := Open(dir, question(), first, list, false)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	look := looker(9, 30)
	taken := 0
	_, err = h.Run(ctx, 15, func(ctx context.Context, c commits.Commit) (Seen, error) {
		if taken++; taken == 4 {
			cancel()
			return Seen{}, ctx.Err()
		}
		return look(ctx, c)
	}, quiet)
	if !errors.Is(err, context.Canceled) || len(h.Looks)+len(h.Broken) != 3 {
		t.Fatalf("%d looks, %v", len(h.Looks), err)
	}
	again, err := Open(dir, question(), first, list, false)
	if err != nil || len(again.Looks) != len(h.Looks) {
		t.Fatalf("%d looks are kept, %v", len(again.Looks), err)
	}
	st, err := again.Run(t.Context(), 15, look, quiet)
	if err != nil || !st.Known || again.At(st.Answer).Subject != "step 9" || len(again.Looks) <= 3 {
		t.Errorf("%+v, %v", st, err)
	}
	other := question()
	other.Worse = 0.2
	for name, open := range map[string]func() (*Hunt, error){
		"another question": func() (*Hunt, error) { return Open(dir, other, first, list, false) },
		"begun anew":       func() (*Hunt, error) { return Open(dir, question(), first, list, true) },
	} {
		if h, err := open(); err != nil || len(h.Looks) != 0 {
			t.Errorf("%s has %d looks, %v", name, len(h.Looks), err)
		}
	}
	if err := os.WriteFile(again.path, []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir, question(), first, list, false); err == nil || !strings.Contains(err.Error(), "--anew") {
		t.Errorf("a file that cannot be read: %v", err)
	}
}

// What is no commit's fault ends the search, with what was found kept.
func TestAFaultOfOursEndsTheSearch(t *testing.T) {
	first, list := line(8)
	h, err := Open("", question(), first, list, false)
	if err != nil {
		t.Fatal(err)
	}
	look := looker(4)
	_, err = h.Run(t.Context(), 15, func(ctx context.Context, c commits.Commit) (Seen, error) {
		if len(h.Looks) == 2 {
			return Seen{}, errors.New("no space left on device")
		}
		return look(ctx, c)
	}, quiet)
	if err == nil || !strings.Contains(err.Error(), "no space left") || len(h.Looks) != 2 {
		t.Errorf("%d looks, %v", len(h.Looks), err)
	}
}

func TestNoCommitIsSaidToBeNone(t *testing.T) {
	first, list := line(16)
	h, err := Open("", question(), first, list, false)
	if err != nil {
		t.Fatal(err)
	}
	st, err := h.Run(t.Context(), 15, looker(99), quiet)
	if err != nil || !st.Known || st.Answer >= 0 || !strings.HasPrefix(h.Say(st, true), "No commit made the mean worse") {
		t.Errorf("%+v: %s, %v", st, h.Say(st, true), err)
	}
	h, _ = Open("", question(), first, list, false)
	if st, err = h.Run(t.Context(), 2, looker(9), quiet); err != nil || st.Known || !strings.Contains(h.Say(st, true),
		"not sure enough") {
		t.Errorf("after two looks: %s, %v", h.Say(st, true), err)
	}
	h, _ = Open("", question(), first, list[:2], false)
	if st, err = h.Run(t.Context(), 9, looker(1, 1, 2), quiet); err != nil || !strings.Contains(h.Say(st, true),
		"None of the commits can") {
		t.Errorf("where none builds: %s, %v", h.Say(st, true), err)
	}
	if _, err := Open("", question(), first, nil, false); err == nil {
		t.Error("a line without commits is searched")
	}
}

// A claim has no known level at the good commit: that is looked at first, and the claim fails where the level is above
// its edge.
func TestAClaimThatFails(t *testing.T) {
	first, list := line(32)
	q := question()
	q.Claim, q.Worse, q.Anchored = "joined p95 under 20ms", 0, false
	h, err := Open("", q, first, list, false)
	if err != nil {
		t.Fatal(err)
	}
	look := looker(21)
	var order []string
	st, err := h.Run(t.Context(), 15, func(ctx context.Context, c commits.Commit) (Seen, error) {
		order = append(order, c.Subject)
		s, err := look(ctx, c)
		for i := range s.Diffs {
			s.Diffs[i] -= 0.1 // it held with a tenth to spare
		}
		return s, err
	}, quiet)
	if err != nil || !st.Known || h.At(st.Answer).Subject != "step 21" || order[0] != "step 0" {
		t.Errorf("%+v of %q, %v", st, order, err)
	}
	if said := h.Say(st, true); !strings.Contains(said, "(step 21) made the claim fail") {
		t.Errorf("%q", said)
	}
	// One that fails at the good commit already was made to fail by none of them.
	h, _ = Open("", q, first, list, false)
	st, err = h.Run(t.Context(), 15, func(ctx context.Context, c commits.Commit) (Seen, error) {
		s, err := look(ctx, c)
		for i := range s.Diffs {
			s.Diffs[i] += 0.3
		}
		return s, err
	}, quiet)
	if said := h.Say(st, true); err != nil || !st.Known || st.Answer >= 0 ||
		!strings.Contains(said, "The claim fails at the good commit "+first.Short()) {
		t.Errorf("%s, %v", said, err)
	}
}
