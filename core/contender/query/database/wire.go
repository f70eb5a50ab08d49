package database

import (
	"net"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Wire is a connection that counts its bytes and can be interrupted: whoever reads from it then gets an error.
type Wire struct {
	net.Conn
	sent, received atomic.Int64
	head           []byte // the first bytes that came
	mu             sync.Mutex
	over           bool // interrupted: no limit is taken any more
}

// NewWire is a wire over a connection, which it owns.
func NewWire(conn net.Conn) *Wire { return &Wire{Conn: conn} }

// Read implements net.Conn.
func (w *Wire) Read(p []byte) (int, error) {
	n, err := w.Conn.Read(p)
	if room := headRoom - len(w.head); room > 0 {
		w.head = append(w.head, p[:min(max(n, 0), room)]...)
	}
	w.received.Add(int64(n))
	return n, err
}

// headRoom is how many of the first bytes are remembered: a greeting with the version of a server.
const headRoom = 128

// Head is the first bytes that came, for whoever reads from the wire.
func (w *Wire) Head() []byte { return w.head }

// Write implements net.Conn.
func (w *Wire) Write(p []byte) (int, error) {
	n, err := w.Conn.Write(p)
	w.sent.Add(int64(n))
	return n, err
}

// SetDeadline, SetReadDeadline and SetWriteDeadline are for those who use the connection before it is ours alone.
func (w *Wire) SetDeadline(t time.Time) error { return w.limit(t, w.Conn.SetDeadline) }

// SetReadDeadline implements net.Conn.
func (w *Wire) SetReadDeadline(t time.Time) error { return w.limit(t, w.Conn.SetReadDeadline) }

// SetWriteDeadline implements net.Conn.
func (w *Wire) SetWriteDeadline(t time.Time) error { return w.limit(t, w.Conn.SetWriteDeadline) }

func (w *Wire) limit(t time.Time, set func(time.Time) error) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.over {
		return os.ErrDeadlineExceeded
	}
	return set(t)
}

// Interrupt has every read and write fail from now on. It may be called from anywhere.
func (w *Wire) Interrupt() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.over = true
	w.Conn.SetDeadline(time.Unix(1, 0))
}

// Gone reports whether the other side has closed the connection, or has said something unasked that means so: said is
// given its first byte, and may be nil where what comes is encrypted.
func (w *Wire) Gone(said func(first byte) bool) (gone bool) {
	raw, ok := w.Conn.(syscall.Conn)
	if !ok {
		return false
	}
	own, err := raw.SyscallConn()
	if err != nil {
		return true
	}
	failed := own.Read(func(fd uintptr) bool {
		var first [1]byte
		n, _, err := unix.Recvfrom(int(fd), first[:], unix.MSG_PEEK|unix.MSG_DONTWAIT)
		switch {
		case n == 1:
			gone = said != nil && said(first[0])
		case err == nil:
			gone = true
		default:
			gone = err != unix.EAGAIN && err != unix.EINTR
		}
		return true
	})
	return gone || failed != nil
}

// Traffic is how many bytes went over it.
func (w *Wire) Traffic() (sent, received int64) { return w.sent.Load(), w.received.Load() }
