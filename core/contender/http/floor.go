package http

import (
	"bytes"
	"net"
	"sync"

	"paceduel/core/plan"
)

// floor is the cheapest contender: a server of our own on loopback that answers a few bytes, whatever it is asked.
// Where all contenders are forced onto one path, it is, too.
func floor(of []plan.Settings) (plan.Settings, func(), error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, nil, err
	}
	var wg sync.WaitGroup
	var mu sync.Mutex
	open := map[net.Conn]bool{}
	wg.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return // closed
			}
			mu.Lock()
			open[conn] = true
			mu.Unlock()
			wg.Go(func() { answerAll(conn) })
		}
	})
	s := New().(*Settings)
	s.URL = "http://" + l.Addr().String() + "/"
	for i, other := range of {
		if path := other.(*Settings).Path; i == 0 {
			s.Path = path
		} else if path != s.Path {
			s.Path = ""
			break
		}
	}
	return s, func() {
		l.Close()
		mu.Lock()
		for conn := range open {
			conn.Close()
		}
		mu.Unlock()
		wg.Wait()
	}, nil
}

// answerAll answers every request of a connection; a request is what ends with an empty line.
func answerAll(conn net.Conn) {
	defer conn.Close()
	answer := []byte("HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
	buf := make([]byte, 4096)
	for {
		n, err := conn.Read(buf)
		if err != nil {
			return
		}
		if bytes.HasSuffix(buf[:n], []byte("\r\n\r\n")) {
			if _, err := conn.Write(answer); err != nil {
				return
			}
		}
	}
}
