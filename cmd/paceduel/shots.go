package main

import (
	"errors"
	"fmt"
	"os"

	"paceduel/core/contender"
	"paceduel/core/contender/all"
	"paceduel/core/files"
	"paceduel/core/plan"
	"paceduel/core/report"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

// shotFile takes the shots of a run, one by one.
type shotFile struct {
	file *os.File
	out  *report.ShotWriter
	used bool  // a heat's shots were to be written
	err  error // the first
}

// newShotFile creates a file that must not exist yet.
func newShotFile(path string, p *plan.Plan) (*shotFile, error) {
	f, err := files.Create(path)
	if err != nil {
		return nil, usageError{fmt.Errorf("write shots: %w; name another", err)}
	}
	s := &shotFile{file: f}
	parts, amounts := contender.Shapes(p, all.Kinds())
	if s.out, err = report.NewShotWriter(f, parts, amounts); err != nil {
		f.Close()
		return nil, err
	}
	return s, nil
}

// take writes the shots of a heat; the run goes on if that fails.
func (s *shotFile) take(h *result.Heat, shape *shots.Shape, list []tally.Raw, sampled bool) {
	s.used = true
	if s.err == nil {
		s.err = s.out.Write(h, shape, list, sampled)
	}
}

// close says what went wrong with any of it; nil is no file. A run that measured nothing leaves no file, which would
// stand in the way of the next one.
func (s *shotFile) close() error {
	if s == nil {
		return nil
	}
	err := errors.Join(s.err, s.file.Close())
	if !s.used {
		err = errors.Join(err, os.Remove(s.file.Name()))
	}
	if err != nil {
		return fmt.Errorf("write shots to %s: %w", s.file.Name(), err)
	}
	return nil
}
