package harbour

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"
)

// Service is the harbour's HTTP service.
type Service struct {
	// Boards is the way in which berth boards are made where nobody asks for another; set before Prepare, it is the only
	// one that the service gets ready for. Empty: all are, and per-vessel is the one.
	Boards string

	server   *http.Server
	listener net.Listener
	open     func() (*boards, error)
	db       *sql.DB
	tracer   *tracer
}

// Listen opens the service on address ("127.0.0.1:0" for any free port). The port's data is made at the first request
// or at Prepare, so that the address is known at once.
func Listen(address string) (*Service, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("open the harbour on %s: %w", address, err)
	}
	s := &Service{listener: l, tracer: newTracer()}
	s.open = sync.OnceValues(s.build)
	mux := http.NewServeMux()
	mux.HandleFunc("GET /berths", s.berths)
	mux.HandleFunc("GET /vessels", s.vessels)
	mux.HandleFunc("GET /arrivals", s.arrivals)
	mux.HandleFunc("GET /front", s.front)
	mux.HandleFunc("GET /front/{part}", s.front)
	mux.HandleFunc("GET /page", s.pages)
	mux.HandleFunc("GET /page/{part}", s.pages)
	mux.HandleFunc("GET /", func(w http.ResponseWriter, _ *http.Request) {
		http.Error(w, "Skerrow Harbour: ask for /berths?tide="+TideName(0)+", /vessels, /page?id=7 or /arrivals?rows=20",
			http.StatusNotFound)
	})
	s.server = &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	return s, nil
}

// URL is where the service answers, without a slash at its end.
func (s *Service) URL() string { return "http://" + s.listener.Addr().String() }

// Prepare makes the port's data now.
func (s *Service) Prepare() error {
	_, err := s.open()
	return err
}

// Serve answers until ctx ends.
func (s *Service) Serve(ctx context.Context) error {
	stop := context.AfterFunc(ctx, func() {
		limit, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		s.server.Shutdown(limit)
	})
	defer stop()
	defer s.tracer.close()
	err := s.server.Serve(s.listener)
	if s.db != nil {
		s.db.Close()
	}
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

func (s *Service) build() (*boards, error) {
	// One database in memory that every connection of this process shares.
	db, err := sql.Open("sqlite", fmt.Sprintf("file:/harbour-%s?vfs=memdb", s.listener.Addr()))
	if err != nil {
		return nil, fmt.Errorf("open the harbour's database: %w", err)
	}
	s.db = db
	db.SetMaxIdleConns(16)
	ctx := context.Background() // the data belongs to the service, not to whoever asks first
	if err := fill(ctx, db); err != nil {
		return nil, fmt.Errorf("make the harbour's data: %w", err)
	}
	return newBoards(ctx, db, s.Boards == "" || s.Boards == fromSnapshot)
}

// berths answers the berth board of one tide, in the way that the X-Board header names.
func (s *Service) berths(w http.ResponseWriter, r *http.Request) {
	b, err := s.open()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	ways := b.ways()
	name := r.Header.Get("X-Board")
	if name == "" {
		name = cmp.Or(s.Boards, "per-vessel")
	}
	way, ok := ways[name]
	if !ok {
		http.Error(w, fmt.Sprintf(
			"no way called %q; there are %s", name, strings.Join(slices.Sorted(maps.Keys(ways)), ", "),
		), http.StatusBadRequest)
		return
	}
	ctx, done := s.tracer.request(r)
	defer done()
	board, err := way(ctx, r.URL.Query().Get("tide"))
	switch {
	case errors.Is(err, errNoTide):
		http.Error(w, err.Error(), http.StatusNotFound)
	case err != nil:
		http.Error(w, err.Error(), http.StatusInternalServerError)
	default:
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Server", "Skerrow Harbour 1847")
		json.NewEncoder(w).Encode(board)
	}
}

// announcement begins the line that a harbour started as its own process prints first.
const announcement = "harbour open at "

// Announce writes the address for whoever started this process.
func (s *Service) Announce(out io.Writer) error {
	_, err := fmt.Fprintln(out, announcement+s.URL())
	return err
}

// Ready is the line that a harbour started as its own process prints once its data is made.
const Ready = "harbour ready"

// ReadAnnouncement reads the address that Announce wrote.
func ReadAnnouncement(line string) (url string, ok bool) {
	return strings.CutPrefix(strings.TrimSpace(line), announcement)
}
