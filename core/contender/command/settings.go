// Package command drives external programs: each shot creates a process, waits for its exit and ends its whole process
// group.
//
// A shot's time runs from just before the process is created to its exit seen. Input, a scratch file for what it says
// on standard error, and the look-up on PATH are made ready before, and cost the shot nothing. Peak memory is learnt by
// tracing runs that are not judged.
package command

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"paceduel/core/plan"
)

// Settings are the keys under command: in a plan.
type Settings struct {
	Run     []plan.Word          `json:"run,omitempty" jsonschema:"minItems=1" jsonschema_description:"program and arguments, as a list"`
	Shell   string               `json:"shell,omitempty" jsonschema:"minLength=1" jsonschema_description:"a line for /bin/sh instead of run"`
	Dir     string               `json:"dir,omitempty" jsonschema_description:"working directory, from the plan's folder"`
	Env     map[string]plan.Word `json:"env,omitempty" jsonschema_description:"laid over our own environment"`
	Stdin   string               `json:"stdin,omitempty" jsonschema_description:"a file to read from; nothing unless said"`
	Stdout  string               `json:"stdout,omitempty" jsonschema:"enum=discard,enum=pipe,enum=file,enum=terminal" jsonschema_description:"discard (to the null device), pipe (read by us and counted), file (on a disk) or terminal (a pseudo-terminal that we read); pipe where marks are read from it, else discard"`
	Size    plan.Size            `json:"size,omitempty" jsonschema_description:"with stdout: terminal, its columns and rows; 80x24 unless said"`
	Version []plan.Word          `json:"version,omitempty" jsonschema:"minItems=1" jsonschema_description:"program and arguments that print the tool's version; its first line is kept"`
	Expect  int                  `json:"expect,omitempty" jsonschema:"minimum=0,maximum=255" jsonschema_description:"the exit code of a good run; 0 unless said"`
	Timeout plan.Span            `json:"timeout,omitempty" jsonschema_description:"ended after this long; 60s unless said"`
	Lines   *plan.StepLines      `json:"lines,omitempty" jsonschema_description:"lines with a time that it prints when steps begin and end: what happens inside a run"`
	Marks   plan.Marks           `json:"marks,omitempty" jsonschema_description:"times and amounts that it prints, by name: figures of their own"`
}

// Marked implements plan.Marker.
func (s *Settings) Marked() plan.Marks { return s.Marks }

// Expects implements plan.Expecter.
func (s *Settings) Expects() bool { return s.Expect != 0 }

// Complete implements plan.Completer: what marks are read from is kept.
func (s *Settings) Complete() {
	if s.Stdout != "" {
		return
	}
	s.Stdout = "discard"
	if s.Lines != nil && s.Lines.From != "stderr" {
		s.Stdout = "pipe"
	}
	for _, m := range s.Marks {
		if m.Reads("stdout", true) {
			s.Stdout = "pipe"
		}
	}
}

const defaultTimeout = time.Minute

// New returns settings with their defaults.
func New() plan.Settings {
	return &Settings{Size: plan.Size{Columns: 80, Rows: 24}, Timeout: plan.Span(defaultTimeout)}
}

// Check reports contradictions and missing files. A program that is not there is left to the weigh-in.
func (s *Settings) Check(in plan.Surroundings) (faults []plan.Fault) {
	switch {
	case len(s.Run) > 0 && s.Shell != "":
		faults = append(faults, plan.Fault{Key: "shell", What: "both run and shell are set", Try: "keep one of them"})
	case len(s.Run) == 0 && s.Shell == "":
		faults = append(faults, plan.Fault{What: "nothing says what to run", Try: "set run: [program, argument]"})
	case len(s.Run) > 0 && s.Run[0] == "":
		faults = append(faults, plan.Fault{
			Key: "run", What: "the program's name is empty", Try: "set run: [program, argument]",
		})
	}
	if s.Timeout == 0 {
		faults = append(faults, plan.Fault{Key: "timeout", What: "a limit of no time at all", Try: "set a positive time"})
	}
	for _, f := range s.Marks.Check("stdout", "stderr") {
		f.Key = strings.TrimSuffix("marks."+f.Key, ".")
		faults = append(faults, f)
	}
	for _, f := range s.Lines.Check(false) {
		f.Key = "lines." + f.Key
		faults = append(faults, f)
	}
	if s.Lines != nil && s.Lines.From != "stderr" && s.Stdout == "discard" {
		faults = append(faults, plan.Fault{
			Key: "lines", What: "its standard output goes to nothing", Try: "set stdout: pipe, or from: stderr",
		})
	}
	for _, name := range s.Marks.Names() {
		m := s.Marks[name]
		switch {
		case m.Reads("stdout", true) && s.Stdout == "discard":
			faults = append(faults, plan.Fault{
				Key: "marks." + name, What: "its standard output goes to nothing", Try: "set stdout: pipe, or from: stderr",
			})
		case m.Reads("stderr", false) && s.Stdout == "terminal":
			faults = append(faults, plan.Fault{
				Key: "marks." + name, What: "on a terminal, errors go where output goes", Try: "set from: stdout",
			})
		}
	}
	if s.Dir != "" {
		if dir, info, err := in.Find(s.Dir); err != nil || !info.IsDir() {
			faults = append(faults, plan.Fault{
				Key: "dir", What: fmt.Sprintf("%s is not a folder", dir), Try: "create it, or name another",
			})
		}
	}
	if s.Stdin != "" {
		if path, info, err := in.Find(s.Stdin); err != nil || info.Mode()&(os.ModeDir|os.ModeNamedPipe|os.ModeSocket) != 0 {
			faults = append(faults, plan.Fault{
				Key: "stdin", What: fmt.Sprintf("%s is not a file that can be read", path),
				Try: "name a file, from the plan's folder",
			})
		}
	}
	return faults
}

// Summary is the command as one would type it.
func (s *Settings) Summary() string {
	if s.Shell != "" {
		return s.Shell
	}
	words := make([]string, len(s.Run))
	for i, w := range s.Run {
		words[i] = quote(string(w))
	}
	line := strings.Join(words, " ")
	if s.Stdin != "" {
		line += " < " + quote(s.Stdin)
	}
	return line
}

func quote(word string) string {
	if word != "" && !strings.ContainsAny(word, " \t\n'\"\\$`|&;<>()*?[]#~{}!") {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

func resolve(dir, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(dir, path)
}
