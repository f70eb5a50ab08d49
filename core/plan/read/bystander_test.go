package read_test

import (
	"strings"
	"testing"
	"time"

	"paceduel/core/plan/read"
)

const boards = `duel: Boards
baseline: a
course:
  http: { url: "http://127.0.0.1:8080/board" }
  bystander: BYSTANDER
contenders: { a: , b: { bystander: }, c: { bystander: { tcp: "127.0.0.1:8080", rate: 50/s } } }
pace: { repeat: 5 }
`

func TestABystanderIsRead(t *testing.T) {
	p, err := readText(strings.Replace(boards, "BYSTANDER", `{ http: { url: "http://127.0.0.1:8080/ping" }, within: 20ms }`, 1),
		read.Options{})
	if err != nil {
		t.Fatal(err)
	}
	a, b, c := p.Contenders[0].Ground.Bystander, p.Contenders[1].Ground.Bystander, p.Contenders[2].Ground.Bystander
	if a.Kind != "http" || a.Within.D() != 20*time.Millisecond || a.Rate != 100 || a.Quiet.D() != time.Second ||
		a.Every() != 10*time.Millisecond || !strings.Contains(a.Summary(), "/ping, 100/s") {
		t.Errorf("%+v: %s", a, a.Summary())
	}
	if b != nil || c.TCP != "127.0.0.1:8080" || c.Rate != 50 || c.Kind != "" {
		t.Errorf("%+v, %+v", b, c)
	}
	for said, want := range map[string]string{
		"{ rate: 10/s }": "nothing says what the bystander does; set tcp:, line:, ping:, or the key of a kind, as http:",
		`{ http: { url: "http://127.0.0.1/" }, tcp: "127.0.0.1:1" }`:     "a bystander does one thing",
		`{ http: { url: "http://127.0.0.1/" }, command: { run: [ls] } }`: "a bystander does one thing",
		`{ http: { url: "http://10.1.2.3/" } }`:                          "10.1.2.3 is not this machine",
		`{ tcp: "10.1.2.3:80" }`:                                         "10.1.2.3 is not this machine",
		`{ tcp: "127.0.0.1" }`:                                           `"127.0.0.1" is not an address`,
		`{ tcp: "127.0.0.1:1", rate: 6000/s }`:                           "6000/s is more than 5000/s; it is to be light",
		"{ line: { pattern: tick, every: 20ms } }":                       "nothing prints the line",
		`{ tpc: "127.0.0.1:1" }`:                                         `unknown key "tpc"`,
		"{ ping: true }":                                                 "only a worker answers pings",
		"often":                                                          "course.bystander must hold keys and values",
	} {
		_, err := readText(strings.Replace(boards, "BYSTANDER", said, 1), read.Options{})
		if err == nil || !strings.Contains(strings.ReplaceAll(err.Error(), "contenders.a", "course"), want) {
			t.Errorf("%s: %v; want %s", said, err, want)
		}
	}
	service := "course:\n  service: { run: [x, \"${PORT}\"], ready: { line: x } }\n"
	serviced := strings.Replace(boards, "course:\n", service, 1)
	for said, want := range map[string]string{
		"{ line: { pattern: '(', every: 20ms } }": "is not a regular expression",
		"{ line: { pattern: x, every: 1us } }":    "too often",
	} {
		_, err := readText(strings.Replace(serviced, "BYSTANDER", said, 1), read.Options{})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v; want %s", said, err, want)
		}
	}
}
