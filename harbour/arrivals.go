package harbour

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strconv"
	"sync"
)

// The board of arrivals has as many rows as it is asked for. Each names its vessel, which is found by looking through
// the register from its beginning, or in an index of the register that is made for the answer.

const (
	maxArrivals = 10_000 // rows of a board
	often       = 300    // vessels that call again and again
)

// arrival is a row.
type arrival struct {
	Call   int    `json:"call"`
	Vessel string `json:"vessel"`
	Kind   string `json:"kind"`
	Berth  int    `json:"berth"`
}

// called are the numbers of the vessels that call, one after another, and registered the register, in which those that
// call often stand near its beginning.
var (
	called = sync.OnceValue(func() []int {
		rng := rand.New(rand.NewPCG(seed, 7))
		out := make([]int, maxArrivals)
		for i := range out {
			out[i] = int(rng.ExpFloat64()*often) % vesselCount
		}
		return out
	})
	registered = sync.OnceValue(func() []registration {
		out := make([]registration, vesselCount)
		for i := range out {
			out[i] = registration{fmt.Sprintf("SK%05d", i*7919%100_000), vesselName(i), kinds[i%len(kinds)]}
		}
		return out
	})
)

type registration struct{ number, name, kind string }

// arrivals answers the first rows of the board of arrivals in the way that the X-Arrivals header names.
func (s *Service) arrivals(w http.ResponseWriter, r *http.Request) {
	rows, err := strconv.Atoi(r.URL.Query().Get("rows"))
	if err != nil || rows < 1 || rows > maxArrivals {
		http.Error(w, fmt.Sprintf("ask for 1 to %d rows", maxArrivals), http.StatusBadRequest)
		return
	}
	register := registered()
	var find func(number string) *registration
	switch way := r.Header.Get("X-Arrivals"); way {
	case "look-through":
		find = func(number string) *registration {
			for i := range register {
				if register[i].number == number {
					return &register[i]
				}
			}
			return nil
		}
	case "index":
		index := make(map[string]*registration, len(register))
		for i := range register {
			index[register[i].number] = &register[i]
		}
		find = func(number string) *registration { return index[number] }
	default:
		http.Error(w, fmt.Sprintf("no way called %q; there are index and look-through", way), http.StatusBadRequest)
		return
	}
	board := make([]arrival, rows)
	for i := range board {
		v := find(register[called()[i]].number)
		board[i] = arrival{i + 1, v.name, v.kind, 1 + i%berthCount}
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Server", "Skerrow Harbour 1847")
	json.NewEncoder(w).Encode(board)
}
