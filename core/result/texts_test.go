package result_test

import (
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"

	"paceduel/core/mask"
	"paceduel/core/result"
)

// fill puts text into every string that v leads to, one of each list and map.
func fill(v reflect.Value, text string) {
	switch v.Kind() {
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(v.Elem(), text)
	case reflect.Struct:
		if v.Type() == reflect.TypeFor[result.Result]() || v.Type().PkgPath() != "time" {
			for i := range v.NumField() {
				if v.Type().Field(i).IsExported() {
					fill(v.Field(i), text)
				}
			}
		}
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		fill(v.Index(0), text)
	case reflect.Map:
		key, value := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
		fill(key, text)
		fill(value, text)
		v.Set(reflect.MakeMap(v.Type()))
		v.SetMapIndex(key, value)
	case reflect.String:
		v.SetString(text)
	}
}

// where lists the JSON paths of texts that hold part, keys included.
func where(path string, v any, part string, found map[string]bool) {
	switch v := v.(type) {
	case map[string]any:
		for key, inner := range v {
			if strings.Contains(key, part) {
				found[strings.TrimPrefix(path, ".")+" (key)"] = true
				key = "*"
			}
			where(path+"."+key, inner, part, found)
		}
	case []any:
		for _, inner := range v {
			where(path+"[]", inner, part, found)
		}
	case string:
		if strings.Contains(v, part) {
			found[strings.TrimPrefix(path, ".")] = true
		}
	}
}

// Every text of a result is hidden but those that this program makes itself, and names, in which a plan takes no
// variables. A field that is new stands in neither list: it is hidden, unless its tag says that it is ours, and then it
// is listed here.
func TestEveryTextIsHidden(t *testing.T) {
	const secret = "oyster-catcher"
	var r result.Result
	fill(reflect.ValueOf(&r).Elem(), secret)
	mask.New(map[string]string{"TOKEN": secret}).All(&r)
	text, err := json.Marshal(&r)
	if err != nil {
		t.Fatal(err)
	}
	var tree any
	if err := json.Unmarshal(text, &tree); err != nil {
		t.Fatal(err)
	}
	found := map[string]bool{}
	where("", tree, secret, found)
	touch := []string{"class", "state", "footing[].contender", "footing[].state", "footing[].when", "changes.list[].how"}
	want := []string{
		"program", "id", "ending", "order[][].contender", "order[][].state", "parts[]", "crashes[].contender",
		"amounts[].fold", "amounts[].name", "amounts[].per", "amounts[].row", "amounts[].site",
		"amounts[].unit", "brings[]", "plan.name", "plan.sha256", "plan.baseline", "plan.pace.spread", "plan.pace.words",
		"contenders[].name", "contenders[].kind", "same_work.checks[].contender", "same_work.checks[].state",
		"heats[].contender", "heats[].state", "heats[].footing[].contender", "heats[].footing[].state",
		"heats[].footing[].when", "heats[].changes.list[].how",
		"heats[].failures (key)", "heats[].latencies", "heats[].wake_failed", "heats[].steps[].latencies",
		"heats[].splits[].lengths", "heats[].inside.real[].at", "heats[].dots[].c",
		"floor[].kind", "floor[].latencies", "footing.states[]",
		"footing.steps[].contender", "footing.steps[].state", "footing.steps[].when", "footing.costs[].contender",
		"footing.costs[].state", "footing.costs[].when",
		"load.places[]", "load.words", "load.agents[].name", "load.agents[].place", "load.agents[].floor[].kind",
		"load.agents[].floor[].latencies", "heats[].agents[].agent", "heats[].agents[].failures (key)",
		"heats[].agents[].parts_p50_ns (key)",
	}
	for _, which := range []string{"first_touch", "second_touch"} {
		for _, field := range touch {
			want = append(want, "contenders[]."+which+"."+field)
		}
	}
	for _, field := range want { // a point of a sweep repeats what the document says of its contenders
		if strings.HasPrefix(field, "contenders[]") || strings.HasPrefix(field, "same_work") {
			want = append(want, "sweep.points[]."+field)
		}
	}
	want = append(want,
		"sweep.parameters[].counts", "sweep.parameters[].name", "sweep.parameters[].values[].text",
		"sweep.points[].pace.spread", "sweep.points[].pace.words",
		"sweep.points[].steps[].contender", "sweep.points[].steps[].state", "sweep.points[].steps[].when",
		"sweep.points[].at (key)", "order[][].point (key)", "heats[].point (key)",
	)
	slices.Sort(want)
	if got := slices.Sorted(maps.Keys(found)); !slices.Equal(got, want) {
		t.Errorf("texts that show the value: %s\nwant only %s", strconv.Quote(
			strings.Join(got, " "),
		), strconv.Quote(strings.Join(want, " ")))
	}
}

// Nothing in a result that a stranger wrote is obeyed by a terminal: after Clean no text, key or field of our own is
// left that would be.
func TestNoTextOfAStrangerIsObeyed(t *testing.T) {
	const hostile = "a\x1b]0;owned\a\u009b31mb\u202e\x7f\rc"
	var r result.Result
	fill(reflect.ValueOf(&r).Elem(), hostile)
	r.Clean()
	text, err := json.Marshal(&r)
	if err != nil {
		t.Fatal(err)
	}
	var tree any
	if err := json.Unmarshal(text, &tree); err != nil {
		t.Fatal(err)
	}
	for _, obeyed := range []string{"\x1b", "\a", "\u009b", "\u202e", "\x7f", "\r"} {
		found := map[string]bool{}
		where("", tree, obeyed, found)
		if len(found) > 0 {
			t.Errorf("%q is left in %s", obeyed, slices.Sorted(maps.Keys(found)))
		}
	}
}
