// Package draft writes and changes the text of plans: a new one from a few answers, a copy, a further contender.
//
// It works on text and leaves every line alone that it does not have to touch, comments included. Whether the outcome
// is a good plan is left to package plan; reading and writing files to others.
package draft

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// Kind is how plans are drafted for contenders of one kind; each kind says so itself.
type Kind struct {
	Plural string    // what its contenders are called: commands
	One    string    // what is typed for one of them: a command line
	Hints  [2]string // for a baseline and a challenger
	Course string    // settings that all might share, as an example
	// Claims reports whether a text can only be meant for this kind; nil takes what no other claims.
	Claims func(text string) bool
	// Typed is the text for what a contender of the kind did, as results have it; ok is false where no text says all of
	// it. Nil: what was done can be typed as it is.
	Typed func(did string) (text string, ok bool)
	// Settings writes what stands for a text in a plan, in one line.
	Settings func(text string) (string, error)
	// Names calls texts by what sets them apart, as short as can be and all different.
	Names func(texts []string) ([]string, error)
	// Asks is what else a new duel is asked for, Pace what is made of the answers, in their order. The error names the one
	// that makes no sense.
	Asks []Ask
	Pace func(answers []string) (string, error)
	// Quick is the pace of a comparison without a plan, by how long the slowest of the contenders took when it was tried;
	// Tries says whether they are to be.
	Quick func(took time.Duration) string
	Tries bool
	// Listens is what can be typed for a program of this machine that listens on a port, by the program's name; the empty
	// name stands for those that nobody knows. The port takes the place of %d.
	Listens map[string]string
	// Import reads a line that was made for something else; nil: nothing is imported. Imports says what it reads.
	Import  func(line string) (Imported, error)
	Imports string
}

// Question is a kind of duel that people come with, and a plan for it to start from.
type Question struct {
	Key   string // a word for the command line
	Asks  string // in their words
	Lines string // which lines of the plan to change
	Name  string // of the plan's duel
	Text  string // the commented plan
}

// Ask is one more thing that a new duel is asked for.
type Ask struct{ Name, Default string }

// Imported is a contender made of a line that was pasted.
type Imported struct {
	Name     string   // a suggestion
	Settings string   // one line of YAML
	Notes    []string // what was left out or has to be set, for the reader of the plan
	Vars     []string // variables of the environment that stand for its secrets
}

// Answers are what a new duel needs to be asked for.
type Answers struct {
	Name, Question       string
	Kind                 *Kind
	Others               []*Kind // that a text may belong to instead
	Baseline, Challenger string
	Asked                []string // by the kind, in the order of its Asks
}

// Plan writes a commented plan. The error names the answer that is missing or makes no sense.
func (a Answers) Plan() (string, error) {
	for _, required := range []struct{ what, text string }{
		{"the name", a.Name}, {"the baseline", a.Baseline}, {"the challenger", a.Challenger},
	} {
		if strings.TrimSpace(required.text) == "" {
			return "", fmt.Errorf("%s is missing", required.what)
		}
	}
	base, err := a.settings(a.Baseline)
	if err != nil {
		return "", fmt.Errorf("the baseline: %w", err)
	}
	challenger, err := a.settings(a.Challenger)
	if err != nil {
		return "", fmt.Errorf("the challenger: %w", err)
	}
	pace, err := a.Kind.Pace(a.Asked)
	if err != nil {
		return "", err
	}
	question := "question: " + Quote(a.Question)
	if strings.TrimSpace(a.Question) == "" {
		question = "# question: what is to be decided, in a sentence"
	}
	return fmt.Sprintf(`# All keys: docs/plan.md. Editors that know YAML schemas complete it: paceduel schema
duel: %s
%s
baseline: baseline # the contender that the others are compared with; give both names that say what they are

# What all contenders are asked; each one's own settings are laid over it.
# course: { %s }

contenders:
  baseline:
    note: what runs today # why it is there; avoid: says when it must not be used
    %s
  challenger:
    %s

pace: %s
rounds: 10 # how often every contender has its heat, in shuffled order
# decides: p99 # one figure that carries the verdict, named beforehand
`, Quote(a.Name), question, a.Kind.Course, base, challenger, pace), nil
}

func (a Answers) settings(text string) (string, error) {
	for _, other := range a.Others {
		if other != a.Kind && other.Claims != nil && other.Claims(text) {
			return "", fmt.Errorf("%q is %s, and %s were asked for", text, other.One, a.Kind.Plural)
		}
	}
	return a.Kind.Settings(text)
}

// Listening is what can be typed for a program that listens on a port of this machine; empty where no kind knows.
func Listening(kinds []*Kind, program string, port int) string {
	for _, name := range []string{program, ""} {
		for _, k := range kinds {
			if text, ok := k.Listens[name]; ok {
				return fmt.Sprintf(text, port)
			}
		}
	}
	return ""
}

// Import has the first kind that can read a line make a contender of it. The error is that of the last one that could
// not.
func Import(kinds []*Kind, line string) (got Imported, err error) {
	err = errors.New("import: no kind of contender reads lines of something else")
	for _, k := range kinds {
		if k.Import == nil {
			continue
		}
		if got, err = k.Import(line); err == nil {
			return got, nil
		}
	}
	return Imported{}, err
}

// IsImported reports whether a line was made for something else that contenders can be made of.
func IsImported(text string) bool { return strings.HasPrefix(strings.TrimSpace(text), "curl ") }

// Imports says what lines can be imported.
func Imports(kinds []*Kind) string {
	var all []string
	for _, k := range kinds {
		if k.Import != nil {
			all = append(all, k.Imports)
		}
	}
	return strings.Join(all, " or ")
}

// Number reads an answer that is a number of one or more.
func Number(what, text string) (string, error) {
	text = strings.TrimSpace(text)
	if n, err := strconv.Atoi(text); err != nil || n < 1 {
		return "", fmt.Errorf("%s: %q is not a number of one or more", what, text)
	}
	return text, nil
}

// Quote writes text as a YAML string, of which JSON's are a part. ${ is protected from being read as a variable.
func Quote(text string) string {
	return quoted(strings.ReplaceAll(text, "${", "$${"))
}

// QuoteVars is Quote for a text whose ${…} are variables.
func QuoteVars(text string) string { return quoted(text) }

func quoted(text string) string {
	var out strings.Builder
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(text); err != nil {
		return `""` // a string always encodes
	}
	return strings.TrimSpace(out.String())
}

// entry is a key of a block mapping with the lines that belong to it, counted from 0; to is the line after the last.
type entry struct {
	name     string
	from, to int
	indent   int
}

// errFlow is the refusal to change what is written in braces.
var errFlow = errors.New("the contenders are written within braces; write them one below another first")

// outline finds the keys at the top level of source and those of its contenders.
func outline(source string) (top, contenders []entry, err error) {
	tree, err := parser.ParseBytes([]byte(source), 0)
	if err != nil || len(tree.Docs) == 0 {
		return nil, nil, errors.New("the plan is not YAML; mend it first")
	}
	lines := strings.Split(source, "\n")
	body, ok := tree.Docs[0].Body.(*ast.MappingNode)
	if !ok {
		return nil, nil, errors.New("the plan holds no keys; mend it first")
	}
	top = entries(body, lines, len(lines))
	for i, pair := range body.Values {
		if pair.Key.GetToken().Value != "contenders" {
			continue
		}
		list, ok := pair.Value.(*ast.MappingNode)
		if !ok || list.IsFlowStyle {
			return top, nil, errFlow
		}
		contenders = entries(list, lines, top[i].to)
	}
	if contenders == nil {
		return top, nil, errors.New("the plan has no contenders; mend it first")
	}
	return top, contenders, nil
}

// entries lists a mapping's keys; each reaches to the last line before the next key, or before end, that says
// something.
func entries(m *ast.MappingNode, lines []string, end int) (out []entry) {
	for i, pair := range m.Values {
		at := pair.Key.GetToken().Position
		e := entry{name: pair.Key.GetToken().Value, from: at.Line - 1, to: end, indent: at.Column - 1}
		if i+1 < len(m.Values) {
			e.to = m.Values[i+1].Key.GetToken().Position.Line - 1
		}
		for e.to > e.from+1 && silent(lines[e.to-1]) {
			e.to--
		}
		out = append(out, e)
	}
	return out
}

func silent(line string) bool {
	line = strings.TrimSpace(line)
	return line == "" || strings.HasPrefix(line, "#")
}

// Copy gives a plan another name.
func Copy(source, name string) (string, error) {
	top, _, err := outline(source)
	if top == nil {
		return "", fmt.Errorf("copy the duel: %w", err)
	}
	lines := strings.Split(source, "\n")
	for _, e := range top {
		if e.name == "duel" {
			return strings.Join(slices.Concat(lines[:e.from], []string{"duel: " + Quote(name)}, lines[e.to:]), "\n"), nil
		}
	}
	return "", errors.New("copy the duel: the plan has no name; mend it first")
}

// Contenders lists the names of a plan's contenders in the order of the file.
func Contenders(source string) ([]string, error) {
	_, list, err := outline(source)
	if err != nil {
		return nil, err
	}
	names := make([]string, len(list))
	for i, e := range list {
		names[i] = e.name
	}
	return names, nil
}

// AddLike adds a contender that says what another one says, to be changed from there.
func AddLike(source, like, name string) (string, error) {
	_, list, err := outline(source)
	if err != nil {
		return "", fmt.Errorf("add a contender: %w", err)
	}
	i := slices.IndexFunc(list, func(e entry) bool { return e.name == like })
	if i < 0 {
		return "", fmt.Errorf("add a contender: no contender is called %q", like)
	}
	lines := strings.Split(source, "\n")
	own := slices.Clone(lines[list[i].from:list[i].to])
	_, rest, _ := strings.Cut(own[0], ":")
	own[0] = strings.Repeat(" ", list[i].indent) + Quote(name) + ":" + rest
	return insert(source, list, name, own)
}

// Add adds a contender with the given settings, one line as kinds write them, each of comments above it.
func Add(source, name, settings string, comments []string) (string, error) {
	_, list, err := outline(source)
	if err != nil {
		return "", fmt.Errorf("add a contender: %w", err)
	}
	pad := strings.Repeat(" ", list[0].indent)
	own := []string{pad + Quote(name) + ":"}
	for _, c := range comments {
		own = append(own, pad+"  # "+c)
	}
	return insert(source, list, name, append(own, pad+"  "+settings))
}

func insert(source string, list []entry, name string, own []string) (string, error) {
	if slices.ContainsFunc(list, func(e entry) bool { return e.name == name }) {
		return "", fmt.Errorf("add a contender: one is called %q already", name)
	}
	lines := strings.Split(source, "\n")
	at := list[len(list)-1].to
	return strings.Join(slices.Concat(lines[:at], own, lines[at:]), "\n"), nil
}

// Free is the first of name, name 2, name 3 and so on that is not taken.
func Free(name string, taken []string) string {
	free := name
	for n := 2; slices.Contains(taken, free); n++ {
		free = fmt.Sprintf("%s %d", name, n)
	}
	return free
}
