package find

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"paceduel/core/commits"
	"paceduel/core/files"
	"paceduel/core/units"
)

// Question is what is looked for, and where.
type Question struct {
	Top       string  `json:"repository"` // the folder of its worktree
	Good      string  `json:"good"`       // whole hashes
	Bad       string  `json:"bad"`
	Plan      string  `json:"plan"`      // its text
	Contender string  `json:"contender"` // that is built from each commit
	Against   string  `json:"against"`   // that it is held to
	Figure    string  `json:"figure,omitempty"`
	Claim     string  `json:"claim,omitempty"` // that fails from some commit on; empty: the figure gets worse
	Worse     float64 `json:"worse"`           // by a share: 0.05 for 5 %
	Rounds    int     `json:"rounds"`          // of a look
	Anchored  bool    `json:"anchored"`        // what it is held to is the good commit
	Error     float64 `json:"error"`           // how likely the answer may be wrong
}

// name is what the file of a question is called: the same for the same question.
func (q *Question) name() string {
	text, _ := json.Marshal(q)
	return fmt.Sprintf("%x.find.json", sha256.Sum256(text))[:20] + ".find.json"
}

// Hunt is a search through the commits of a repository, kept so that it can be gone on with.
type Hunt struct {
	Version  int              `json:"paceduel_find"`
	Question Question         `json:"question"`
	First    commits.Commit   `json:"good_commit"`
	Commits  []commits.Commit `json:"commits"` // after the good one, the last is the bad one
	Looks    []Taken          `json:"looks,omitempty"`
	Broken   []Broken         `json:"broken,omitempty"`

	path string
}

// Taken is a look that was taken.
type Taken struct {
	Commit string        `json:"commit"` // its hash
	Diffs  []float64     `json:"worse_by"`
	Took   time.Duration `json:"took_ns"` // with its build
	Built  time.Duration `json:"built_ns,omitempty"`
}

// Broken is a commit that cannot be looked at.
type Broken struct {
	Commit string `json:"commit"`
	Why    string `json:"why"`
}

const huntVersion = 1

// maxHunt bounds the file of a search.
const maxHunt = 64 << 20

// MaxCommits is how many commits a search may go through: of more, each pair of steps would take too long to weigh.
const MaxCommits = 512

// Open begins a search, or goes on with one of the same question whose file is in dir; anew begins it in any case.
// An empty dir keeps nothing.
func Open(dir string, q Question, first commits.Commit, list []commits.Commit, anew bool) (*Hunt, error) {
	if len(list) == 0 {
		return nil, fmt.Errorf("there is no commit after %s to look at", first.Short())
	}
	if len(list) > MaxCommits {
		return nil, fmt.Errorf("%d commits are more than %d; begin at a later one", len(list), MaxCommits)
	}
	h := &Hunt{Version: huntVersion, Question: q, First: first, Commits: list}
	if dir == "" {
		return h, nil
	}
	h.path = filepath.Join(dir, q.name())
	if anew {
		return h, nil
	}
	text, err := files.Read(h.path, maxHunt)
	if errors.Is(err, fs.ErrNotExist) {
		return h, nil
	}
	var was Hunt
	if err == nil {
		err = json.Unmarshal(text, &was)
	}
	switch {
	case err != nil:
		return nil, fmt.Errorf("go on with the search in %s: %w; begin it --anew", h.path, err)
	case was.Version > huntVersion:
		return nil, fmt.Errorf("go on with the search in %s: it is of a newer program; begin it --anew", h.path)
	}
	h.Looks, h.Broken = was.Looks, was.Broken
	return h, nil
}

// save keeps the search as far as it has come.
func (h *Hunt) save() error {
	if h.path == "" {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(h.path), 0o700); err != nil {
		return fmt.Errorf("keep the search: %w", err)
	}
	text, err := json.Marshal(h)
	if err == nil {
		err = files.WriteAll(h.path, text)
	}
	if err != nil {
		return fmt.Errorf("keep the search: %w", err)
	}
	return nil
}

// Search is what is known so far.
func (h *Hunt) Search() *Search {
	s := NewSearch(len(h.Commits))
	s.Worse, s.Absolute, s.Anchored, s.Error = logOf(h.Question.Worse), h.Question.Claim != "", h.Question.Anchored,
		h.Question.Error
	for _, b := range h.Broken {
		if i := h.index(b.Commit); i >= 0 {
			s.Break(i)
		}
	}
	for _, l := range h.Looks {
		if i := h.index(l.Commit); i >= 0 || l.Commit == h.First.Hash {
			s.Add(Look{At: i, Diffs: l.Diffs})
		}
	}
	return s
}

// index is the number of a commit; -1 for the good one, and for what is none of them.
func (h *Hunt) index(hash string) int {
	return slices.IndexFunc(h.Commits, func(c commits.Commit) bool { return c.Hash == hash })
}

// At is a commit by its number; -1 is the good one.
func (h *Hunt) At(i int) commits.Commit {
	if i < 0 {
		return h.First
	}
	return h.Commits[i]
}

// Seen is what a look at a commit found.
type Seen struct {
	Diffs []float64 // by how much worse it was in each round, in logarithms
	Built time.Duration
}

// Event is told while a search goes on: the commit that is looked at next, or what is known when nobody is.
type Event struct {
	Hunt    *Hunt // not to be changed, and only good until the next event
	State   *State
	Looking int  // the commit that is looked at; see Busy
	Busy    bool // whether one is
	Over    bool
}

// Run searches until the answer is known or so many looks were taken, those of earlier sittings included. look builds
// and runs a commit: an error that is a *commits.BuildError, or a *Unusable, is the commit's fault, which is passed
// over; any other ends the search, as ctx does. What was found by then is kept.
func (h *Hunt) Run(
	ctx context.Context, most int, look func(context.Context, commits.Commit) (Seen, error), watch func(Event),
) (*State, error) {
	for {
		st := h.Search().State()
		if st.Known || len(h.Looks) >= most {
			watch(Event{Hunt: h, State: st, Over: true})
			return st, nil
		}
		watch(Event{Hunt: h, State: st, Looking: st.Next, Busy: true})
		commit := h.At(st.Next)
		began := time.Now()
		seen, err := look(ctx, commit)
		var build *commits.BuildError
		var unusable *Unusable
		switch {
		case err == nil:
			h.Looks = append(h.Looks, Taken{commit.Hash, seen.Diffs, time.Since(began), seen.Built})
		case ctx.Err() != nil:
			watch(Event{Hunt: h, State: st, Over: true})
			return st, ctx.Err()
		case st.Next >= 0 && (errors.As(err, &build) || errors.As(err, &unusable)):
			h.Broken = append(h.Broken, Broken{commit.Hash, firstLine(err.Error())})
		default:
			watch(Event{Hunt: h, State: st, Over: true})
			return st, fmt.Errorf("look at %s: %w", commit.Short(), err)
		}
		if err := h.save(); err != nil {
			return st, err
		}
	}
}

// Unusable is a commit that can be built and not be looked at, since it fails.
type Unusable struct{ Err error }

func (u *Unusable) Error() string { return u.Err.Error() }

func (u *Unusable) Unwrap() error { return u.Err }

func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return strings.TrimSuffix(line, ":")
}

// Say puts what is known into a sentence or two.
func (h *Hunt) Say(st *State, over bool) string {
	looks := units.Plural(len(h.Looks), "look")
	what := "made " + h.what() + " worse"
	if h.Question.Claim != "" {
		what = "made the claim fail"
	}
	switch {
	case len(h.Broken) >= len(h.Commits):
		return "None of the commits can be looked at: " + h.Broken[len(h.Broken)-1].Why + "."
	case st.Known && st.Answer < 0 && st.Before > st.None:
		return fmt.Sprintf("The claim fails at the good commit %s already (%s sure, after %s): begin at an earlier one, "+
			"or claim "+
			"less.", h.title(-1), units.Share(st.Before), looks)
	case st.Known && st.Answer < 0:
		return fmt.Sprintf("No commit %s, as far as %s tell: the last one is not worse by more than %s (%s sure).", what,
			looks,
			units.Share(h.Question.Worse), units.Share(st.None))
	case st.Known:
		text := fmt.Sprintf("%s %s, by %s (%s sure, after %s).", h.title(st.Answer), what, h.by(st), units.Share(
			st.First[st.Answer]), looks)
		return text + h.along(st.Answer) + h.second(st)
	}
	i := st.Likeliest()
	if len(h.Looks) == 0 {
		return fmt.Sprintf("One of %s %s; nothing is known yet.", units.Plural(len(h.Commits), "commit"), what)
	}
	text := fmt.Sprintf("After %s nothing points to a commit yet.", looks)
	if i >= 0 {
		text = fmt.Sprintf("After %s %s most likely %s (%s).", looks, h.title(i), what, units.Share(st.First[i]))
		if from, to, sure := st.among(); st.First[i] < 0.5 {
			text = fmt.Sprintf("After %s one of %s %s, from %s to %s (%s sure).", looks, units.Plural(to-from+1, "commit"),
				what, h.title(from), h.title(to), units.Share(sure))
		}
	}
	if over {
		text += " That is not sure enough: go on with more --looks, or with more --rounds a look."
	}
	return text
}

// title is a commit as it is spoken of.
func (h *Hunt) title(i int) string {
	c := h.At(i)
	return fmt.Sprintf("%s (%s)", c.Short(), c.Subject)
}

// what is the figure as it is spoken of.
func (h *Hunt) what() string {
	if h.Question.Figure == "mean" {
		return "the mean"
	}
	return h.Question.Figure
}

// by is by how much more the level is at the answer than at the one before that can be looked at, or at the good one.
func (h *Hunt) by(st *State) string {
	i := st.Answer - 1
	for i >= 0 && h.isBroken(i) {
		i--
	}
	before := st.Good
	if i >= 0 {
		before = st.Level[i]
	}
	return share(st.Level[st.Answer] - before)
}

// along says which commits before one cannot be looked at, any of which it may be instead.
func (h *Hunt) along(i int) string {
	var names []string
	for j := i - 1; j >= 0 && h.isBroken(j); j-- {
		names = append(names, h.At(j).Short())
	}
	if len(names) == 0 {
		return ""
	}
	slices.Reverse(names)
	return fmt.Sprintf(" It may as well be %s, which cannot be looked at.", units.List(names))
}

// second says whether there is more than one step.
func (h *Hunt) second(st *State) string {
	if st.Two < 0.5 || st.Steps[0] < 0 {
		return ""
	}
	other := st.Steps[1]
	if other == st.Answer {
		other = st.Steps[0]
	}
	return fmt.Sprintf(" There is more than one step (%s sure): another is at or about %s.", units.Share(st.Two),
		h.title(other))
}

func (h *Hunt) isBroken(i int) bool {
	return slices.ContainsFunc(h.Broken, func(b Broken) bool { return b.Commit == h.Commits[i].Hash })
}

// Found says what a look found: "8.3 % worse than what it is held to", "within the claim by 12 %".
func (h *Hunt) Found(diffs []float64) string {
	if len(diffs) == 0 {
		return "nothing"
	}
	c := centre(diffs)
	switch {
	case h.Question.Claim != "" && c <= 0:
		return "within the claim by " + share(c)
	case h.Question.Claim != "":
		return "beyond the claim by " + share(c)
	case c < 0:
		return share(c) + " better than what it is held to"
	}
	return share(c) + " worse than what it is held to"
}

// Measure says what the levels of commits are, for the head of a column.
func (h *Hunt) Measure() string {
	if h.Question.Claim != "" {
		return "beyond the claim by"
	}
	return "worse by"
}

// InShort says what is known, for a line.
func (h *Hunt) InShort(st *State) string {
	if i := st.Likeliest(); i >= 0 && len(h.Looks) > 0 {
		if from, to, share := st.among(); st.First[i] < 0.5 {
			return fmt.Sprintf("it is one of %s from %s to %s (%s)", units.Plural(to-from+1, "commit"), h.At(from).Short(),
				h.At(to).Short(), units.Share(share))
		}
		return fmt.Sprintf("most likely it is %s (%s)", h.At(i).Short(), units.Share(st.First[i]))
	}
	return "nothing points to a commit yet"
}

// Row is what is known of a commit.
type Row struct {
	Short, Subject string
	Level          string  // by how much it is worse, with the standard error: "8.3 % ±1.2 %"
	Share          float64 // how likely it is the first bad one
	Looks          int
	Broken         string // why it cannot be looked at, after a colon; empty: it can
}

// Row is what is known of the i-th commit.
func (h *Hunt) Row(st *State, i int) Row {
	c := h.Commits[i]
	r := Row{Short: c.Short(), Subject: c.Subject, Share: st.First[i]}
	for _, l := range h.Looks {
		if l.Commit == c.Hash {
			r.Looks++
		}
	}
	for _, b := range h.Broken {
		if b.Commit == c.Hash {
			r.Broken, r.Level = ": "+b.Why, units.None
			return r
		}
	}
	sign := ""
	if st.Level[i] < 0 {
		sign = "-"
	}
	r.Level = fmt.Sprintf("%s%s ±%s", sign, share(st.Level[i]), share(st.Unsure[i]))
	return r
}

// Number is the number of a commit by its hash; -1 is the good one.
func (h *Hunt) Number(hash string) int { return h.index(hash) }

// Edge is the level from which on a commit is bad, in logarithms.
func (h *Hunt) Edge() float64 { return logOf(h.Question.Worse) }

// Mean is what a look found, in logarithms, and its standard error.
func Mean(diffs []float64) (mean, se float64) {
	if len(diffs) == 0 {
		return 0, 0
	}
	mean = centre(diffs)
	sum := 0.0
	for _, d := range diffs {
		sum += (d - mean) * (d - mean)
	}
	n := float64(len(diffs))
	return mean, math.Sqrt(sum / max(n-1, 1) / n)
}
