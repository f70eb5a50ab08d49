package between

import (
	"net/url"
	"slices"
	"testing"
)

func TestNamesOfCommands(t *testing.T) {
	tests := []struct {
		name        string
		given, want []string
	}{
		{"what all end in is left out", []string{"gzip -1 -c manifest.txt", "xz -6 -c manifest.txt"}, []string{"gzip -1", "xz -6"}},
		{"each keeps its program", []string{"sort manifest.txt", "sort -r manifest.txt", "tac manifest.txt"}, []string{"sort", "sort -r", "tac"}},
		{"nothing in common", []string{"./slow a", "./fast b"}, []string{"./slow a", "./fast b"}},
		{"no quotes are torn", []string{"sh -c 'gather here'", "sh -c 'stream here'"}, []string{"sh -c 'gather here'", "sh -c 'stream here'"}},
		{"behind quotes", []string{"awk '{ a }' m.txt", "awk '{ b }' m.txt"}, []string{"awk '{ a }'", "awk '{ b }'"}},
		{"the same twice", []string{"true -1", "true -1"}, []string{"true -1", "true -1 #2"}},
		{"one that looks numbered", []string{"a", "a #2", "a"}, []string{"a", "a #2", "a #3"}},
		{"paths by their last part where they are long", []string{"/opt/harbour/bin/pack --stream manifest", "/opt/harbour/old/bin/gather -x"}, []string{"pack --stream manifest", "gather -x"}},
		{"the middle of what is long", []string{"sh -c 'one two three four five six'", "true"}, []string{"sh -c 'one tw…four five six'", "true"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			if got := commandNames(tt.given); !slices.Equal(got, tt.want) {
				t.Errorf("names are %q; want %q", got, tt.want)
			}
		})
	}
}

func TestNamesOfURLs(t *testing.T) {
	tests := []struct {
		name        string
		given, want []string
	}{
		{"a host that is shared is left out", []string{"http://127.0.0.1:80/berths/joined", "http://127.0.0.1:80/berths/snapshot"}, []string{"/berths/joined", "/berths/snapshot"}},
		{"hosts that differ stand", []string{"http://127.0.0.1:80/berths?tide=3", "http://127.0.0.1:81/berths?tide=3"}, []string{"127.0.0.1:80", "127.0.0.1:81"}},
		{"a query that differs", []string{"http://127.0.0.1/b?board=joined&tide=3", "http://127.0.0.1/b?board=copied&tide=3"}, []string{"/b?board=joined", "/b?board=copied"}},
		{"one without a path", []string{"http://127.0.0.1", "http://127.0.0.1/a"}, []string{"/", "/a"}},
		{"the same twice", []string{"http://127.0.0.1/a", "http://127.0.0.1/a"}, []string{"/a", "/a #2"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			var urls []*url.URL
			for _, g := range tt.given {
				u, err := url.Parse(g)
				if err != nil {
					t.Fatal(err)
				}
				urls = append(urls, u)
			}
			if got := urlNames(urls); !slices.Equal(got, tt.want) {
				t.Errorf("names are %q; want %q", got, tt.want)
			}
		})
	}
}

func TestATitleNamesTwo(t *testing.T) {
	if got := title([]string{"gzip -1", "gzip -6"}); got != "gzip -1 against gzip -6" {
		t.Errorf("two are called %q", got)
	}
	if got := title([]string{"a", "b", "c", "d"}); got != "a against b and 2 more" {
		t.Errorf("four are called %q", got)
	}
}
