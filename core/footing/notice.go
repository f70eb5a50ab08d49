package footing

import (
	"bytes"
	"net"
	"os"
	"path/filepath"

	"paceduel/core/keeper"
)

// notice is a socket to which a service says that it is ready, by the protocol of sd_notify: datagrams of lines, one of
// which is READY=1. Whoever sends it is not asked who they are: the socket lies in a folder that is the user's alone.
type notice struct {
	path   string
	conn   *net.UnixConn
	ready  chan struct{} // closed when it was said
	forget func()        // has the keeper forget its folder
}

func listenNotice() (*notice, error) {
	dir, err := os.MkdirTemp("", "paceduel-notify-*")
	if err != nil {
		return nil, err
	}
	n := &notice{path: filepath.Join(dir, "notify"), ready: make(chan struct{})}
	n.conn, err = net.ListenUnixgram("unixgram", &net.UnixAddr{Name: n.path, Net: "unixgram"})
	if err != nil {
		os.RemoveAll(dir)
		return nil, err
	}
	n.forget = func() {}
	if k, err := keeper.Shared(); err == nil {
		n.forget = k.RemoveAfter(dir)
	}
	go n.listen()
	return n, nil
}

func (n *notice) listen() {
	text := make([]byte, 4<<10)
	for {
		size, err := n.conn.Read(text)
		if err != nil {
			return // closed
		}
		for line := range bytes.Lines(text[:size]) {
			if string(bytes.TrimSpace(line)) == "READY=1" {
				close(n.ready)
				return
			}
		}
	}
}

func (n *notice) close() {
	n.conn.Close()
	os.RemoveAll(filepath.Dir(n.path))
	n.forget()
}

// noticed is closed when the service has said that it is ready; nil where it is not to say so.
func (v *service) noticed() <-chan struct{} {
	if v.notice == nil {
		return nil
	}
	return v.notice.ready
}
