package guard_test

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"paceduel/core/guard"
)

func TestWhoMayBeReached(t *testing.T) {
	tests := []struct {
		host string
		may  bool
	}{
		{"127.0.0.1", true}, {"127.9.8.7", true}, {"::1", true}, {"localhost", true}, {"LocalHost", true}, {
			"::ffff:127.0.0.1", true,
		},
		{"quay.example", true}, {"10.9.9.9", true},
		{"", false}, {"0.0.0.0", false}, {"::", false}, {"10.1.2.3", false}, {"127.1", false}, {
			"2130706433", false,
		}, {"0x7f000001", false},
		{"localhost.", false}, {
			"a.localhost", false,
		}, {"far.example", false}, {"QUAY.example", false}, {"::ffff:10.1.2.3", false}, {"fe80::1%lo", false},
		{"localhost.far.example", false}, {"10.9.9.9.", false},
	}
	g := guard.New([]string{"quay.example", "10.9.9.9"})
	for _, tt := range tests {
		err := g.Check(tt.host)
		var refused *guard.RefusedError
		if (err == nil) != tt.may || err != nil && (!errors.As(err, &refused) || refused.Host != tt.host) {
			t.Errorf("Check(%q) = %v; may be reached: %t", tt.host, err, tt.may)
		}
		if tt.may {
			continue
		}
		if _, err := g.DialContext(t.Context(), "tcp", net.JoinHostPort(tt.host, "9")); !errors.As(err, &refused) {
			t.Errorf("dialling %q: %v; want it refused", tt.host, err)
		}
		if _, err := g.Addresses(t.Context(), tt.host, "9"); !errors.As(err, &refused) {
			t.Errorf("addresses of %q: %v; want them refused", tt.host, err)
		}
	}
}

func TestAddresses(t *testing.T) {
	for host, want := range map[string][]string{
		"localhost": {"127.0.0.1:80", "[::1]:80"}, "::ffff:127.0.0.1": {"127.0.0.1:80"}, "::1": {"[::1]:80"},
	} {
		got, err := guard.Guard{}.Addresses(t.Context(), host, "80")
		if err != nil || len(got) != len(want) {
			t.Fatalf("addresses of %s: %v, %v; want %q", host, got, err, want)
		}
		for i := range got {
			if got[i].AddrPort().String() != want[i] {
				t.Errorf("address %d of %s is %s; want %s", i, host, got[i].AddrPort(), want[i])
			}
		}
	}
	if _, err := (guard.Guard{}).Addresses(t.Context(), "localhost", "eighty"); err == nil {
		t.Error("a port that is none is taken")
	}
}

func TestAClientStaysHere(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/away":
			http.Redirect(w, r, "http://10.1.2.3:9/", http.StatusFound)
		case "/here":
			http.Redirect(w, r, "/", http.StatusFound)
		case "/round":
			http.Redirect(w, r, "/round", http.StatusFound)
		}
	}))
	defer s.Close()
	t.Setenv("HTTP_PROXY", "http://10.1.2.3:9")
	ask := func(path string) (int, error) {
		request, err := http.NewRequestWithContext(context.Background(), http.MethodGet, s.URL+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		answer, err := guard.Guard{}.Client(5 * time.Second).Do(request)
		if err != nil {
			return 0, err
		}
		answer.Body.Close()
		return answer.StatusCode, nil
	}
	var refused *guard.RefusedError
	if _, err := ask("/away"); !errors.As(err, &refused) || refused.Host != "10.1.2.3" {
		t.Errorf("redirected away: %v; want it refused", err)
	}
	if status, err := ask("/here"); err != nil || status != http.StatusOK {
		t.Errorf("redirected here: %d, %v", status, err)
	}
	if status, err := ask("/round"); err != nil || status != http.StatusFound {
		t.Errorf("redirected for ever: %d, %v", status, err)
	}
}

func TestAddressesThatCanBeAsked(t *testing.T) {
	for text, ok := range map[string]bool{
		"http://127.0.0.1:8080/health": true, "https://[::1]/": true,
		"127.0.0.1:8080": false, "file:///etc/hosts": false, "http:///health": false, "gopher://quay/": false,
		"http://[": false, "": false,
	} {
		if u, err := guard.ParseURL(text); (err == nil) != ok || ok && u.String() != text {
			t.Errorf("ParseURL(%q) = %v, %v", text, u, err)
		}
	}
}
