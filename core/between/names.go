package between

import (
	"fmt"
	"net/url"
	"path"
	"slices"
	"strings"
)

// maxName is how many characters a name may have: two of them stand beside each other in every line.
const maxName = 28

// commandNames calls command lines by what sets them apart: the words that all of them end in are left out.
func commandNames(given []string) []string {
	words := make([][]string, len(given))
	for i, g := range given {
		words[i] = strings.Fields(g)
	}
	names := apart(words, " ", 0)
	for i, name := range names {
		if len([]rune(name)) > maxName {
			kept := strings.Fields(name)
			for j, word := range kept {
				if strings.Contains(word, "/") && !strings.HasSuffix(word, "/") && !strings.ContainsAny(word, `'"`) {
					kept[j] = path.Base(word)
				}
			}
			names[i] = strings.Join(kept, " ")
		}
	}
	return finish(names)
}

// urlNames calls URLs by what sets them apart: a host that they share, and the end of their paths, are left out.
func urlNames(urls []*url.URL) []string {
	words := make([][]string, len(urls))
	for i, u := range urls {
		words[i] = []string{u.Host}
		rest := u.RequestURI()
		for rest != "" {
			end := strings.IndexAny(rest[1:], "/?&") + 1
			if end == 0 {
				end = len(rest)
			}
			words[i], rest = append(words[i], rest[:end]), rest[end:]
		}
	}
	shared := 1
	for _, w := range words {
		if w[0] != words[0][0] {
			shared = 0
		}
	}
	return finish(apart(words, "", shared))
}

// apart joins words without the first few and without those that all end in, as long as each keeps one, no quotes are torn
// and the names stay different.
func apart(words [][]string, separator string, from int) []string {
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

// finish cuts what is too long in its middle, since beginning and end tell most, and makes equal names different.
func finish(names []string) []string {
	taken := map[string]bool{}
	for i, name := range names {
		if runes := []rune(name); len(runes) > maxName {
			name = string(runes[:maxName/2-1]) + "…" + string(runes[len(runes)-maxName/2:])
		}
		names[i] = name
		for n := 2; taken[names[i]]; n++ {
			names[i] = fmt.Sprintf("%s #%d", name, n)
		}
		taken[names[i]] = true
	}
	return names
}
