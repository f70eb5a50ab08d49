package lean

import (
	"time"

	"paceduel/core/shots"
	"paceduel/core/units"
)

// What the latency of a request is made of, by its place in the shape.
const (
	Lookup  = iota // of the server's address
	Connect        // until the connection stood
	TLS            // the handshake
	Send           // until the request was handed over
	Wait           // until the first byte of the answer
	Read           // until its last
	Further        // the pages after the first
)

// What is counted of a request, by its place in the shape.
const (
	FirstByte = iota // time to the first byte of an answer that succeeded
	Connecting
	Redirects
	Replaced
	Connections
	Pages
	FirstPage // until the first one was there
	Requests  // of a shot that has several
	Saved     // answered from the client's own cache, without asking
	Held      // answered from it after the server said that it still holds
)

// Shape is what shots are made of that ask for something over HTTP.
var Shape = shots.Shape{
	Parts: []string{Lookup: "look-up", Connect: "connect", TLS: "tls", Send: "send", Wait: "wait", Read: "read",
		Further: "further pages"},
	Amounts: []shots.Amount{
		FirstByte: {
			Name: "first byte", Unit: units.Second, Row: "to the first byte", Per: shots.PerSuccess, Site: shots.Takes,
		},
		Connecting: {
			Name: "connecting", Unit: units.Second, Row: "connecting, each", Per: shots.Connections, Site: shots.Takes,
		},
		Redirects: {Name: "redirects", Unit: "redirects", Row: "redirects a shot", Per: shots.PerShot, Site: shots.Answers},
		Replaced:  {Name: "replaced", Unit: "connections", Row: "connections replaced", Site: shots.Connects},
		Connections: {
			Name: shots.Connections, Unit: "connections", Row: "new connections a shot", Per: shots.PerShot,
			Site: shots.Connects,
		},
		Pages: {Name: "pages", Unit: "pages", Row: "pages a shot", Per: shots.PerShot, Site: shots.Answers},
		FirstPage: {
			Name: "first page", Unit: units.Second, Row: "to the first page", Per: shots.PerSuccess, Site: shots.Takes,
		},
		Saved: {Name: "from cache", Unit: "requests", Row: "requests saved a shot", Per: shots.PerShot, Site: shots.Answers,
			More: true},
		Held: {Name: "revalidated", Unit: "requests", Row: "requests revalidated a shot", Per: shots.PerShot,
			Site: shots.Answers},
		Requests: {Name: "requests", Unit: "requests", Row: "requests a shot", Per: shots.PerShot, Site: shots.Answers},
	},
}

// Times are the moments of one request, from its start.
type Times struct {
	// Connect is how long opening a connection took; 0 when none was opened. Lookup and TLS are parts of it.
	Lookup, Connect, TLS time.Duration
	Asked                time.Duration // when the last byte of the request had been handed over
	FirstByte            time.Duration // when the first of the answer came
	// Replaced is how many kept connections turned out to have been closed before anything was sent over them. A shot
	// whose connection closes later has failed: nothing is sent twice.
	Replaced int
}

// Enter puts them into a shot that has ended. What it was made of is known of those alone that succeeded.
func (t *Times) Enter(shot *shots.Shot) {
	if t.Connect > 0 {
		shot.Count(Connections, 1)
		shot.Count(Connecting, int64(t.Connect))
	}
	if t.Replaced > 0 {
		shot.Count(Replaced, int64(t.Replaced))
	}
	if shot.Class != shots.OK {
		return
	}
	shot.Count(FirstByte, int64(t.FirstByte))
	if t.FirstByte == 0 || t.Asked == 0 {
		return
	}
	if t.Connect > 0 {
		if t.Lookup > 0 {
			shot.Took(Lookup, t.Lookup)
		}
		shot.Took(Connect, t.Connect-t.Lookup-t.TLS)
		if t.TLS > 0 {
			shot.Took(TLS, t.TLS)
		}
	}
	asked := min(t.Asked, t.FirstByte) // an answer may come before all was sent
	shot.Took(Send, max(asked-t.Connect, 0))
	shot.Took(Wait, t.FirstByte-asked)
	shot.Took(Read, max(shot.End-shot.Start-shot.Aside-t.FirstByte, 0))
}
