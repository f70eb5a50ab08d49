package harbour

import (
	"net"
	"sync"
	"time"
)

// Straits stand for distance: a way to a server of the harbour on which everything takes so long there, and as long
// back. They are a stand-in for a network, and the one place of the harbour that waits: what is waited for is the
// remote party's way, not work. Opening a connection takes no longer than without.
type Straits struct {
	ln   net.Listener
	to   string
	each time.Duration

	mu    sync.Mutex
	open  map[net.Conn]bool
	going sync.WaitGroup
}

// Cross opens straits to a server at HOST:PORT; each is how long one way takes. The caller closes them.
func Cross(to string, each time.Duration) (*Straits, error) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &Straits{ln: ln, to: to, each: each, open: map[net.Conn]bool{}}
	s.going.Go(s.accept)
	return s, nil
}

// Address is where the straits begin, HOST:PORT.
func (s *Straits) Address() string { return s.ln.Addr().String() }

// Close ends all that is on its way.
func (s *Straits) Close() {
	s.ln.Close()
	s.mu.Lock()
	for c := range s.open {
		c.Close()
	}
	s.open = nil
	s.mu.Unlock()
	s.going.Wait()
}

func (s *Straits) accept() {
	for {
		near, err := s.ln.Accept()
		if err != nil {
			return
		}
		far, err := net.Dial("tcp", s.to)
		if err != nil || !s.keep(near, far) {
			near.Close()
			if far != nil {
				far.Close()
			}
			continue
		}
		s.going.Go(func() { s.carry(near, far) })
		s.going.Go(func() { s.carry(far, near) })
	}
}

// keep notes two connections that Close is to end; false when it has been called.
func (s *Straits) keep(conns ...net.Conn) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range conns {
		if s.open == nil {
			return false
		}
		s.open[c] = true
	}
	return true
}

// cargo is what came at a time; nil: nothing more comes.
type cargo struct {
	text []byte
	at   time.Time
}

// mostAfloat bounds what is on its way at a time, in pieces.
const mostAfloat = 1024

// carry takes what comes from one end to the other, each piece as long after it came as the way takes.
func (s *Straits) carry(from, to net.Conn) {
	afloat := make(chan cargo, mostAfloat)
	s.going.Go(func() {
		defer close(afloat)
		for {
			buf := make([]byte, 16<<10)
			n, err := from.Read(buf)
			if n > 0 {
				afloat <- cargo{buf[:n], time.Now()}
			}
			if err != nil {
				return
			}
		}
	})
	for c := range afloat {
		time.Sleep(s.each - time.Since(c.at))
		if _, err := to.Write(c.text); err != nil {
			break
		}
	}
	from.Close()
	to.Close()
	for range afloat { // whoever reads must not wait for us
	}
}
