// Package draft writes and changes the text of plans: a new one from a few answers, a copy, a further contender.
//
// It works on text and leaves every line alone that it does not have to touch, comments included. Whether the outcome is
// a good plan is left to package plan; reading and writing files to others.
package draft

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/google/shlex"

	"paceduel/core/plan"
)

// Answers are what a new duel needs to be asked for.
type Answers struct {
	Name       string
	Question   string
	Request    bool   // whether the contenders are URLs; otherwise command lines
	Baseline   string // a command line or URL
	Challenger string
	Runs       string // a heat, for commands
	Clients    string // for requests
	For        string // how long a heat lasts, for requests
}

// Plan writes a commented plan. The error names the answer that is missing or makes no sense.
func (a Answers) Plan() (string, error) {
	for _, required := range []struct{ what, text string }{{"the name", a.Name}, {"the baseline", a.Baseline}, {"the challenger", a.Challenger}} {
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
	pace, course, err := a.pace()
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
`, Quote(a.Name), question, course, base, challenger, pace), nil
}

func (a Answers) settings(text string) (string, error) {
	isURL := strings.HasPrefix(text, "http://") || strings.HasPrefix(text, "https://")
	switch {
	case a.Request && !isURL:
		return "", fmt.Errorf("%q is no URL, write it as http://host:port/path", text)
	case a.Request:
		return "http: { url: " + Quote(text) + " }", nil
	case isURL:
		return "", fmt.Errorf("%q is a URL, and commands were asked for", text)
	}
	return Command(text)
}

func (a Answers) pace() (pace, course string, err error) {
	count := func(what, text string) error {
		if n, err := strconv.Atoi(strings.TrimSpace(text)); err != nil || n < 1 {
			return fmt.Errorf("%s: %q is no number of one or more", what, text)
		}
		return nil
	}
	if a.Request {
		if err := count("clients", a.Clients); err != nil {
			return "", "", err
		}
		var span plan.Span
		if err := span.Read(strings.TrimSpace(a.For)); err != nil {
			return "", "", fmt.Errorf("for: %w", err)
		}
		return fmt.Sprintf("{ clients: %s, for: %s, warmup: 500ms } # at once; each asks again as soon as it has its answer", strings.TrimSpace(a.Clients), strings.TrimSpace(a.For)),
			"http: { headers: { Accept: application/json }, timeout: 10s }", nil
	}
	if err := count("runs a heat", a.Runs); err != nil {
		return "", "", err
	}
	return fmt.Sprintf("{ repeat: %s, warmup: 1 } # runs a heat, one after another; from 10 on p50 can be told", strings.TrimSpace(a.Runs)),
		"command: { dir: ., stdout: discard, timeout: 60s }", nil
}

// shellSigns make a command line one for the shell.
const shellSigns = "|&;<>()$`*?~"

// Command writes a command line as settings: a list of words, or a shell line when it needs one.
func Command(line string) (string, error) {
	words, err := shlex.Split(line)
	if err != nil || len(words) == 0 {
		return "", fmt.Errorf("take %q apart: check its quotes", line)
	}
	if strings.ContainsAny(line, shellSigns) {
		return "command: { shell: " + Quote(line) + " }", nil
	}
	quoted := make([]string, len(words))
	for i, w := range words {
		quoted[i] = Quote(w)
	}
	return "command: { run: [" + strings.Join(quoted, ", ") + "] }", nil
}

// Quote writes text as a YAML string, of which JSON's are a part. ${ is protected from being read as a variable.
func Quote(text string) string {
	return quote(strings.ReplaceAll(text, "${", "$${"))
}

func quote(text string) string {
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
		return nil, nil, errors.New("the plan is no YAML; mend it first")
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

// entries lists a mapping's keys; each reaches to the last line before the next key, or before end, that says something.
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

// Add adds a contender with the given settings, one line such as Command or FromCurl writes, each of comments above it.
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
