package relay

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/coder/websocket"
	"github.com/fsnotify/fsnotify"
	"github.com/tmaxmax/go-sse"

	"paceduel/core/contender"
	"paceduel/core/panics"
)

// deed is one that is under way.
type deed struct {
	key    string
	number uint64
	began  time.Duration
	asked  atomic.Int64

	mu     sync.Mutex
	left   map[string]bool // effects that have not come
	came   map[string]time.Duration
	said   map[string]error // by the effects that are asked for: why they could not be, when that was last tried
	broken error            // what they would have come over has ended
	all    chan struct{}    // closed when none is left, or it is broken
}

// wait waits until all have come, and returns those that have not.
func (o *deed) wait(ctx context.Context, w *watch) (missing []string) {
	select {
	case <-o.all:
	case <-ctx.Done():
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, name := range w.d.settings.names() {
		if o.left[name] {
			missing = append(missing, name)
		}
	}
	return missing
}

// watch sees effects as they come, and says which deed each belongs to.
type watch struct {
	d               *driver
	prefix          string        // of all keys
	callLimit       time.Duration // for a request to us
	twice, disorder atomic.Int64

	starting sync.Mutex
	started  bool
	stop     context.CancelFunc
	ctx      context.Context
	wg       sync.WaitGroup
	address  atomic.Pointer[string] // that we listen at; nil while we do not
	server   *http.Server
	files    *fsnotify.Watcher
	tails    []*tail
	sockets  map[string]*websocket.Conn

	mu    sync.Mutex
	last  uint64           // number of the latest deed
	open  map[uint64]*deed // that are under way
	piled backlog
	seen  map[string][]uint8
	high  map[string]uint64 // the latest deed whose effect has come
	fault error             // what a stream ended with; it is opened anew by the next deed
}

func newWatch(d *driver) *watch {
	return &watch{
		d: d, callLimit: callLimit, prefix: "pd" + strconv.FormatUint(rand.Uint64N(1<<40)|1<<39, 36) + "k",
		open: map[uint64]*deed{}, seen: map[string][]uint8{}, high: map[string]uint64{},
		sockets: map[string]*websocket.Conn{},
	}
}

// mostSeen bounds for how many deeds it is known which of their effects have come, in bytes for each effect.
const mostSeen = 64 << 20

// expect begins a deed: its effects are looked out for.
func (w *watch) expect(names []string) *deed {
	o := &deed{left: map[string]bool{}, came: map[string]time.Duration{}, all: make(chan struct{})}
	for _, name := range names {
		o.left[name] = true
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.last++
	o.number, o.began = w.last, w.d.clock.Now()
	o.key = w.prefix + strconv.FormatUint(o.number, 10) + "q"
	w.open[o.number] = o
	w.piled.note(o.began, len(w.open))
	return o
}

// backlog is how many deeds were under way when each began: the most, and an even choice of them over time.
type backlog struct {
	most, seen, every int
	over              []contender.Waited
}

// mostWaited bounds what is kept of a backlog.
const mostWaited = 400

func (b *backlog) note(at time.Duration, n int) {
	b.most, b.every = max(b.most, n), max(b.every, 1)
	if b.seen%b.every == 0 {
		b.over = append(b.over, contender.Waited{At: at, Shots: n})
	}
	b.seen++
	if len(b.over) < mostWaited {
		return
	}
	for i := range mostWaited / 2 { // every other one
		b.over[i] = b.over[2*i]
	}
	b.over, b.every = b.over[:mostWaited/2], 2*b.every
}

// Backlog implements contender.Waiting.
func (d *driver) Backlog() (most int, over []contender.Waited) {
	w := d.watch
	w.mu.Lock()
	defer w.mu.Unlock()
	most, over = w.piled.most, w.piled.over
	w.piled = backlog{}
	return most, over
}

// Waits implements contender.Waiting.
func (d *driver) Waits() (n int, longest time.Duration) {
	w := d.watch
	w.mu.Lock()
	defer w.mu.Unlock()
	first := w.last
	for number := range w.open {
		first = min(first, number)
	}
	if o := w.open[first]; o != nil {
		longest = d.clock.Now() - o.began
	}
	return len(w.open), longest
}

func (w *watch) forget(o *deed) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.open, o.number)
}

// saw takes down that an effect of a deed has come.
func (w *watch) saw(number uint64, name string) {
	at := w.d.clock.Now()
	w.mu.Lock()
	defer w.mu.Unlock()
	if number == 0 || number > w.last || number > mostSeen {
		return // it is none of ours
	}
	for uint64(len(w.seen[name])) <= number {
		w.seen[name] = append(w.seen[name], 0)
	}
	if w.seen[name][number] > 0 {
		w.twice.Add(1)
		return
	}
	w.seen[name][number] = 1
	if number < w.high[name] {
		w.disorder.Add(1)
	}
	w.high[name] = max(w.high[name], number)
	o := w.open[number]
	if o == nil {
		return // too late
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.left[name] {
		delete(o.left, name)
		o.came[name] = at
		if len(o.left) == 0 && o.broken == nil {
			close(o.all)
		}
	}
}

// sawFirst is saw of what may be seen several times and is one effect all the same.
func (w *watch) sawFirst(number uint64, name string) {
	w.mu.Lock()
	again := number < uint64(len(w.seen[name])) && w.seen[name][number] > 0
	w.mu.Unlock()
	if !again {
		w.saw(number, name)
	}
}

// heard takes down how asking for an effect went.
func (o *deed) heard(name string, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.said == nil {
		o.said = map[string]error{}
	}
	o.said[name] = err
}

// fail ends the waiting of a deed for what cannot come.
func (o *deed) fail(err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.broken == nil && len(o.left) > 0 {
		o.broken = err
		close(o.all)
	}
}

// keys finds the deeds whose keys a text holds.
func (w *watch) keys(text []byte) (out []uint64) {
	for {
		at := bytes.Index(text, []byte(w.prefix))
		if at < 0 {
			return out
		}
		text = text[at+len(w.prefix):]
		end := bytes.IndexByte(text[:min(len(text), 21)], 'q')
		if end < 0 {
			continue
		}
		if n, err := strconv.ParseUint(string(text[:end]), 10, 64); err == nil {
			out = append(out, n)
		}
	}
}

func (w *watch) keyOf(number uint64) string { return w.prefix + strconv.FormatUint(number, 10) + "q" }

// oldest is the deed that waits longest for an effect; 0 for none.
func (w *watch) oldest(name string) (number uint64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for n, o := range w.open {
		o.mu.Lock()
		if o.left[name] && (number == 0 || n < number) {
			number = n
		}
		o.mu.Unlock()
	}
	return number
}

// told looks at a text that came over the way of some effects: whose is it? One that is tied to no deed belongs to the
// one that waits longest.
func (w *watch) told(text []byte, by func(*Effect) bool) {
	numbers := w.keys(text)
	for _, name := range w.d.settings.names() {
		e := w.d.settings.Effects[name]
		if !by(&e) {
			continue
		}
		if e.Has != "" && !strings.Contains(e.Has, keyMark) {
			if bytes.Contains(text, []byte(w.d.setup.Fill(e.Has))) {
				w.saw(w.oldest(name), name)
			}
			continue
		}
		see := w.saw
		if e.File != "" {
			see = w.sawFirst // it is read anew whenever it changes
		}
		for i, n := range numbers {
			if bytes.Contains(text, []byte(w.d.setup.Fill(e.has(w.keyOf(n))))) && !slices.Contains(numbers[:i], n) {
				see(n, name)
			}
		}
	}
}

// begin has all effects looked out for, unless they are; what had broken is opened anew.
func (w *watch) begin(ctx context.Context) error {
	w.starting.Lock()
	defer w.starting.Unlock()
	w.mu.Lock()
	broken := w.fault != nil
	w.fault = nil
	w.mu.Unlock()
	if broken {
		w.end()
	}
	if w.started {
		return nil
	}
	w.ctx, w.stop = context.WithCancel(context.Background())
	w.started = true
	if err := w.start(ctx); err != nil {
		w.end()
		return err
	}
	return nil
}

// start opens whatever effects come over.
func (w *watch) start(ctx context.Context) error {
	if err := w.listen(); err != nil {
		return fmt.Errorf("listen for what effects tell: %w", err)
	}
	for _, name := range w.d.settings.names() {
		e := w.d.settings.Effects[name]
		var err error
		switch {
		case e.Events != "":
			err = w.events(ctx, e.Events)
		case e.Socket != "":
			err = w.socket(ctx, w.d.fill(e.Socket, ""))
		case e.File != "":
			err = w.folder(&e)
		case e.Log != "":
			err = w.log(&e)
		}
		if err != nil {
			return fmt.Errorf("watch for %s: %w", name, err)
		}
	}
	if files := w.files; files != nil {
		w.goes("the watching of files", func() error { return w.onFiles(files) })
	}
	return nil
}

// Limits of what strangers may send us.
const (
	maxCall   = 64 << 10 // of the body of a request
	callLimit = 5 * time.Second
	mostCalls = 4096 // connections at a time
)

// listen opens our own address on loopback, for whoever calls back.
func (w *watch) listen() error {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	at := "http://" + listener.Addr().String()
	w.address.Store(&at)
	room := make(chan struct{}, mostCalls)
	w.server = &http.Server{
		ReadTimeout: w.callLimit, WriteTimeout: w.callLimit, MaxHeaderBytes: maxCall, ErrorLog: silent,
		Handler: http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
			select {
			case room <- struct{}{}:
				defer func() { <-room }()
			default:
				http.Error(rw, "too many at a time", http.StatusServiceUnavailable)
				return
			}
			body, err := io.ReadAll(io.LimitReader(r.Body, maxCall))
			if err != nil {
				return
			}
			w.told(append([]byte(r.URL.RequestURI()+"\n"), body...), func(e *Effect) bool { return e.Call })
			rw.WriteHeader(http.StatusNoContent)
		}),
	}
	server := w.server
	w.wg.Go(func() { server.Serve(listener) }) // it ends when the server is closed
	return nil
}

// url is where we listen; before that an address that nobody answers at.
func (w *watch) url() string {
	if at := w.address.Load(); at != nil {
		return *at
	}
	return anyURL
}

// goes runs something that is watched over until the watching ends; what it ends with breaks the deeds under way.
func (w *watch) goes(what string, run func() error) {
	ctx := w.ctx
	w.wg.Go(func() {
		var fault error
		func() {
			defer panics.Catch(what, &fault)
			fault = run()
		}()
		if ctx.Err() == nil {
			w.broke(fmt.Errorf("%s has ended: %w", what, fault))
		}
	})
}

// broke ends the waiting of all deeds for what cannot come any more.
func (w *watch) broke(err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.fault = err
	for _, o := range w.open {
		o.fail(err)
	}
}

var errEnded = errors.New("the other side closed it")

// events holds a stream of server-sent events open.
func (w *watch) events(ctx context.Context, said string) error {
	at := w.d.fill(said, "")
	r, err := http.NewRequestWithContext(w.ctx, http.MethodGet, at, nil)
	if err != nil {
		return err
	}
	r.Header.Set("Accept", "text/event-stream")
	answer, err := within(ctx, w.stop, func() (*http.Response, error) { return w.d.http.Do(r) })
	if err != nil {
		return err
	}
	if answer.StatusCode != http.StatusOK {
		answer.Body.Close()
		return fmt.Errorf("%w %s at %s", errStatus, answer.Status, at)
	}
	w.goes("the stream of events at "+at, func() error {
		defer answer.Body.Close()
		for event, err := range sse.Read(answer.Body, &sse.ReadConfig{MaxEventSize: maxAnswer}) {
			if err != nil {
				return err
			}
			w.told([]byte(event.Data), func(e *Effect) bool { return e.Events == said })
		}
		return errEnded
	})
	return nil
}

// within does something that ends with the watching, and ends the watching where ctx ends before it is done.
func within[T any](ctx context.Context, stop func(), do func() (T, error)) (T, error) {
	off := context.AfterFunc(ctx, stop)
	defer off()
	return do()
}

// socket holds a WebSocket open, for messages of both directions.
func (w *watch) socket(ctx context.Context, at string) error {
	if w.sockets[at] != nil {
		return nil
	}
	dialled, err := within(ctx, w.stop, func() (*websocket.Conn, error) {
		conn, _, err := websocket.Dial(w.ctx, at, &websocket.DialOptions{HTTPClient: w.d.http})
		return conn, err
	})
	if err != nil {
		return err
	}
	dialled.SetReadLimit(maxAnswer)
	w.sockets[at] = dialled
	own := w.ctx
	w.goes("the WebSocket at "+at, func() error {
		defer dialled.CloseNow()
		for {
			_, text, err := dialled.Read(own)
			if err != nil {
				return err
			}
			w.told(text, func(e *Effect) bool { return e.Socket != "" && w.d.fill(e.Socket, "") == at })
		}
	})
	return nil
}

// send sends a message over a WebSocket, which is opened for the first.
func (w *watch) send(ctx context.Context, to, text string) error {
	w.starting.Lock()
	err := w.socket(ctx, to)
	conn := w.sockets[to]
	w.starting.Unlock()
	if err != nil {
		return err
	}
	return conn.Write(ctx, websocket.MessageText, []byte(text))
}

// notify has a folder's changes told.
func (w *watch) notify(dir string) (err error) {
	if w.files == nil {
		if w.files, err = fsnotify.NewWatcher(); err != nil {
			return err
		}
	}
	return w.files.Add(dir)
}

// folder has the folder of a file that is an effect watched.
func (w *watch) folder(e *Effect) error { return w.notify(filepath.Dir(w.d.place(e.File, "k"))) }

// tail is a file to which lines are added, read up to a place.
type tail struct {
	said, at string
	from     int64
	rest     []byte // of a line that has not ended
}

// log has a file watched to which lines are added; what stands in it already is no effect.
func (w *watch) log(e *Effect) error {
	t := &tail{said: e.Log, at: w.d.place(e.Log, "")}
	if info, err := os.Stat(t.at); err == nil {
		t.from = info.Size()
	}
	w.tails = append(w.tails, t)
	return w.notify(filepath.Dir(t.at))
}

// onFiles takes the changes of files in.
func (w *watch) onFiles(files *fsnotify.Watcher) error {
	for {
		select {
		case event, ok := <-files.Events:
			if !ok {
				return errEnded
			}
			if event.Op&(fsnotify.Create|fsnotify.Write) != 0 {
				w.changed(event.Name)
			}
		case err, ok := <-files.Errors:
			if !ok {
				return errEnded
			}
			if !errors.Is(err, fsnotify.ErrEventOverflow) {
				return err
			}
		}
	}
}

// changed looks at a file that has appeared or changed.
func (w *watch) changed(path string) {
	for _, t := range w.tails {
		if t.at == path {
			w.added(t)
		}
	}
	numbers := w.keys([]byte(path))
	for _, name := range w.d.settings.names() {
		e := w.d.settings.Effects[name]
		switch {
		case e.File == "":
		case strings.Contains(e.File, keyMark):
			for _, n := range numbers {
				if w.d.place(e.File, w.keyOf(n)) == path && (e.Has == "" || w.holds(path, e.has(w.keyOf(n)))) {
					w.sawFirst(n, name) // a file is written in as many parts as it likes
				}
			}
		case w.d.place(e.File, "") == path:
			if text, err := readSome(path); err == nil {
				said := e.File
				w.told(text, func(e *Effect) bool { return e.File == said })
			}
		}
	}
}

func (w *watch) holds(path, text string) bool {
	all, err := readSome(path)
	return err == nil && bytes.Contains(all, []byte(text))
}

// readSome reads what there is of a file, as much as may be.
func readSome(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, cmp.Or(err, errNoFile)
	}
	return io.ReadAll(io.LimitReader(f, maxAnswer))
}

var errNoFile = errors.New("it is no regular file")

// added reads the lines that were added to a file. One that has become shorter was begun anew.
func (w *watch) added(t *tail) {
	f, err := os.Open(t.at)
	if err != nil {
		return
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && info.Size() < t.from {
		t.from, t.rest = 0, nil
	}
	const atOnce = 1 << 20
	buf := make([]byte, atOnce)
	for {
		n, _ := f.ReadAt(buf, t.from)
		if n == 0 {
			return
		}
		t.from += int64(n)
		t.rest = append(t.rest, buf[:n]...)
		for {
			end := bytes.IndexByte(t.rest, '\n')
			if end < 0 {
				break
			}
			w.told(t.rest[:end], func(e *Effect) bool { return e.Log == t.said })
			t.rest = t.rest[end+1:]
		}
		if len(t.rest) > maxAnswer { // no line is that long
			t.rest = nil
		}
		t.rest = bytes.Clone(t.rest)
	}
}

// end ends the watching; starting is held.
func (w *watch) end() {
	if !w.started {
		return
	}
	w.started = false
	w.stop()
	if w.server != nil {
		w.server.Close()
	}
	if w.files != nil {
		w.files.Close()
	}
	for _, conn := range w.sockets {
		conn.CloseNow()
	}
	w.wg.Wait()
	w.files, w.server, w.tails = nil, nil, nil
	clear(w.sockets)
}

func (w *watch) close() {
	w.starting.Lock()
	defer w.starting.Unlock()
	w.end()
}

// silent keeps what net/http has to say of strangers off the screen.
var silent = log.New(io.Discard, "", 0)
