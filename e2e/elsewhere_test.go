package e2e

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"
)

// inside is set, to the program under test, for the copy of this test that stands in a network of its own.
const inside = "PACEDUEL_TEST_NETWORK"

// elsewhere is an address that is not this machine's, but for the network of the test.
const elsewhere = "10.1.2.3"

// Whatever a plan, a redirect or a name says, nobody elsewhere is connected to, and no server of names asked. It is
// counted in a network of its own, where nothing can get out.
func TestNobodyElsewhereIsReached(t *testing.T) {
	beside(t)
	if os.Getenv(inside) != "" {
		countInside(t)
		return
	}
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(self, "-test.run=^TestNobodyElsewhereIsReached$", "-test.v", "-test.count=1")
	cmd.Env = append(os.Environ(), inside+"="+program)
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET | syscall.CLONE_NEWNS}
	if os.Getuid() != 0 {
		cmd.SysProcAttr.Cloneflags |= syscall.CLONE_NEWUSER
		cmd.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getuid(), Size: 1}}
		cmd.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getgid(), Size: 1}}
	}
	out, err := cmd.CombinedOutput()
	if errors.Is(err, syscall.EPERM) || strings.Contains(string(out), "no right to a network of its own") {
		t.Skipf("a network of its own may not be made here: %v\n%s", err, out)
	}
	if err != nil || !strings.Contains(string(out), "--- PASS") {
		t.Fatalf("%v\n%s", err, out)
	}
}

// network gives the calling process's network a loopback device with both addresses, and itself as the server of names.
func network(t *testing.T) {
	t.Helper()
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer unix.Close(fd)
	up := func(i *unix.Ifreq) error { i.SetUint16(unix.IFF_UP | unix.IFF_RUNNING); return nil }
	for _, device := range []struct{ name, address string }{{"lo", "127.0.0.1"}, {"lo:1", elsewhere}} {
		at := func(i *unix.Ifreq) error { return i.SetInet4Addr(net.ParseIP(device.address).To4()) }
		for _, step := range []struct {
			request uint
			set     func(*unix.Ifreq) error
		}{{unix.SIOCSIFADDR, at}, {unix.SIOCSIFFLAGS, up}} { // a second name is a device once it has an address
			i, err := unix.NewIfreq(device.name)
			if err == nil {
				err = step.set(i)
			}
			if err == nil {
				err = unix.IoctlIfreq(fd, step.request, i)
			}
			if err != nil {
				refuse(t, err)
			}
		}
	}
	names := filepath.Join(t.TempDir(), "resolv.conf")
	if err := os.WriteFile(names, []byte("nameserver "+elsewhere+"\noptions timeout:1 attempts:1\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		refuse(t, err)
	}
	if err := unix.Mount(names, "/etc/resolv.conf", "", unix.MS_BIND, ""); err != nil {
		refuse(t, err)
	}
}

// refuse ends the copy of the test that stands in a network of its own. Only rights that are missing let the test be
// left out; anything else is a fault of it.
func refuse(t *testing.T, err error) {
	t.Helper()
	if errors.Is(err, unix.EPERM) || errors.Is(err, unix.EACCES) {
		t.Fatalf("no right to a network of its own: %v", err)
	}
	t.Fatal(err)
}

// It is long since its cases are listed in it.
func countInside(t *testing.T) {
	program = os.Getenv(inside)
	network(t)
	var reached atomic.Int64
	l, err := net.Listen("tcp", elsewhere+":8080")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	far := counted{l, make(chan struct{}, 1<<16)}
	go http.Serve(far, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "far") }))
	names, err := net.ListenPacket("udp", elsewhere+":53")
	if err != nil {
		t.Fatal(err)
	}
	defer names.Close()
	count := make(chan struct{})
	go func() {
		defer close(count)
		for buf := make([]byte, 1024); ; reached.Add(1) {
			if _, _, err := names.ReadFrom(buf); err != nil {
				return
			}
		}
	}()
	near, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer near.Close()
	go http.Serve(near, http.RedirectHandler("http://"+elsewhere+":8080/", http.StatusFound))

	h := newHome(t)
	h.env = append(h.env, "FAR=http://"+elsewhere+":8080/")
	duel := func(contender string) string {
		return "duel: Far\nbaseline: a\npace: { repeat: 2 }\nrounds: 1\ncontenders:\n  a: " + contender +
			"\n  b: { command: { run: [ 'true' ] } }\n"
	}
	here := near.Addr().String()
	service := "{ command: { run: [ 'true' ] }, service: { run: [ sleep, '60' ], limit: 300ms, ready: { url: '%s' } } }"
	plans := map[string]string{
		"a request":              duel("{ http: { url: 'http://" + elsewhere + ":8080/' } }"),
		"a name":                 duel("{ http: { url: 'http://far.example:8080/' } }"),
		"a redirect":             duel("{ http: { url: 'http://" + here + "/', redirects: 3 } }"),
		"a proxy":                duel("{ http: { url: 'http://" + here + "/', proxy: 'http://" + elsewhere + ":8080' } }"),
		"a database":             duel("{ query: { at: 'postgres://h@" + elsewhere + ":8080/b', statement: select 1 } }"),
		"a database's name":      duel("{ query: { at: 'mysql://h@far.example:8080/b', statement: select 1 } }"),
		"ready":                  duel(fmt.Sprintf(service, "http://"+elsewhere+":8080/")),
		"ready by a name":        duel(fmt.Sprintf(service, "http://far.example:8080/")),
		"ready by a redirect":    duel(fmt.Sprintf(service, "http://"+here+"/")),
		"ready, from a variable": duel(fmt.Sprintf(service, "${FAR}")),
		"the name of this machine": duel("{ http: { url: 'http://localhost:" + here[strings.LastIndex(here, ":")+1:] +
			"/', expect: 302 } }"),
	}
	for name, text := range plans {
		h.write(t, "far.duel.yaml", text)
		o := h.run(t, "run", "far.duel.yaml")
		if (o.status == 0) != strings.HasPrefix(name, "the name") {
			t.Errorf("%s ended with %d: %s%s", name, o.status, o.out, o.errout)
		}
		if n := far.since(t); n != 0 {
			t.Errorf("%s: %d connections to elsewhere", name, n)
		}
	}
	h.run(
		t, "between", "--headless", "http://"+elsewhere+":8080/", "http://far.example/",
	).says(t, 2, "is not this machine")
	names.Close()
	<-count
	if n := reached.Load(); n != 0 {
		t.Errorf("a server of names was asked %d times", n)
	}
	// The count counts: what is allowed is reached.
	h.write(t, "far.duel.yaml", plans["a request"]+"allow: ["+elsewhere+"]\n")
	h.run(t, "run", "far.duel.yaml").says(t, 0)
	if far.since(t) == 0 {
		t.Error("connections that were wanted are not counted")
	}
}

// counted is a listener that counts what it accepts.
type counted struct {
	net.Listener
	accepted chan struct{} // of each connection
}

func (c counted) Accept() (net.Conn, error) {
	conn, err := c.Listener.Accept()
	if err == nil {
		c.accepted <- struct{}{}
	}
	return conn, err
}

// since is how many connections were accepted since it was last asked. They are accepted in turn, so that one of our
// own comes after all that were made before.
func (c counted) since(t *testing.T) (n int) {
	t.Helper()
	own, err := net.Dial("tcp", c.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer own.Close()
	if err := own.(*net.TCPConn).SetLinger(0); err != nil {
		t.Fatal(err)
	}
	if _, err := fmt.Fprint(own, "GET / HTTP/1.0\r\n\r\n"); err != nil {
		t.Fatal(err)
	}
	if _, err := io.ReadAll(own); err != nil { // it was answered, so it was accepted
		t.Fatal(err)
	}
	for ; len(c.accepted) > 0; n++ {
		<-c.accepted
	}
	return n - 1
}
