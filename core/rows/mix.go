package rows

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"strings"

	"paceduel/core/plan"
	"paceduel/core/shots"
)

// Mix says which sort of shot each row is, so that light ones among heavy ones are judged by themselves, and how often
// each sort comes.
type Mix struct {
	By      string                 `json:"by" jsonschema:"required" jsonschema_description:"the column that names the sort of each row"`
	Weights map[string]plan.Amount `json:"weights,omitempty" jsonschema_description:"how often each sort comes beside the others, as { ping: 95, report: 5 }; as the rows stand unless said"`
}

// Short reads a mix that is written as its column alone.
func (m *Mix) Short(text string) { m.By = text }

// Limits of a mix.
const (
	MaxSorts = 8
	mixed    = 1_000  // rows that a mix is dealt over, so that shares are exact to a thousandth
	maxMixed = 20_000 // where a rare sort has many rows
)

// Deal returns the table whose rows come as a mix says: in their own order, or where it has weights in an order that is
// drawn once and for all, so that no client meets one sort more often than another. The receiver of no mix is nil: all
// rows are of no sort.
func (m *Mix) Deal(t Table) (Table, shots.Sorts, error) {
	if m == nil {
		return t, shots.Sorts{}, nil
	}
	at := slices.Index(t.Columns, m.By)
	if at < 0 {
		return t, shots.Sorts{}, Unknown{Key: "mix.by", Name: m.By, Columns: t.Columns}
	}
	var s shots.Sorts
	rowsOf := map[string][]int{}
	for i, row := range t.Rows {
		name := strings.TrimSpace(row[at])
		if name == "" {
			return t, s, fmt.Errorf("row %d names no sort in column %s", i+1, m.By)
		}
		if rowsOf[name] == nil {
			s.Names = append(s.Names, name)
		}
		if len(s.Names) > MaxSorts {
			return t, s, fmt.Errorf("column %s names more than %d sorts", m.By, MaxSorts)
		}
		rowsOf[name] = append(rowsOf[name], i)
		s.Of = append(s.Of, uint8(slices.Index(s.Names, name)))
	}
	if len(m.Weights) == 0 {
		return t, s, nil
	}
	counts, err := m.counts(s.Names, rowsOf)
	if err != nil {
		return t, s, err
	}
	out := Table{Columns: t.Columns}
	s.Of = nil
	for k, name := range s.Names {
		for i := range counts[k] {
			out.Rows = append(out.Rows, t.Rows[rowsOf[name][i%len(rowsOf[name])]])
			s.Of = append(s.Of, uint8(k))
		}
	}
	const seed = 0x6d69785f726f7773 // one for all, so that contenders and runs have the same order
	rng := rand.New(rand.NewPCG(seed, uint64(len(out.Rows))))
	rng.Shuffle(len(out.Rows), func(i, j int) {
		out.Rows[i], out.Rows[j] = out.Rows[j], out.Rows[i]
		s.Of[i], s.Of[j] = s.Of[j], s.Of[i]
	})
	return out, s, nil
}

// counts is how many rows of each sort are dealt.
func (m *Mix) counts(names []string, rowsOf map[string][]int) ([]int, error) {
	sum := 0.0
	for name, w := range m.Weights {
		if !slices.Contains(names, name) {
			return nil, fmt.Errorf("no row is of sort %q; there are %s", name, strings.Join(names, ", "))
		}
		if w == 0 {
			return nil, fmt.Errorf("the weight of %s is 0, and has to be more", name)
		}
	}
	for _, name := range names {
		if m.Weights[name] == 0 {
			return nil, fmt.Errorf("sort %s has no weight", name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(m.Weights)) { // in one order, so that the sum is always the same
		sum += float64(m.Weights[name])
	}
	n := float64(mixed)
	for _, name := range names { // so many that every row comes
		n = max(n, min(float64(len(rowsOf[name]))*sum/float64(m.Weights[name]), maxMixed))
	}
	n = math.Ceil(n)
	counts, order, left := make([]int, len(names)), make([]int, len(names)), int(n)
	exact := func(k int) float64 { return n * float64(m.Weights[names[k]]) / sum }
	for k := range names {
		counts[k], order[k] = int(exact(k)), k
		left -= counts[k]
	}
	slices.SortStableFunc(order, func(a, b int) int { // the largest remainders first
		return cmp.Compare(exact(b)-float64(counts[b]), exact(a)-float64(counts[a]))
	})
	for _, k := range order[:left] {
		counts[k]++
	}
	for k := range counts {
		counts[k] = max(counts[k], 1)
	}
	return counts, nil
}

// Fault is what is wrong with rows that could not be dealt, for the plan; nil where err is.
func (m *Mix) Fault(err error, file string) *plan.Fault {
	var unknown Unknown
	switch {
	case err == nil:
		return nil
	case errors.As(err, &unknown):
		return &plan.Fault{Key: unknown.Key, What: fmt.Sprintf("no column is called %q", unknown.Name), Try: unknown.Try()}
	case m != nil && file != "":
		return &plan.Fault{Key: "mix", What: err.Error(), Try: "see the rows of " + file}
	}
	return &plan.Fault{Key: "rows", What: err.Error(), Try: "the first line names the columns"}
}
