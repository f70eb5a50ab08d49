package fleet

import (
	"fmt"
	"net/url"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"

	"paceduel/core/bus"
)

// cluster starts so many servers that know each other, and returns them with their addresses.
func cluster(t *testing.T, n int) (servers []*server.Server, urls []string) {
	t.Helper()
	var routes []*url.URL
	for i := range n {
		s, err := server.NewServer(&server.Options{
			ServerName: fmt.Sprint("harbour-", i), Host: "127.0.0.1", Port: server.RANDOM_PORT, NoSigs: true, NoLog: true,
			Cluster: server.ClusterOpts{Name: "harbour", Host: "127.0.0.1", Port: server.RANDOM_PORT}, Routes: routes,
		})
		if err != nil {
			t.Fatal(err)
		}
		go s.Start()
		t.Cleanup(func() {
			s.Shutdown()
			s.WaitForShutdown()
		})
		if !s.ReadyForConnections(10 * time.Second) {
			t.Fatalf("server %d does not come up", i)
		}
		servers, urls = append(servers, s), append(urls, "nats://"+s.Addr().String())
		routes = append(routes, &url.URL{Scheme: "nats", Host: s.ClusterAddr().String()})
	}
	return servers, urls
}

// One of three servers of a cluster that is killed in mid-heat takes nothing with it: whoever was on it goes to
// another.
func TestOneOfThreeServersIsKilled(t *testing.T) {
	long(t)
	t.Parallel()
	servers, urls := cluster(t, 3)
	h := newHarbour(t)
	on := func(first int) *bus.Link { // the servers in another order, so that each link is to another
		var own []string
		for i := range urls {
			own = append(own, urls[(first+i)%len(urls)])
		}
		l, err := bus.Connect(t.Context(), bus.Access{URLs: own})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(l.Close)
		return l
	}
	h.connect = func() *bus.Link { return on(2) }
	h.until("the servers know each other", func() bool {
		for _, s := range servers {
			if s.NumRoutes() == 0 {
				return false
			}
		}
		return true
	})
	for i := range 2 {
		h.connect = func() *bus.Link { return on(i) }
		h.join(fmt.Sprintf("quay-%d", i), "")
	}
	h.connect = func() *bus.Link { return on(2) }
	for killed := range 2 { // first that of an agent; then whoever runs the duel loses its own
		victim := servers[killed*2]
		r, err := h.run(h.plan(faulty+"load: { agents: 2, within: 4s }\n", nil),
			h.atHeat(3, func() { victim.Shutdown() }))
		if err != nil || whole(r, 3, 2, 0) != "" || len(stopped(r)) > 0 {
			t.Errorf("server %d killed: %v, %s, stopped: %q", killed*2, err, whole(r, 3, 2, 0), stopped(r))
		}
	}
}
