// Package measured judges duels that somebody else has measured: JSON Lines in, one duel a line, judgements out, one a
// line in the same order. docs/measured.md is the reference of both.
//
// It reads and writes; what the figures bear out is package judge's. A line that cannot be used is answered by one that
// says why, and the next is taken.
package measured

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"runtime"
	"strconv"

	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/plan"
	"paceduel/core/units"
)

// MaxLine is the longest line that is read, in bytes.
const MaxLine = 1 << 30

// duel is a line of the input.
type duel struct {
	ID       string   `json:"id"`
	Baseline string   `json:"baseline"`
	Smallest *float64 `json:"smallest_difference"` // a ratio
	Heats    []heat   `json:"heats"`
}

type heat struct {
	Round     int     `json:"round"`
	Order     int     `json:"order"`
	Contender string  `json:"contender"`
	Elapsed   float64 `json:"elapsed_s"`
	Samples   numbers `json:"samples_s"`
	Failed    int64   `json:"failed"`
}

// numbers is a list of numbers, read in one pass.
type numbers []float64

// UnmarshalJSON reads text that has been found to be JSON.
func (n *numbers) UnmarshalJSON(text []byte) error {
	if string(text) == "null" {
		return nil
	}
	if text[0] != '[' {
		return fmt.Errorf("samples_s must be a list of numbers")
	}
	out := make([]float64, 0, len(text)/8)
	for at := 1; at < len(text); {
		switch c := text[at]; c {
		case ' ', '\t', '\n', '\r', ',', ']':
			at++
		default:
			end := at
			for end < len(text) && text[end] != ',' && text[end] != ']' && text[end] > ' ' {
				end++
			}
			x, err := strconv.ParseFloat(string(text[at:end]), 64)
			if err != nil {
				return fmt.Errorf("sample %d is %s, no number", len(out)+1, clip(text[at:end]))
			}
			out, at = append(out, x), end
		}
	}
	*n = out
	return nil
}

func clip(text []byte) string {
	const most = 40
	if len(text) > most {
		return string(text[:most]) + "…"
	}
	return string(text)
}

// judgement is a line of the output.
type judgement struct {
	ID       string    `json:"id"`
	Line     int       `json:"line,omitempty"` // of one that could not be used
	Error    string    `json:"error,omitempty"`
	Rounds   int       `json:"rounds,omitempty"` // in which every contender has a heat
	Figures  []finding `json:"figures,omitempty"`
	Cautions []caution `json:"cautions,omitempty"`
}

type finding struct {
	Contender string      `json:"contender"`
	Figure    figure.Name `json:"figure"`
	Ratio     *float64    `json:"ratio,omitempty"` // over 1: the contender is better
	Low       *float64    `json:"low,omitempty"`
	High      *float64    `json:"high,omitempty"`
	// of the contender from the baseline, in seconds or shots a second
	Difference     *float64 `json:"difference,omitempty"`
	DifferenceLow  *float64 `json:"difference_low,omitempty"`
	DifferenceHigh *float64 `json:"difference_high,omitempty"`
	Level          float64  `json:"level"`
	Rounds         int      `json:"rounds"`
	Verdict        string   `json:"verdict"`  // of this figure alone
	Together       string   `json:"together"` // that holds for all figures of all contenders at once
	Need           int64    `json:"shots_needed,omitempty"`
}

type caution struct {
	Kind      judge.CautionKind `json:"kind"`
	Contender string            `json:"contender,omitempty"`
	Round     int               `json:"round,omitempty"`
	What      string            `json:"what"`
	Try       string            `json:"try,omitempty"`
}

// words are what the verdicts are called.
var words = map[judge.Word]string{judge.Better: "faster", judge.Worse: "slower"}

func called(w judge.Word) string {
	if text, ok := words[w]; ok {
		return text
	}
	return string(w)
}

// known is a number as JSON can have it; nil for none.
func known(x float64) *float64 {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return nil
	}
	return &x
}

// Judge reads duels from in and writes judgements to out, using all processors. It returns how many lines could not be
// used; each is told to trouble as well. The error is that of reading or writing.
func Judge(in io.Reader, out io.Writer, trouble func(line int, err error)) (bad int, err error) {
	workers := runtime.GOMAXPROCS(0)
	jobs, queue := make(chan *job), make(chan *job, 2*workers)
	stop := make(chan struct{})
	defer close(stop)
	for range workers {
		go func() {
			for j := range jobs {
				j.done <- one(j.line, j.text, j.err)
			}
		}()
	}
	var readErr error
	go func() {
		defer close(queue)
		defer close(jobs)
		readErr = deal(in, queue, jobs, stop)
	}()
	w := bufio.NewWriterSize(out, 1<<16)
	enc := json.NewEncoder(units.JSONWriter{To: w})
	enc.SetEscapeHTML(false)
	for j := range queue {
		answer := <-j.done
		if answer.Error != "" {
			bad++
			trouble(answer.Line, errors.New(answer.Error))
		}
		if err := enc.Encode(answer); err != nil {
			return bad, fmt.Errorf("write the judgement of line %d: %w", j.line, err)
		}
		if len(queue) == 0 { // whoever waits for answers one by one gets them
			if err := w.Flush(); err != nil {
				return bad, fmt.Errorf("write judgements: %w", err)
			}
		}
	}
	if err := w.Flush(); err != nil {
		return bad, fmt.Errorf("write judgements: %w", err)
	}
	return bad, readErr
}

// job is a line to be judged.
type job struct {
	line int
	text []byte
	err  error
	done chan judgement
}

// deal reads lines and hands each to whoever waits for its judgement and to whoever judges, until stop.
func deal(in io.Reader, queue, jobs chan<- *job, stop <-chan struct{}) error {
	r := bufio.NewReaderSize(in, 1<<20)
	for line := 1; ; line++ {
		text, err := readLine(r)
		if err == io.EOF {
			return nil
		}
		long := errors.Is(err, errLong)
		if err != nil && !long {
			return fmt.Errorf("read line %d: %w", line, err)
		}
		if len(text) == 0 && !long {
			continue
		}
		j := &job{line, text, err, make(chan judgement, 1)}
		for _, to := range []chan<- *job{queue, jobs} {
			select {
			case to <- j:
			case <-stop:
				return nil
			}
		}
	}
}

var errLong = fmt.Errorf("the line is longer than %d bytes; give each duel its own, with fewer samples", MaxLine)

// readLine reads a line without its end. A line that is too long is read to its end and reported.
func readLine(r *bufio.Reader) (line []byte, err error) {
	long := false
	for {
		part, err := r.ReadSlice('\n')
		if !long {
			line = append(line, part...)
		}
		if len(line) > MaxLine {
			long, line = true, nil
		}
		switch {
		case err == bufio.ErrBufferFull:
			continue
		case err == io.EOF && len(line) == 0 && !long, err != nil && err != io.EOF:
			return nil, err
		case long:
			return nil, errLong
		}
		for len(line) > 0 && (line[len(line)-1] == '\n' || line[len(line)-1] == '\r' || line[len(line)-1] == ' ') {
			line = line[:len(line)-1]
		}
		return line, nil
	}
}

// one judges a line.
func one(line int, text []byte, err error) judgement {
	var d duel
	if err == nil {
		if err = json.Unmarshal(text, &d); err != nil {
			err = fmt.Errorf("this is not a duel: %w", err)
		}
	}
	m := judge.Measured{Baseline: d.Baseline, Interest: plan.DefaultInterest, Seed: 1}
	if d.Smallest != nil {
		m.Interest = *d.Smallest - 1
	}
	for _, h := range d.Heats {
		m.Heats = append(m.Heats, judge.MeasuredHeat{
			Round: h.Round, Order: h.Order, Contender: h.Contender, Elapsed: h.Elapsed, Samples: h.Samples, Failed: h.Failed,
		})
	}
	if err == nil {
		err = m.Check()
	}
	if err != nil {
		return judgement{ID: d.ID, Line: line, Error: err.Error()}
	}
	v := judge.MeasuredVerdict(&m)
	out := judgement{ID: d.ID, Rounds: v.Rounds}
	for _, face := range v.Faces {
		for _, a := range face.Figures {
			out.Figures = append(out.Figures, of(face.Contender, a))
		}
	}
	for _, c := range v.Cautions {
		out.Cautions = append(out.Cautions, caution{c.Kind, c.Contender, c.Round, c.What, c.Try})
	}
	return out
}

func of(contender string, a judge.Assessment) finding {
	alone := a.Alone
	if alone == "" { // one that is not corrected, or has no word to be
		alone = a.Word
	}
	return finding{
		Contender: contender, Figure: a.Figure, Ratio: known(a.Ratio), Low: known(a.Low), High: known(a.High),
		Difference: known(a.Difference), DifferenceLow: known(a.DifferenceLow), DifferenceHigh: known(a.DifferenceHigh),
		Level: a.Level, Rounds: a.Rounds, Verdict: called(alone), Together: called(a.Word), Need: a.NeedShots,
	}
}
