package harbour

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"
)

func TestStraitsTakeTheirTime(t *testing.T) {
	const each = 5 * time.Millisecond
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, strings.Repeat("berth ", 20_000))
	}))
	defer service.Close()
	s, err := Cross(strings.TrimPrefix(service.URL, "http://"), each)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	ask := func(base string) (took time.Duration) {
		began := time.Now()
		r, err := http.Get(base + "/")
		if err != nil {
			t.Fatal(err)
		}
		defer r.Body.Close()
		text, err := io.ReadAll(r.Body)
		if err != nil || len(text) != 120_000 {
			t.Errorf("%d bytes, %v", len(text), err)
		}
		return time.Since(began)
	}
	var near, far []time.Duration
	for range 15 {
		near, far = append(near, ask(service.URL)), append(far, ask("http://"+s.Address()))
	}
	slices.Sort(near)
	slices.Sort(far)
	if more := far[0] - near[0]; more < 2*each {
		t.Errorf("there and back took %v more; want at least %v", more, 2*each)
	}
	s.Close()
	if _, err := http.Get("http://" + s.Address() + "/"); err == nil {
		t.Error("closed straits are still crossed")
	}
}
