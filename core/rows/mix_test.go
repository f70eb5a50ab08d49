package rows_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"paceduel/core/plan"
	"paceduel/core/rows"
)

const calls = "kind,id\nping,1\nreport,2\nping,3\nreport,4\nreport,5\n"

func table(t *testing.T, text string) rows.Table {
	t.Helper()
	out, err := rows.Read("calls.csv", strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// Weights are kept to a thousandth, every row comes, and the order is the same each time without being one that suits
// some number of clients.
func TestRowsAreDealtByWeight(t *testing.T) {
	m := &rows.Mix{By: "kind", Weights: map[string]plan.Amount{"ping": 95, "report": 5}}
	dealt, sorts, err := m.Deal(table(t, calls))
	if err != nil {
		t.Fatal(err)
	}
	seen, pings := map[string]int{}, 0
	for i, row := range dealt.Rows {
		seen[row[1]]++
		if name := sorts.Names[sorts.Of[i]]; name != row[0] {
			t.Fatalf("row %d of %s is taken for %s", i, row[0], name)
		} else if name == "ping" {
			pings++
		}
	}
	if len(dealt.Rows) != 1000 || pings != 950 || len(seen) != 5 || seen["1"] != 475 || seen["5"] < 16 {
		t.Errorf("%d rows, %d pings, %v", len(dealt.Rows), pings, seen)
	}
	for _, clients := range []int{2, 10, 20} {
		for c := range clients {
			own := 0
			for i := c; i < len(dealt.Rows); i += clients {
				if sorts.Of[i] == 0 {
					own++
				}
			}
			if n := len(dealt.Rows) / clients; own < n*8/10 || own == n && n > 100 {
				t.Errorf("client %d of %d has %d pings of %d", c, clients, own, n)
			}
		}
	}
	again, _, _ := m.Deal(table(t, calls))
	if !slices.EqualFunc(again.Rows, dealt.Rows, slices.Equal[[]string]) {
		t.Error("dealt in another order")
	}
}

func TestAMixWithoutWeightsKeepsTheOrder(t *testing.T) {
	dealt, sorts, err := (&rows.Mix{By: "kind"}).Deal(table(t, calls))
	if err != nil || len(dealt.Rows) != 5 || fmt.Sprint(sorts.Names, sorts.Of) != "[ping report] [0 1 0 1 1]" {
		t.Errorf("%v, %v, %v", dealt, sorts, err)
	}
	if _, sorts, err := (*rows.Mix)(nil).Deal(table(t, calls)); err != nil || len(sorts.Names) > 0 {
		t.Errorf("no mix: %v, %v", sorts, err)
	}
}

func TestAMixThatIsNone(t *testing.T) {
	for want, m := range map[string]rows.Mix{
		"no column is called sort":            {By: "sort"},
		`no row is of sort "pong"`:            {By: "kind", Weights: map[string]plan.Amount{"ping": 1, "report": 1, "pong": 1}},
		"sort report has no weight":           {By: "kind", Weights: map[string]plan.Amount{"ping": 1}},
		"the weight of ping is 0, and has to": {By: "kind", Weights: map[string]plan.Amount{"ping": 0, "report": 1}},
	} {
		if _, _, err := m.Deal(table(t, calls)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v; want %s", err, want)
		}
	}
	many := "kind\na\nb\nc\nd\ne\nf\ng\nh\ni\n"
	if _, _, err := (&rows.Mix{By: "kind"}).Deal(table(t, many)); err == nil {
		t.Error("nine sorts were taken")
	}
	if _, _, err := (&rows.Mix{By: "kind"}).Deal(table(t, "kind,id\n ,1\n")); err == nil {
		t.Error("a row of no sort was taken")
	}
	f := (&rows.Mix{By: "sort"}).Fault(rows.Unknown{Key: "mix.by", Name: "sort", Columns: []string{"kind"}}, "calls.csv")
	if f == nil || f.Key != "mix.by" || f.Try != "the columns are kind" {
		t.Errorf("%+v", f)
	}
}
