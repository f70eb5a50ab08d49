package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"paceduel/internal/certificate"
)

// hosts are hosts on this machine: network namespaces on one bridge, the first with the address 10.77.0.1.
type hosts struct{ names []string }

// notHere is what ip says where rights are missing or the kernel has no such device; whatever else it says is a fault.
var notHere = regexp.MustCompile(`(?i)not permitted|not supported|unknown device type|permission denied`)

// newHosts makes n of them, or skips the test where they cannot be made.
func newHosts(t *testing.T, n int) *hosts {
	t.Helper()
	if _, err := exec.LookPath("ip"); err != nil || os.Getuid() != 0 {
		t.Skip("LEFT OUT: hosts of their own take ip (iproute2) and the administrator")
	}
	h := &hosts{}
	ip := func(args ...string) {
		t.Helper()
		if out, err := exec.Command("ip", args...).CombinedOutput(); err != nil {
			what := fmt.Sprintf("ip %s: %v: %s", strings.Join(args, " "), err, out)
			if notHere.Match(out) {
				t.Skip("LEFT OUT: hosts of their own cannot be made here: " + what)
			}
			t.Fatal(what)
		}
	}
	for i := range n {
		name := fmt.Sprintf("pdtest%d-%d", os.Getpid(), i)
		ip("netns", "add", name)
		t.Cleanup(func() { exec.Command("ip", "netns", "del", name).Run() })
		h.names = append(h.names, name)
		ip("-n", name, "link", "set", "lo", "up")
	}
	hub := h.names[0]
	ip("-n", hub, "link", "add", "quay", "type", "bridge")
	ip("-n", hub, "addr", "add", "10.77.0.1/24", "dev", "quay")
	ip("-n", hub, "link", "set", "quay", "up")
	for i, name := range h.names[1:] {
		here, there := fmt.Sprint("here", i), fmt.Sprint("there", i)
		ip("-n", hub, "link", "add", here, "type", "veth", "peer", "name", there, "netns", name)
		ip("-n", hub, "link", "set", here, "master", "quay", "up")
		ip("-n", name, "addr", "add", fmt.Sprintf("10.77.0.%d/24", i+2), "dev", there)
		ip("-n", name, "link", "set", there, "up")
	}
	return h
}

// command is the program on a host.
func (h *hosts) command(f *fleet, host int, args ...string) *exec.Cmd {
	cmd := exec.Command("ip", append([]string{"netns", "exec", h.names[host], program}, args...)...)
	cmd.Dir, cmd.Env = f.dir, f.env
	return cmd
}

// Agents on hosts of their own drive a service on another one, over a bus with TLS and a token; whose owner does not
// allow it drives nothing.
func TestAgentsOnHostsOfTheirOwn(t *testing.T) {
	f := newFleet(t)
	h := newHosts(t, 4)
	certificate.Write(t, f.dir, net.IPv4(10, 77, 0, 1))
	f.env = append(f.env, "PACEDUEL_BUS_TOKEN=harbour-secret", "PACEDUEL="+program)
	start := func(host int, args ...string) {
		cmd := h.command(f, host, args...)
		var said bytes.Buffer
		cmd.Stdout, cmd.Stderr = &said, &said
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() {
			cmd.Process.Signal(syscall.SIGTERM)
			cmd.Wait()
			if t.Failed() {
				t.Logf("%q said:\n%s", args, said.String())
			}
		})
	}
	start(0, "harbour", "serve", "--listen", "10.77.0.1:8080", "--boards", "joined")
	bus := "tls://10.77.0.1:4222"
	start(1, "join", bus, "--bus-ca", "cert.pem", "--name", "quay", "--allow", "10.77.0.1")
	start(2, "join", bus, "--bus-ca", "cert.pem", "--name", "roads", "--allow", "10.77.0.1")
	start(3, "join", bus, "--bus-ca", "cert.pem", "--name", "careful")
	run := func(lines string) outcome {
		f.write(t, "board.duel.yaml",
			"duel: Board\nbaseline: joined\nallow: [10.77.0.1]\ncontenders: { joined: , plain: }\n"+
				"course: { http: { url: \"http://10.77.0.1:8080/berths?tide=001-high\" } }\n"+lines)
		cmd := h.command(f, 0, "run", "board.duel.yaml", "--bus", "listen 10.77.0.1:4222", "--bus-cert", "cert.pem",
			"--bus-key", "key.pem", "--json", "out.json")
		var out, errout bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &errout
		err := cmd.Run()
		var exit *exec.ExitError
		if err != nil && !errors.As(err, &exit) {
			t.Fatal(err)
		}
		return outcome{cmd.ProcessState.ExitCode(), out.String(), errout.String()}
	}
	pace := "pace: { rate: 120/s, for: 1s, warmup: 0 }\nrounds: 2\n"
	run(pace+"load: { agents: [quay, roads] }\n").says(t, 0, "agent roads: ready", "heat 4 of 4")
	for i, heat := range f.result(t).Heats {
		if heat.Due != 120 || len(heat.Shares) != 2 || heat.Shares[0].Shots()+heat.Shares[0].Unsent != 60 {
			t.Errorf("heat %d: %d shots were due, shares %+v", i, heat.Due, heat.Shares)
		}
	}
	run(pace+"load: { agents: [quay, careful] }\n").says(t, 4, "agent careful", "it has to join with --allow 10.77.0.1")
	text, err := os.ReadFile(filepath.Join(f.dir, "out.json"))
	if err != nil || strings.Contains(string(text), "harbour-secret") {
		t.Errorf("the token is in the result: %v", err)
	}
}
