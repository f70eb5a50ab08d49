package plan

import (
	"fmt"
	"reflect"
	"strings"

	edlib "github.com/hbollon/go-edlib"
)

// Nearest returns the candidate closest to word when the slip is small enough to be one, else "". Two letters that
// changed places are one slip; of candidates that are as close the first one is meant.
func Nearest(word string, candidates []string) string {
	best, distance := "", 1+len(word)/3
	for _, c := range candidates {
		if d := edlib.OSADamerauLevenshteinDistance(strings.ToLower(word), strings.ToLower(c)); d <= distance &&
			(best == "" ||
				d < distance) {
			best, distance = c, d
		}
	}
	return best
}

// PointTo words the way out of an unknown word: the likely one, or all of them.
func PointTo(word string, candidates []string) string {
	if near := Nearest(word, candidates); near != "" {
		return fmt.Sprintf("did you mean %q?", near)
	}
	return "known here: " + strings.Join(candidates, ", ")
}

func KeyName(f reflect.StructField) string {
	name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
	if name == "-" {
		return ""
	}
	return name
}

func JoinKeys(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
