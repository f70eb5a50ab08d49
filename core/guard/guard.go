// Package guard keeps us from reaching anybody but this machine and the hosts that a plan allows.
//
// It is the one place where this program looks up a name or opens a connection to an address from a plan, an answer or
// a redirect: who needs a connection asks a Guard for it, and who opens sockets itself takes an Address, which only a
// Guard makes. What is refused is neither dialled nor looked up. A Guard is a value that does not change; its methods
// may be called from anywhere. What is sent over a connection is left to whoever opened it.
package guard

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Guard says who may be reached. The zero Guard allows this machine alone.
type Guard struct{ allow []string }

// New allows this machine and the hosts given, names or addresses.
func New(allow []string) Guard { return Guard{slices.Clone(allow)} }

// RefusedError is a host that may not be reached.
type RefusedError struct {
	Host string // as it was asked for
	Is   string // what it turned out to be, where that is the trouble; else empty
}

func (e *RefusedError) Error() string {
	what := e.Host + " is not this machine"
	if e.Is != "" {
		what = fmt.Sprintf("%s is %s, which is not this machine", e.Host, e.Is)
	}
	return what + "; " + Try(e.Host)
}

// Try is what to do about a host that may not be reached.
func Try(host string) string { return TryLine + "[" + host + "]" }

// TryLine is what Try says before the host, TryWords its part that does not speak of a line in a plan.
const (
	TryWords = "if you may put load on it, "
	TryLine  = TryWords + "add the line: allow: "
)

// ParseURL reads an address that can be asked: one with a host, in clear or over TLS.
func ParseURL(text string) (*url.URL, error) {
	u, err := url.Parse(text)
	if err != nil {
		return nil, err
	}
	if u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("%q is not an address to ask", text)
	}
	return u, nil
}

// Check is why a host may not be reached; nil when it may. It looks nothing up.
func (g Guard) Check(host string) error {
	if g.allowed(host) || isLocal(host) {
		return nil
	}
	return &RefusedError{Host: host}
}

func (g Guard) allowed(host string) bool { return slices.Contains(g.allow, host) }

// isLocal reports whether a host is this machine without looking it up.
func isLocal(host string) bool {
	ip, err := netip.ParseAddr(host)
	return strings.EqualFold(host, "localhost") || err == nil && ip.Unmap().IsLoopback()
}

// Address is where a connection may be opened to. Only a Guard makes one.
type Address struct{ at netip.AddrPort }

// AddrPort is the address itself, never one of IPv4 in IPv6.
func (a Address) AddrPort() netip.AddrPort { return a.at }

// Addresses lists the addresses of a host, those of IPv4 first since that is what most services on this machine listen
// on.
func (g Guard) Addresses(ctx context.Context, host, port string) (out []Address, err error) {
	if err := g.Check(host); err != nil {
		return nil, err
	}
	number, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return nil, fmt.Errorf("%q is not a port", port)
	}
	found, err := g.lookup(ctx, host)
	if err != nil {
		return nil, err
	}
	for _, four := range []bool{true, false} {
		for _, ip := range found {
			if ip = ip.Unmap(); ip.Is4() == four {
				out = append(out, Address{netip.AddrPortFrom(ip, uint16(number))})
			}
		}
	}
	return out, nil
}

func (g Guard) lookup(ctx context.Context, host string) ([]netip.Addr, error) {
	if ip, err := netip.ParseAddr(host); err == nil {
		return []netip.Addr{ip}, nil
	}
	if strings.EqualFold(host, "localhost") && !g.allowed(host) { // no server of names is to be asked for it (RFC 6761)
		return []netip.Addr{netip.AddrFrom4([4]byte{127, 0, 0, 1}), netip.IPv6Loopback()}, nil
	}
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return nil, fmt.Errorf("look up %s: %w", host, err)
	}
	return found, nil
}

// DialContext opens a connection to host:port, trying its addresses in turn. A socket of this machine (network unix) is
// open to everybody who may read it.
func (g Guard) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	if network == "unix" {
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	addresses, err := g.Addresses(ctx, host, port)
	if err != nil {
		return nil, err
	}
	return Dial(ctx, network, addresses)
}

// Dial opens a connection to the first of the addresses that takes one; the error is the last one's.
func Dial(ctx context.Context, network string, addresses []Address) (conn net.Conn, err error) {
	for _, a := range addresses {
		if conn, err = (&net.Dialer{}).DialContext(ctx, network, a.at.String()); err == nil {
			return conn, nil
		}
	}
	return nil, err
}

// Redirect is why a request may not go on to where an answer sends it; nil when it may.
func (g Guard) Redirect(next *http.Request) error {
	if err := g.Check(next.URL.Hostname()); err != nil {
		return fmt.Errorf("redirected: %w", err)
	}
	return nil
}

// KeepingClient asks over HTTP whom the guard lets it, over connections of which up to idle are kept for each server.
// It follows no redirects and has no limit of its own.
func (g Guard) KeepingClient(idle int) *http.Client {
	return &http.Client{
		Transport: &http.Transport{
			Proxy: nil, DialContext: g.DialContext, MaxIdleConnsPerHost: idle, DisableCompression: true,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// mostRedirects is how many redirects a Client follows.
const mostRedirects = 10

// Client asks over HTTP whom the guard lets it, over a new connection each time and no proxy, with a limit for the
// whole answer.
func (g Guard) Client(limit time.Duration) *http.Client {
	return &http.Client{
		Timeout:   limit,
		Transport: &http.Transport{DisableKeepAlives: true, Proxy: nil, DialContext: g.DialContext},
		CheckRedirect: func(next *http.Request, before []*http.Request) error {
			if len(before) >= mostRedirects {
				return http.ErrUseLastResponse
			}
			return g.Redirect(next)
		},
	}
}
