package bus

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/nats-io/nkeys"

	"paceduel/internal/certificate"
)

// listen starts a server for a test.
func listen(t testing.TB, l Listening) *Server {
	t.Helper()
	if l.Address == "" {
		l.Address = "127.0.0.1:0"
	}
	s, err := Listen(l)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

func link(t testing.TB, a Access) *Link {
	t.Helper()
	l, err := Connect(t.Context(), a)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(l.Close)
	return l
}

func TestMessagesAreAnswered(t *testing.T) {
	s := listen(t, Listening{})
	agent, own := link(t, Access{URLs: []string{s.URL()}}), link(t, Access{URLs: []string{s.URL()}})
	stop, err := agent.Answer("a.echo", func(body []byte) []byte { return append([]byte("heard "), body...) })
	if err != nil {
		t.Fatal(err)
	}
	got, err := own.Ask(t.Context(), "a.echo", []byte("it"))
	if err != nil || string(got) != "heard it" {
		t.Errorf("answer %q, %v", got, err)
	}
	if _, err := own.Ask(t.Context(), "a.nobody", nil); !errors.Is(err, ErrNobody) {
		t.Errorf("nobody answers, yet %v", err)
	}
	stop()
	if _, err := own.Ask(t.Context(), "a.echo", nil); !errors.Is(err, ErrNobody) {
		t.Errorf("after stop: %v", err)
	}
	if _, err := own.Ask(t.Context(), "a.echo", make([]byte, Most+1)); !errors.Is(err, ErrTooLong) {
		t.Errorf("too long a message: %v", err)
	}
}

func TestEverybodyAnswers(t *testing.T) {
	s := listen(t, Listening{})
	for i := range 5 {
		l := link(t, Access{URLs: []string{s.URL()}})
		if _, err := l.Answer("all", func([]byte) []byte { return []byte{byte('a' + i)} }); err != nil {
			t.Fatal(err)
		}
	}
	own, err := s.Connect(t.Context(), "own", "")
	if err != nil {
		t.Fatal(err)
	}
	defer own.Close()
	var got []string
	if err := own.AskAll(t.Context(), "all", nil, 300*time.Millisecond, func(b []byte) {
		got = append(got,
			string(b))
	}); err != nil {
		t.Fatal(err)
	}
	slices.Sort(got)
	if strings.Join(got, "") != "abcde" {
		t.Errorf("answers %v; want a to e", got)
	}
	if err := own.AskAll(t.Context(), "none", nil, time.Minute,
		func([]byte) { t.Error("an answer of nobody") }); err != nil {
		t.Error(err)
	}
}

// A handler that falls takes nobody with it, and the next message is answered.
func TestAHandlerMayFall(t *testing.T) {
	s := listen(t, Listening{})
	l := link(t, Access{URLs: []string{s.URL()}})
	first := true
	if _, err := l.Answer("f", func([]byte) []byte {
		if first {
			first = false
			panic("a fault")
		}
		return []byte("up")
	}); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	if _, err := l.Ask(ctx, "f", nil); err == nil {
		t.Error("a fault was answered")
	}
	if got, err := l.Ask(t.Context(), "f", nil); err != nil || string(got) != "up" {
		t.Errorf("afterwards %q, %v", got, err)
	}
}

func TestALinkIsMadeAgain(t *testing.T) {
	s := listen(t, Listening{})
	address := strings.TrimPrefix(s.URL(), "nats://")
	l := link(t, Access{URLs: []string{s.URL()}})
	answered := func() error {
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		_, err := l.Ask(ctx, "again", nil)
		return err
	}
	if _, err := l.Answer("again", func([]byte) []byte { return []byte("yes") }); err != nil {
		t.Fatal(err)
	}
	if err := answered(); err != nil || l.Away() != 0 || l.BrokeWithin(time.Hour) {
		t.Fatalf("at first: %v, away %v", err, l.Away())
	}
	s.Close()
	if err := answered(); err == nil || l.Away() == 0 {
		t.Errorf("without a server: %v, away %v", err, l.Away())
	}
	listen(t, Listening{Address: address})
	var err error
	for range 20 {
		if err = answered(); err == nil {
			break
		}
	}
	if err != nil || l.Away() != 0 || !l.BrokeWithin(time.Hour) {
		t.Errorf("when it is back: %v, away %v", err, l.Away())
	}
}

func TestWhoIsNotKnownIsNotLetIn(t *testing.T) {
	s := listen(t, Listening{Token: "harbour-secret"})
	if _, err := Connect(t.Context(), Access{URLs: []string{s.URL()}}); err == nil ||
		!strings.Contains(err.Error(), TokenVariable) {
		t.Errorf("without the token: %v", err)
	}
	_, err := Connect(t.Context(), Access{URLs: []string{s.URL()}, Token: "another-secret"})
	if err == nil || strings.Contains(err.Error(), "another-secret") {
		t.Errorf("with another: %v", err)
	}
	link(t, Access{URLs: []string{s.URL()}, Token: "harbour-secret"})
}

func TestTLS(t *testing.T) {
	cert, key := certificate.Write(t, t.TempDir(), net.IPv4(127, 0, 0, 1))
	s := listen(t, Listening{Token: "harbour-secret", Cert: cert, Key: key})
	if !strings.HasPrefix(s.URL(), "tls://") {
		t.Errorf("agents join at %s", s.URL())
	}
	if _, err := Connect(t.Context(), Access{URLs: []string{s.URL()}, Token: "harbour-secret"}); err == nil {
		t.Error("a certificate of nobody was taken")
	}
	link(t, Access{URLs: []string{s.URL()}, Token: "harbour-secret", CA: cert})
	own, err := s.Connect(t.Context(), "own", "harbour-secret")
	if err != nil {
		t.Fatal(err)
	}
	own.Close()
}

func TestWhereAServerMayListen(t *testing.T) {
	tests := []struct {
		l    Listening
		want string // of the error; empty: it may
	}{
		{Listening{Address: "127.0.0.1:4222"}, ""},
		{Listening{Address: "localhost:0"}, ""},
		{Listening{Address: "0.0.0.0:4222"}, "--bus-cert"},
		{Listening{Address: ":4222"}, "--bus-cert"},
		{Listening{Address: "10.1.2.3:4222", Cert: "a", Key: "b"}, TokenVariable},
		{Listening{Address: "10.1.2.3:4222", Cert: "a", Key: "b", Token: "t"}, ""},
		{Listening{Address: "127.0.0.1:4222", Cert: "a"}, "its key"},
		{Listening{Address: "4222"}, "no place to listen"},
	}
	for _, tt := range tests {
		err := tt.l.Check()
		if (tt.want == "") != (err == nil) || err != nil && !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%+v: %v; want %q", tt.l, err, tt.want)
		}
	}
	s := listen(t, Listening{})
	taken := strings.TrimPrefix(s.URL(), "nats://")
	if _, err := Listen(Listening{Address: taken}); err == nil || !strings.Contains(err.Error(), "in use") {
		t.Errorf("on a port that is taken: %v", err)
	}
}

func TestAddressesOfABus(t *testing.T) {
	tests := []struct{ text, want, trouble string }{
		{"nats://127.0.0.1:4222", "nats://127.0.0.1:4222", ""},
		{"quay", "nats://quay:4222", ""},
		{"tls://quay:4443, nats://[::1]:1", "tls://quay:4443 nats://[::1]:1", ""},
		{"http://quay", "", "not at http://"},
		{"nats://tok@quay", "", TokenVariable},
		{"nats://", "", "no address"},
		{"", "", "no address"},
		{"nats://a b", "", "no address"},
	}
	for _, tt := range tests {
		got, err := ReadURLs(tt.text)
		if strings.Join(got, " ") != tt.want || (err == nil) != (tt.trouble == "") ||
			err != nil && (!strings.Contains(err.Error(), tt.trouble) || strings.Contains(err.Error(), "tok@")) {
			t.Errorf("ReadURLs(%q) = %v, %v; want %q, %q", tt.text, got, err, tt.want, tt.trouble)
		}
	}
	if !IsLoopback([]string{"nats://127.0.0.1:1", "tls://localhost:2"}) || IsLoopback([]string{"nats://quay:1"}) {
		t.Error("loopback is told wrongly")
	}
}

// Only servers that were named are looked up and dialled.
func TestNobodyElseIsDialled(t *testing.T) {
	opts, err := Access{URLs: []string{"nats://127.0.0.1:4222"}}.options()
	if err != nil || len(opts) < 3 {
		t.Fatal(opts, err)
	}
	d := dialer{}
	if _, err := d.Dial("tcp", "quay.example:4222"); err == nil || !strings.Contains(err.Error(), "not this machine") {
		t.Errorf("dialled %v", err)
	}
}

func TestCredentials(t *testing.T) {
	user, err := nkeys.CreateUser()
	if err != nil {
		t.Fatal(err)
	}
	seed, err := user.Seed()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	good, bad := filepath.Join(dir, "seed"), filepath.Join(dir, "bad")
	os.WriteFile(good, seed, 0o600)
	os.WriteFile(bad, []byte("neither"), 0o600)
	if _, err := (Access{Credentials: good}).options(); err != nil {
		t.Error(err)
	}
	for _, path := range []string{bad, filepath.Join(dir, "missing")} {
		if _, err := (Access{Credentials: path}).options(); err == nil || strings.Contains(err.Error(), "neither") {
			t.Errorf("%s: %v", path, err)
		}
	}
}

// What a bus costs a run: a message there and back, and one that is as long as they get.
func BenchmarkBus(b *testing.B) {
	s := listen(b, Listening{})
	a, own := link(b, Access{URLs: []string{s.URL()}}), link(b, Access{URLs: []string{s.URL()}})
	if _, err := a.Answer("x", func(body []byte) []byte { return body }); err != nil {
		b.Fatal(err)
	}
	for _, size := range []int{100, Most} {
		b.Run(fmt.Sprint(size), func(b *testing.B) {
			body := make([]byte, size)
			for b.Loop() {
				if _, err := own.Ask(b.Context(), "x", body); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
	b.Run("started", func(b *testing.B) {
		var wg sync.WaitGroup
		for b.Loop() {
			own, err := Listen(Listening{Address: "127.0.0.1:0"})
			if err != nil {
				b.Fatal(err)
			}
			wg.Go(own.Close)
		}
		wg.Wait()
	})
}
