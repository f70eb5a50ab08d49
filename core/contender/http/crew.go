package http

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"

	"paceduel/core/contender"
	"paceduel/core/contender/http/lean"
)

// oneServer is the server of all requests, when it is one that is asked in clear.
func oneServer(requests []request) (*url.URL, bool) {
	first := requests[0].url
	for _, r := range requests {
		if r.url.Scheme != "http" || r.url.Host != first.Host {
			return nil, false
		}
	}
	return first, true
}

// Crew implements contender.Crewed.
func (d *driver) Crew(n int) (contender.Crew, error) {
	if _, ok := oneServer(d.requests); !ok || d.settings.Path == "full" {
		return nil, nil
	}
	return d.crew(n)
}

// crew makes a crew on the lean path, whose requests are the very bytes that the full path sends.
func (d *driver) crew(n int) (*lean.Crew, error) {
	server := d.requests[0].url
	addresses, err := resolve(server)
	if err != nil {
		return nil, fmt.Errorf("look up %s: %w", server.Host, err)
	}
	cfg := &lean.Config{
		Clock: d.clock, Addresses: addresses, Host: server.Host, Timeout: d.settings.Timeout.D(), MaxBody: int64(d.settings.MaxBody),
		Keep: d.settings.Connections != "new", Status: d.status,
	}
	for i := range d.requests {
		request := d.request(context.Background(), &d.requests[i])
		request.Close = !cfg.Keep
		var wire bytes.Buffer
		if err := request.Write(&wire); err != nil {
			return nil, fmt.Errorf("write the request for row %d: %w", i+1, err)
		}
		cfg.Requests = append(cfg.Requests, lean.Request{Wire: wire.Bytes(), IsHead: d.settings.Method == http.MethodHead})
	}
	return lean.New(cfg, n)
}

const lookupLimit = 5 * time.Second

// resolve lists the addresses of a server, those of IPv4 first since that is what most services on this machine listen on.
func resolve(server *url.URL) (out []netip.AddrPort, err error) {
	port := 80
	if p := server.Port(); p != "" {
		if port, err = strconv.Atoi(p); err != nil {
			return nil, err
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), lookupLimit)
	defer cancel()
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", server.Hostname())
	if err != nil {
		return nil, err
	}
	for _, four := range []bool{true, false} {
		for _, ip := range found {
			if ip = ip.Unmap(); ip.Is4() == four {
				out = append(out, netip.AddrPortFrom(ip, uint16(port)))
			}
		}
	}
	return out, nil
}

// leanClient is a crew of one, for where single shots are wanted on the lean path.
type leanClient struct {
	d    *driver
	crew *lean.Crew
	err  error
}

func (c *leanClient) Rewind() {
	if c.crew != nil {
		c.crew.Rewind()
	}
}

func (c *leanClient) Close() {
	if c.crew != nil {
		c.crew.Close()
		c.crew = nil
	}
}

// Shoot performs one request.
func (c *leanClient) Shoot(ctx context.Context, shot *contender.Shot) {
	view := shot.View
	if c.crew == nil && c.err == nil {
		c.crew, c.err = c.d.crew(1)
	}
	shot.Start = c.d.clock.Now()
	shot.End = shot.Start
	switch {
	case ctx.Err() != nil:
		shot.Class, shot.Err = contender.Cut, ctx.Err()
		return
	case c.err != nil:
		shot.Class, shot.Err = contender.Other, c.err
		return
	}
	begun := false
	job := &contender.Job{
		Next: func(int) (time.Duration, time.Duration, bool) {
			first := !begun
			begun = true
			return 0, 0, first
		},
		Ask:  func(_ int, s *contender.Shot) { s.View = view },
		Done: func(_ int, s *contender.Shot) { *shot = *s },
	}
	c.crew.Drive(ctx, job)
	if shot.View != nil && shot.View.Known {
		c.describe(shot.View)
	}
}

// describe adds what the lean path does not know of.
func (c *leanClient) describe(v *contender.View) {
	v.Done = c.d.settings.Summary()
	for i, h := range v.Headers {
		name, value, _ := strings.Cut(h, ": ")
		v.Headers[i] = canonical(name) + ": " + value
		if c.d.settings.Version != "" && strings.EqualFold(name, c.d.settings.Version) {
			v.Version = strings.TrimSpace(value)
		}
	}
}

var _ contender.Crewed = (*driver)(nil)
