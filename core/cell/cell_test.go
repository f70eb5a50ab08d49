package cell_test

import (
	"encoding/json"
	"maps"
	"testing"

	"paceduel/core/cell"
)

func TestCellsAreNamedForPeople(t *testing.T) {
	at := cell.At(map[string]string{"size": "64KiB", "clients": "8"})
	for want, c := range map[string]cell.Cell{
		"joined":                             cell.Of("joined", ""),
		"joined cold":                        cell.Of("joined", "cold"),
		"joined cold, clients 8, size 64KiB": {Contender: "joined", State: "cold", Point: at},
	} {
		if c.String() != want {
			t.Errorf("%q; want %q", c, want)
		}
	}
	own := cell.Cell{Contender: "joined", State: "cold", Point: at}
	if base := own.With("per-vessel"); base != (cell.Cell{Contender: "per-vessel", State: "cold", Point: at}) {
		t.Errorf("it is compared with %s", base)
	}
}

func TestPointsSurviveJSON(t *testing.T) {
	values := map[string]string{"clients": "8", "note": "high\ttide\nat noon", "": "empty"}
	c := cell.Cell{Contender: "joined", Point: cell.At(values)}
	text, err := json.Marshal(c)
	if err != nil {
		t.Fatal(err)
	}
	var got cell.Cell
	if err := json.Unmarshal(text, &got); err != nil || got != c {
		t.Errorf("%s reads back as %+v, %v", text, got, err)
	}
	values["note"] = "high tide at noon"
	if !maps.Equal(got.Point.Values(), values) {
		t.Errorf("values %q", got.Point.Values())
	}
	if text, _ := json.Marshal(cell.Of("a", "")); string(text) != `{"contender":"a"}` {
		t.Errorf("a cell without state and point is %s", text)
	}
	if err := json.Unmarshal([]byte(`{"contender":"a","point":{"x":1}}`), &got); err == nil {
		t.Error("a number is taken for a text")
	}
}

func FuzzPoints(f *testing.F) {
	f.Add("clients", "8", "size", "64\tKiB")
	f.Fuzz(func(t *testing.T, a, x, b, y string) {
		p := cell.At(map[string]string{a: x, b: y})
		if again := cell.At(p.Values()); again != p {
			t.Errorf("%q becomes %q", p, again)
		}
	})
}
