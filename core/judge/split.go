package judge

import (
	"math"

	"paceduel/core/plan"
	"paceduel/core/units"
)

// splitRows are the scorecard's lines of what latencies are made of: the median of each part.
func splitRows(f *field) (rows []Row) {
	for _, figure := range f.partNames() {
		name, told, _ := partOf(figure)
		for _, state := range f.r.States() {
			row := Row{Name: name + " at p50", Lower: true, interest: f.interest(figure)}
			if told {
				bare, _ := plan.Bare(name)
				row.Name = bare + " (told) at p50"
			}
			if state != "" {
				row.Name += ", " + state
			}
			for _, e := range f.r.Entrants {
				x := f.split(side{e.Name, state}, name, told)
				text := units.None
				if !math.IsNaN(x) {
					if figure.Unit() == "" && x < nothing {
						x = 0 // the histogram's least value stands for it
					}
					text = Show(figure, x)
				}
				row.Values, row.Amount = append(row.Values, text), append(row.Amount, x)
			}
			rows = append(rows, row)
		}
	}
	return rows
}
