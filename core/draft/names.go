package draft

import (
	"fmt"
	"slices"
	"strings"
)

// MaxName is how many characters a name may have: two of them stand beside each other in every line.
const MaxName = 28

// Apart joins words without the first few and without those that all end in, as long as each keeps one, no quotes are
// torn and the names stay different.
func Apart(words [][]string, separator string, from int) []string {
	common := len(words[0])
	for _, w := range words {
		same := 0
		for same < min(len(w), len(words[0])) && w[len(w)-1-same] == words[0][len(words[0])-1-same] {
			same++
		}
		common = min(common, same, len(w)-from-1)
	}
	for ; common > 0; common-- {
		names := cut(words, separator, from, common)
		if !slices.ContainsFunc(names, torn) && !repeated(names) {
			return names
		}
	}
	return cut(words, separator, from, 0)
}

func cut(words [][]string, separator string, from, less int) (names []string) {
	for _, w := range words {
		names = append(names, strings.Join(w[from:len(w)-less], separator))
	}
	return names
}

func torn(name string) bool {
	return strings.Count(name, "'")%2 != 0 || strings.Count(name, `"`)%2 != 0
}

func repeated(names []string) bool {
	return len(slices.Compact(slices.Sorted(slices.Values(names)))) < len(names)
}

// Finish cuts what is too long in its middle, since beginning and end tell most, and makes equal names different.
func Finish(names []string) []string {
	taken := map[string]bool{}
	for i, name := range names {
		if runes := []rune(name); len(runes) > MaxName {
			name = string(runes[:MaxName/2-1]) + "…" + string(runes[len(runes)-MaxName/2:])
		}
		names[i] = name
		for n := 2; taken[names[i]]; n++ {
			names[i] = fmt.Sprintf("%s #%d", name, n)
		}
		taken[names[i]] = true
	}
	return names
}
