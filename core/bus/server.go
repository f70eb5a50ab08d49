package bus

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"

	"paceduel/core/guard"
)

// DefaultListen is where a server listens that was not told where: this machine alone.
const DefaultListen = "127.0.0.1:4222"

// Listening is where a server within this program listens, and whom it lets in.
type Listening struct {
	Address string // HOST:PORT; a port of 0: any that is free
	Token   string // that others have to know; empty: none
	// Cert and Key are files with the server's certificate and its key, both or none.
	Cert, Key string
}

// Check is why a server may not listen so: where others than this machine can reach it, it has to know them and be
// known.
func (l Listening) Check() error {
	host, _, err := net.SplitHostPort(l.Address)
	switch {
	case err != nil:
		return fmt.Errorf("%q is no place to listen; write HOST:PORT", l.Address)
	case (l.Cert == "") != (l.Key == ""):
		return errors.New("a certificate needs its key: give both --bus-cert and --bus-key")
	case guard.New(nil).Check(host) == nil:
		return nil
	case l.Cert == "" || l.Token == "":
		return fmt.Errorf("listen on %s: others can reach that; give --bus-cert and --bus-key, and a token in %s",
			l.Address, TokenVariable)
	}
	return nil
}

// Server is a bus within this program.
type Server struct {
	own *server.Server
	tls bool
}

// readyLimit is how long a server may take until it listens.
const readyLimit = 5 * time.Second

// Listen starts a server; the caller closes it.
func Listen(l Listening) (*Server, error) {
	if err := l.Check(); err != nil {
		return nil, err
	}
	host, portText, _ := net.SplitHostPort(l.Address)
	port, err := strconv.Atoi(portText)
	if err != nil || port < 0 || port > 1<<16-1 {
		return nil, fmt.Errorf("%q is no port to listen on", portText)
	}
	if port == 0 {
		port = server.RANDOM_PORT
	}
	opts := &server.Options{
		ServerName: "pace-duel", Host: host, Port: port, NoSigs: true, NoLog: true, MaxPayload: 1 << 20,
		Authorization: l.Token, DontListen: false, PingInterval: askEvery, MaxPingsOut: 2,
	}
	if l.Cert != "" {
		pair, err := tls.LoadX509KeyPair(l.Cert, l.Key)
		if err != nil {
			return nil, fmt.Errorf("read the certificate of the bus: %w", err)
		}
		opts.TLS, opts.TLSConfig, opts.TLSTimeout = true, &tls.Config{Certificates: []tls.Certificate{pair}},
			dialLimit.Seconds()
	}
	// The server ends the program where it can't listen; whether it can is tried before.
	if err := canListen(host, port); err != nil {
		return nil, err
	}
	own, err := server.NewServer(opts)
	if err != nil {
		return nil, fmt.Errorf("start a bus on %s: %w", l.Address, err)
	}
	go own.Start() // it returns when it accepts connections, or has ended
	if !own.ReadyForConnections(readyLimit) {
		own.Shutdown()
		return nil, fmt.Errorf("start a bus on %s: it does not come up", l.Address)
	}
	return &Server{own, l.Cert != ""}, nil
}

func canListen(host string, port int) error {
	ln, err := net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(max(port, 0))))
	if err != nil {
		why := err.Error()
		if i := strings.LastIndex(why, ": "); i >= 0 {
			why = why[i+2:]
		}
		return fmt.Errorf("start a bus on %s:%d: %s; name another place with --bus \"listen HOST:PORT\"", host, port, why)
	}
	return ln.Close()
}

// URL is where agents join.
func (s *Server) URL() string {
	scheme := "nats"
	if s.tls {
		scheme = "tls"
	}
	return scheme + "://" + s.own.Addr().String()
}

// Connect opens a link to the server from within this program.
func (s *Server) Connect(ctx context.Context, name, token string) (*Link, error) {
	opts := []nats.Option{nats.InProcessServer(s.own), nats.Name(name)}
	if token != "" {
		opts = append(opts, nats.Token(token))
	}
	if s.tls { // nobody is between us and ourselves
		opts = append(opts, nats.Secure(&tls.Config{InsecureSkipVerify: true}))
	}
	return connect(ctx, "nats://in-process", opts)
}

// Close ends the server and every link to it; it waits until both have ended.
func (s *Server) Close() {
	s.own.Shutdown()
	s.own.WaitForShutdown()
}
