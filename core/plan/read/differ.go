package read

import (
	"maps"
	"reflect"
	"slices"

	"github.com/goccy/go-yaml"
)

// free are keys of a plan that say how much is measured and what is asked of it, and not what is measured.
var free = []string{"duel", "question", "sweep", "rounds", "claims", "stakes", "seed", "interest", "interests"}

// Differ lists the keys in which two plans, as texts, measure different things, in order: heats of the one are no heats
// of the other then. Texts that cannot be read differ in all of it.
func Differ(a, b string) (keys []string) {
	var one, other map[string]any
	if yaml.Unmarshal([]byte(a), &one) != nil || yaml.Unmarshal([]byte(b), &other) != nil {
		return []string{"duel"}
	}
	names := map[string]bool{}
	for key := range one {
		names[key] = true
	}
	for key := range other {
		names[key] = true
	}
	for _, key := range slices.Sorted(maps.Keys(names)) {
		if !slices.Contains(free, key) && !reflect.DeepEqual(one[key], other[key]) {
			keys = append(keys, key)
		}
	}
	return keys
}
