package worker

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"syscall"
	"time"
)

// Variable is the environment variable that holds the address to which a worker connects.
const Variable = "PACEDUEL_WORKER"

// PingVariable is the environment variable that holds the address of a second line, where a worker is to answer pings.
const PingVariable = "PACEDUEL_PINGS"

// How long a worker may take, beyond what it is asked to do.
const (
	HelloLimit   = 10 * time.Second
	PrepareLimit = 30 * time.Second
	StopLimit    = 2 * time.Second
	answerLimit  = 10 * time.Second
)

// Session is a conversation with one worker. It is not safe for concurrent use.
type Session struct {
	conn    *wire
	in      *bufio.Reader
	Hello   Hello
	id      int
	threads int // of the function that was prepared last; 0 before any
}

// Greet takes a worker's hello on a connection. It closes the connection where that is no good one.
func Greet(ctx context.Context, conn net.Conn) (*Session, error) {
	w := &wire{Conn: conn}
	s := &Session{conn: w, in: bufio.NewReaderSize(w, 64<<10)}
	err := s.within(ctx, HelloLimit, func() error {
		h, text, err := readLine(s.in)
		switch {
		case errors.Is(err, io.EOF):
			return errNoHello
		case err != nil:
			return err
		case h.Say != "hello":
			return fmt.Errorf("its first line is %q, not hello", h.Say)
		}
		if err := json.Unmarshal(text, &s.Hello); err != nil {
			return fmt.Errorf("its hello cannot be read: %w", err)
		}
		return s.Hello.check()
	})
	if err != nil {
		conn.Close()
		return nil, err
	}
	return s, nil
}

// errNoHello is that the other end closed the connection before it had said anything.
var errNoHello = errors.New("it closed the connection without a hello")

// wire is a connection that knows whether its other end is gone. It says io.EOF of it however it went: a process that
// ends before it has read all that was sent to it resets its connection rather than closing it.
type wire struct {
	net.Conn
	broken bool
}

func (w *wire) Read(b []byte) (int, error) {
	n, err := w.Conn.Read(b)
	return n, w.see(err)
}

func (w *wire) Write(b []byte) (int, error) {
	n, err := w.Conn.Write(b)
	return n, w.see(err)
}

func (w *wire) see(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) {
		w.broken = true
		return io.EOF
	}
	return err
}

// within does something with the connection that may take so long. After an error the connection is of no more use.
func (s *Session) within(ctx context.Context, limit time.Duration, do func() error) error {
	s.conn.SetDeadline(time.Now().Add(limit))
	stop := context.AfterFunc(ctx, func() { s.conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	err := do()
	var late net.Error
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &late) && late.Timeout():
		return fmt.Errorf("it has not answered within %s", limit)
	}
	return err
}

// ask sends a question and reads its answer, whose say is to be want, into answer.
func (s *Session) ask(ctx context.Context, limit time.Duration, q question, want string, answer any) error {
	s.id++
	q.ID = s.id
	return s.within(ctx, limit, func() error {
		var h head
		var text []byte
		err := s.send(q)
		if err == nil {
			h, text, err = readLine(s.in)
		}
		switch {
		case errors.Is(err, io.EOF):
			return fmt.Errorf("it closed the connection in place of an answer to %s", q.Say)
		case err != nil:
			return err
		case h.ID != q.ID:
			return fmt.Errorf("it answered %s with the id %d where %s had %d", h.Say, h.ID, q.Say, q.ID)
		case h.Say == "trouble":
			return &Trouble{q.Say, h.What}
		case h.Say != want:
			return fmt.Errorf("it answered %s to %s, not %s", h.Say, q.Say, want)
		}
		if err := json.Unmarshal(text, answer); err != nil {
			return fmt.Errorf("its answer to %s cannot be read: %w", q.Say, err)
		}
		return nil
	})
}

// Trouble is what a worker says that it cannot do.
type Trouble struct{ Asked, What string }

func (t *Trouble) Error() string { return fmt.Sprintf("to %s it says: %s", t.Asked, t.What) }

func (s *Session) send(q any) error {
	line, err := json.Marshal(q)
	if err != nil {
		return err
	}
	if _, err := s.conn.Write(append(line, '\n')); err != nil {
		return fmt.Errorf("it cannot be asked: %w", err)
	}
	return nil
}

// Chat sends a line that no worker knows; it has to skip it. Whoever prepares a function sends one first, so that none
// forgets to.
func (s *Session) Chat() error {
	return s.send(map[string]any{"say": "weather", "at": "Skerrow Harbour", "sky": []string{"grey", "bright later"}})
}

// Prepare has a function made ready on so many threads.
func (s *Session) Prepare(
	ctx context.Context, function string, params map[string]any, threads int,
) (p Prepared, err error) {
	q := question{Say: "prepare", Function: function, Params: params, Threads: threads}
	if err = s.ask(ctx, PrepareLimit, q, "prepared", &p); err == nil {
		err = p.check()
	}
	if err != nil {
		return p, fmt.Errorf("prepare %s: %w", function, err)
	}
	s.threads = threads
	if string(p.Result) == "null" {
		p.Result = nil
	}
	return p, nil
}

// Run has the function that was prepared last do so many operations; limit is how long that may take.
func (s *Session) Run(ctx context.Context, operations int64, limit time.Duration) (Ran, error) {
	return s.run(ctx, question{Say: "run", Operations: operations}, limit)
}

// RunFor has it do as many as a time holds.
func (s *Session) RunFor(ctx context.Context, d time.Duration) (Ran, error) {
	return s.run(ctx, question{Say: "run", For: int64(d)}, 2*d)
}

func (s *Session) run(ctx context.Context, q question, limit time.Duration) (r Ran, err error) {
	if s.threads == 0 {
		return r, errors.New("run: nothing was prepared")
	}
	began := time.Now()
	if err = s.ask(ctx, limit+answerLimit, q, "ran", &r); err == nil {
		err = r.check(&q, s.threads, float64(time.Since(began)))
	}
	if err != nil {
		return r, fmt.Errorf("run: %w", err)
	}
	return r, nil
}

// Stop asks the worker to end, and ends the conversation.
func (s *Session) Stop() error {
	s.conn.SetDeadline(time.Now().Add(StopLimit))
	err := s.send(question{Say: "stop"})
	return errors.Join(err, s.conn.Close())
}

// Close ends the conversation without a word.
func (s *Session) Close() error { return s.conn.Close() }
