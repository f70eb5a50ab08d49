package harbour

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"
)

// The notice board takes notices and shows them to the ships' agents, who listen to its stream of events. It either
// looks into its tray again and again, the less often the longer nothing lay there, or is told of each notice as it
// comes.
type noticeBoard struct {
	mu     sync.Mutex
	tray   []notice
	shown  map[string]bool
	agents map[chan notice]bool
	told   chan struct{} // that something lies in the tray; nil for a board that looks by itself
}

type notice struct {
	ID   string `json:"id"`
	Text string `json:"text"`
}

// How often a board looks into its tray: at first, and when nothing has lain there for long.
const (
	leastLook = 5 * time.Millisecond
	mostLook  = 320 * time.Millisecond
)

// poll looks into the tray until ctx ends: twice as long after each look that found nothing.
func (b *noticeBoard) poll(ctx context.Context) {
	wait := leastLook
	for {
		if b.show() {
			wait = leastLook
		} else {
			wait = min(2*wait, mostLook)
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return
		}
	}
}

// listen shows what lies in the tray as it is told of it.
func (b *noticeBoard) listen(ctx context.Context) {
	for {
		select {
		case <-b.told:
			b.show()
		case <-ctx.Done():
			return
		}
	}
}

// show shows what lies in the tray, and reports whether anything did.
func (b *noticeBoard) show() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	any := len(b.tray) > 0
	for _, n := range b.tray {
		b.shown[n.ID] = true
		for agent := range b.agents {
			select {
			case agent <- n:
			default: // who does not read misses it
			}
		}
	}
	b.tray = b.tray[:0]
	return any
}

// put lays a notice into the tray.
func (b *noticeBoard) put(n notice) {
	b.mu.Lock()
	b.tray = append(b.tray, n)
	b.mu.Unlock()
	if b.told != nil {
		select {
		case b.told <- struct{}{}:
		default: // it is told already
		}
	}
}

// events tells an agent of each notice that is shown, as server-sent events.
func (b *noticeBoard) events(w http.ResponseWriter, r *http.Request) {
	agent := make(chan notice, 256)
	b.mu.Lock()
	b.agents[agent] = true
	b.mu.Unlock()
	defer func() {
		b.mu.Lock()
		delete(b.agents, agent)
		b.mu.Unlock()
	}()
	w.Header().Set("Content-Type", "text/event-stream")
	flush := http.NewResponseController(w)
	flush.Flush()
	for {
		select {
		case n := <-agent:
			text, _ := json.Marshal(n) // of texts
			fmt.Fprintf(w, "event: notice\ndata: %s\n\n", text)
			if flush.Flush() != nil {
				return
			}
		case <-r.Context().Done():
			return
		}
	}
}

// Notices has the notice board answer at address until ctx ends: POST /notice?id=ID, GET /events, GET /shown?id=ID. way
// is polls or pushes.
func Notices(ctx context.Context, way, address string, said io.Writer) error {
	b := &noticeBoard{shown: map[string]bool{}, agents: map[chan notice]bool{}}
	switch way {
	case "polls":
		go b.poll(ctx)
	case "pushes":
		b.told = make(chan struct{}, 1)
		go b.listen(ctx)
	default:
		return fmt.Errorf("there is no notice board that %s: polls or pushes", way)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /notice", func(w http.ResponseWriter, r *http.Request) {
		b.put(notice{r.FormValue("id"), "berth 7 is free"})
		w.Header().Set("Content-Type", "text/plain")
		fmt.Fprint(w, "it lies in the tray")
	})
	mux.HandleFunc("GET /events", b.events)
	mux.HandleFunc("GET /shown", func(w http.ResponseWriter, r *http.Request) {
		b.mu.Lock()
		defer b.mu.Unlock()
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(map[string]any{"id": r.FormValue("id"), "shown": b.shown[r.FormValue("id")]})
	})
	return listen(ctx, "the notice board", address, mux, said)
}
