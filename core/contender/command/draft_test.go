package command

import (
	"slices"
	"testing"
	"time"
)

func TestNamesOfCommands(t *testing.T) {
	tests := []struct {
		name        string
		given, want []string
	}{
		{"what all end in is left out", []string{
			"gzip -1 -c manifest.txt", "xz -6 -c manifest.txt",
		}, []string{"gzip -1", "xz -6"}},
		{"each keeps its program", []string{
			"sort manifest.txt", "sort -r manifest.txt", "tac manifest.txt",
		}, []string{"sort", "sort -r", "tac"}},
		{"nothing in common", []string{"./slow a", "./fast b"}, []string{"./slow a", "./fast b"}},
		{"no quotes are torn", []string{
			"sh -c 'gather here'", "sh -c 'stream here'",
		}, []string{"sh -c 'gather here'", "sh -c 'stream here'"}},
		{"behind quotes", []string{"awk '{ a }' m.txt", "awk '{ b }' m.txt"}, []string{"awk '{ a }'", "awk '{ b }'"}},
		{"the same twice", []string{"true -1", "true -1"}, []string{"true -1", "true -1 #2"}},
		{"one that looks numbered", []string{"a", "a #2", "a"}, []string{"a", "a #2", "a #3"}},
		{"paths by their last part where they are long", []string{
			"/opt/harbour/bin/pack --stream manifest", "/opt/harbour/old/bin/gather -x",
		}, []string{"pack --stream manifest", "gather -x"}},
		{"the middle of what is long", []string{
			"sh -c 'one two three four five six'", "true",
		}, []string{"sh -c 'one tw…four five six'", "true"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			if got, err := names(tt.given); err != nil || !slices.Equal(got, tt.want) {
				t.Errorf("names are %q; want %q", got, tt.want)
			}
		})
	}
}

// As many runs as fit, none beyond reason, and enough for a percentile where that costs little.
func TestRepeats(t *testing.T) {
	for run, want := range map[time.Duration]int{
		0: 1, -time.Second: 1, time.Minute: 1, heatAim: 1, heatAim / 3: 3, heatAim / percentileN: percentileN,
		heatAim / (percentileN - 1): percentileN, time.Microsecond: maxRepeat,
	} {
		if got := repeats(run); got != want {
			t.Errorf("repeats(%s) = %d; want %d", run, got, want)
		}
	}
}
