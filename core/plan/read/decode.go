package read

import (
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/token"

	"paceduel/core/plan"
	"paceduel/core/units"
)

// maxDepth bounds nesting, so that an alias that contains itself ends in a message.
const maxDepth = 32

// decoder lays YAML nodes over Go values and collects every problem with its place. Laying two nodes over the same
// value one after the other is how a contender's own settings win over the course's.
type decoder struct {
	file     string
	lookup   func(name string) (string, bool) // environment
	anchors  map[string]ast.Node
	places   map[string]Pos    // dotted path of a key → where its value stands; the last one laid down wins
	vars     map[string]string // variables used, with their values
	port     *Pos              // where ${PORT} was met without being set
	data     *Pos              // the same of ${DATA}
	tree     *Pos              // the same of ${TREE}
	params   map[string]string // what stands for {{name}}, at a point of a sweep
	filled   map[string]bool   // the names of these that were met; nil without a sweep
	fixed    *Pos              // where all that is laid now stands; nil: where its nodes are
	problems Problems
}

func (d *decoder) fault(n ast.Node, try, what string, args ...any) {
	d.problems = append(d.problems, Problem{Pos: d.pos(n), What: fmt.Sprintf(what, args...), Try: try})
}

func (d *decoder) pos(n ast.Node) Pos {
	if d.fixed != nil {
		return *d.fixed
	}
	p := Pos{File: d.file}
	if n == nil || strings.HasPrefix(d.file, setPrefix) {
		return p // lines of a --set mean nothing to whoever typed it
	}
	if m, ok := n.(*ast.MappingNode); ok && len(m.Values) > 0 && m.Start != nil &&
		m.Start.Type != token.MappingStartType {
		n = m.Values[0].Key
	}
	if v, ok := n.(*ast.MappingValueNode); ok {
		n = v.Key
	}
	if t := n.GetToken(); t != nil && t.Position != nil {
		p.Line, p.Column = t.Position.Line, t.Position.Column
	}
	return p
}

// bare strips tags, anchors and aliases down to the value they stand for.
func (d *decoder) bare(n ast.Node) ast.Node {
	for range maxDepth {
		switch v := n.(type) {
		case *ast.TagNode:
			n = v.Value
		case *ast.AnchorNode:
			n = v.Value
		case *ast.AliasNode:
			target, ok := d.anchors[v.Value.GetToken().Value]
			if !ok {
				d.fault(n, "name an anchor that is set above it with &", "no anchor %q in this file", v.Value.GetToken().Value)
				return nil
			}
			n = target
		default:
			return n
		}
	}
	d.fault(n, "", "an alias that leads back to itself")
	return nil
}

// Visit collects anchors; it makes decoder an ast.Visitor.
func (d *decoder) Visit(n ast.Node) ast.Visitor {
	if a, ok := n.(*ast.AnchorNode); ok {
		d.anchors[a.Name.GetToken().Value] = a.Value
	}
	return d
}

// entries lists a mapping's pairs in file order, refusing repeated keys; ok is false when n is no mapping.
func (d *decoder) entries(n ast.Node, path string) (pairs []*ast.MappingValueNode, ok bool) {
	switch v := d.bare(n).(type) {
	case *ast.MappingNode:
		pairs = v.Values
	case *ast.MappingValueNode:
		pairs = []*ast.MappingValueNode{v}
	default:
		return nil, false
	}
	seen := map[string]bool{}
	for _, p := range pairs {
		name := keyName(p)
		if seen[name] {
			d.fault(p.Key, "keep one of the two", "%s appears twice in %s", strconv.Quote(name), where(path))
		}
		seen[name] = true
	}
	return pairs, true
}

func keyName(p *ast.MappingValueNode) string {
	if t := p.Key.GetToken(); t != nil {
		return t.Value
	}
	return ""
}

func where(path string) string {
	if path == "" {
		return "the plan"
	}
	return path
}

// lay decodes n over out, which must be settable. Absent keys leave what is there.
func (d *decoder) lay(n ast.Node, out reflect.Value, path string, depth int) {
	if depth > maxDepth {
		d.fault(n, "", "%s is nested too deeply", where(path))
		return
	}
	d.places[path] = d.pos(n)
	if out.Type() == reflect.TypeFor[ast.Node]() {
		out.Set(reflect.ValueOf(n))
		return
	}
	if s, ok := out.Addr().Interface().(scalar); ok {
		if _, secret := s.(*plan.Secret); secret && !d.namesVariable(n) {
			d.fault(n, "take it from the environment: ${NAME}", "%s stands in the plan in clear", path)
			return
		}
		if _, place := s.(*plan.Address); place && plan.HasClearPassword(d.written(n)) {
			d.fault(n, "take it from the environment: ${NAME}", "a password stands in the plan in clear, in %s", path)
			return
		}
		if text, ok := d.text(n, path); ok {
			if err := s.Read(text); err != nil {
				d.fault(n, "", "%s: %s", path, err)
			}
		}
		return
	}
	if d.layShort(n, out, path) {
		return
	}
	switch out.Kind() {
	case reflect.Struct:
		d.layStruct(n, out, path, depth)
	case reflect.Map:
		d.layMap(n, out, path, depth)
	case reflect.Slice:
		d.laySlice(n, out, path, depth)
	case reflect.Pointer:
		if out.IsNil() {
			out.Set(reflect.New(out.Type().Elem()))
		}
		d.lay(n, out.Elem(), path, depth+1)
	default:
		d.layBasic(n, out, path)
	}
}

// layShort reads what may be written as one text although it is more: a list of one, a structure's main value.
func (d *decoder) layShort(n ast.Node, out reflect.Value, path string) bool {
	if _, isScalar := d.bare(n).(ast.ScalarNode); !isScalar || isNull(d.bare(n)) {
		return false
	}
	short, isShort := out.Addr().Interface().(interface{ Short(string) })
	list := out.Type() == reflect.TypeFor[plan.Lines]() || out.Type() == reflect.TypeFor[plan.States]()
	if !isShort && !list {
		return false
	}
	text, ok := d.text(n, path)
	switch {
	case ok && text == "":
		d.fault(n, "", "%s is empty", path)
	case ok && isShort:
		short.Short(text)
	case ok:
		one := reflect.MakeSlice(out.Type(), 1, 1)
		one.Index(0).SetString(text)
		out.Set(one)
	}
	return true
}

func (d *decoder) layStruct(n ast.Node, out reflect.Value, path string, depth int) {
	if isNull(d.bare(n)) {
		return
	}
	pairs, ok := d.entries(n, path)
	if !ok {
		d.fault(n, "its keys: "+strings.Join(
			keysOf(out.Type()), ", ",
		), "%s must hold keys and values, this is %s", where(path), describe(d.bare(n)))
		return
	}
	for _, p := range pairs {
		field, ok := fieldOf(out.Type(), keyName(p))
		if !ok {
			d.fault(p.Key, plan.PointTo(keyName(p), keysOf(out.Type())), "unknown key %q in %s", keyName(p), where(path))
			continue
		}
		at := plan.JoinKeys(path, keyName(p))
		if d.refusesVariable(p.Value, field, at) {
			continue
		}
		before := len(d.problems)
		d.lay(p.Value, out.FieldByIndex(field.Index), at, depth+1)
		if len(d.problems) == before {
			d.limits(p.Value, field, out.FieldByIndex(field.Index), at)
		}
	}
}

func (d *decoder) layMap(n ast.Node, out reflect.Value, path string, depth int) {
	if isNull(d.bare(n)) {
		return
	}
	pairs, ok := d.entries(n, path)
	if !ok {
		d.fault(n, "", "%s must hold names and values, this is %s", where(path), describe(d.bare(n)))
		return
	}
	if out.IsNil() {
		out.Set(reflect.MakeMap(out.Type()))
	}
	for _, p := range pairs {
		v := reflect.New(out.Type().Elem()).Elem()
		d.lay(p.Value, v, plan.JoinKeys(path, keyName(p)), depth+1)
		out.SetMapIndex(reflect.ValueOf(keyName(p)).Convert(out.Type().Key()), v)
	}
}

func (d *decoder) laySlice(n ast.Node, out reflect.Value, path string, depth int) {
	seq, ok := d.bare(n).(*ast.SequenceNode)
	if !ok {
		d.fault(n, "write it in brackets: [a, b]", "%s must be a list, this is %s", where(path), describe(d.bare(n)))
		return
	}
	if lines := out.Type() == reflect.TypeFor[plan.Lines]() || out.Type() == reflect.TypeFor[plan.States](); lines &&
		len(seq.Values) == 0 {
		d.fault(n, "", "%s is an empty list", path)
	}
	list := reflect.MakeSlice(out.Type(), len(seq.Values), len(seq.Values))
	for i, item := range seq.Values {
		d.lay(unsplit(item), list.Index(i), fmt.Sprintf("%s[%d]", path, i), depth+1)
	}
	out.Set(list)
}

// unsplit puts a word of a bracketed list together again that the parser took for a key and its value. In YAML a colon
// parts the two only before white space: [java, -Xshare:off] are two words, as are those of [curl,
// http://127.0.0.1:8080/].
func unsplit(n ast.Node) ast.Node {
	pair, _ := n.(*ast.MappingValueNode)
	if m, ok := n.(*ast.MappingNode); ok && len(m.Values) == 1 && m.GetToken().Type == token.MappingValueType {
		pair = m.Values[0]
	}
	if pair == nil {
		return n
	}
	left, right := pair.Key.GetToken(), pair.Value.GetToken()
	colon := pair.Start
	_, scalar := pair.Value.(ast.ScalarNode)
	if !scalar || left == nil || right == nil || colon == nil || quoted(left) || quoted(right) {
		return n
	}
	from, at, to := left.Position, colon.Position, right.Position
	if from.Line != to.Line || from.Column+utf8.RuneCountInString(left.Value) != at.Column || at.Column+1 != to.Column {
		return n
	}
	whole := *left
	whole.Type, whole.Value = token.StringType, left.Value+":"+right.Value
	return ast.String(&whole)
}

func quoted(t *token.Token) bool {
	return t.Type == token.SingleQuoteType || t.Type == token.DoubleQuoteType
}

func (d *decoder) layBasic(n ast.Node, out reflect.Value, path string) {
	value := d.bare(n)
	if value == nil {
		return // said already
	}
	wrong := func(want string) { d.fault(n, "", "%s must be %s, this is %s", path, want, describe(value)) }
	switch out.Kind() {
	case reflect.String:
		switch value.(type) {
		case *ast.StringNode, *ast.LiteralNode:
			if text, ok := d.text(n, path); ok {
				out.SetString(text)
			}
		default:
			d.fault(n, "put it in quotes", "%s must be text, this is %s", path, describe(value))
		}
	case reflect.Bool:
		b, ok := value.(*ast.BoolNode)
		if !ok {
			wrong("true or false")
			return
		}
		out.SetBool(b.Value)
	case reflect.Int, reflect.Int64, reflect.Uint64:
		i, ok := value.(*ast.IntegerNode)
		if !ok {
			wrong("a whole number")
			return
		}
		d.layInteger(n, i, out, path)
	default:
		panic("plan: no rule to read a " + out.Type().String()) // a mistake in our own types, caught by any test
	}
}

func (d *decoder) layInteger(n ast.Node, i *ast.IntegerNode, out reflect.Value, path string) {
	switch v := i.Value.(type) {
	case int64:
		if out.CanUint() || out.OverflowInt(v) {
			d.fault(n, "", "%s: %d is out of range", path, v)
			return
		}
		out.SetInt(v)
	case uint64:
		if out.CanUint() {
			out.SetUint(v)
			return
		}
		if v > 1<<62 {
			d.fault(n, "", "%s: %d is out of range", path, v)
			return
		}
		out.SetInt(int64(v))
	}
}

// text is a scalar's text with ${NAME} replaced from the environment; $${ stands for a literal ${.
func (d *decoder) text(n ast.Node, path string) (string, bool) {
	var raw string
	switch v := d.bare(n).(type) {
	case *ast.StringNode:
		raw = v.Value
	case *ast.LiteralNode:
		raw = v.Value.Value
	case ast.ScalarNode:
		if isNull(v) {
			d.fault(n, "", "%s has no value", path)
			return "", false
		}
		return v.GetToken().Value, true
	case nil:
		return "", false // said already
	default:
		d.fault(n, "", "%s must be a single value, this is %s", path, describe(v))
		return "", false
	}
	return d.expand(n, raw)
}

// namesVariable reports whether a text takes anything from the environment.
func (d *decoder) namesVariable(n ast.Node) bool {
	return strings.Contains(strings.ReplaceAll(d.written(n), "$${", ""), "${")
}

// written is a text before variables are filled in; empty for what is none.
func (d *decoder) written(n ast.Node) string {
	switch v := d.bare(n).(type) {
	case *ast.StringNode:
		return v.Value
	case *ast.LiteralNode:
		return v.Value.Value
	}
	return ""
}

// refusesVariable finds fault with a variable in a text for people: such texts stand in reports and name files, where a
// value may be seen by anybody.
func (d *decoder) refusesVariable(n ast.Node, field reflect.StructField, path string) bool {
	if field.Tag.Get("variables") != "no" || !d.namesVariable(n) {
		return false
	}
	d.places[path] = d.pos(n) // it is not missing
	d.fault(
		n, "write it out, or $${ for the two characters themselves",
		"%s is shown, kept and part of file names, so it takes nothing from the environment", path,
	)
	return true
}

func (d *decoder) expand(n ast.Node, raw string) (string, bool) {
	var out strings.Builder
	for {
		before, rest, found := strings.Cut(raw, "${")
		if !found {
			out.WriteString(raw)
			return d.fill(out.String()), true
		}
		if literal, ok := strings.CutSuffix(before, "$"); ok {
			out.WriteString(literal + "${")
			raw = rest
			continue
		}
		name, after, closed := strings.Cut(rest, "}")
		if !closed || !isVarName(name) {
			d.fault(n, "write ${NAME}, or $${ for the two characters themselves", "a ${ that names no variable")
			return "", false
		}
		value, set := d.lookup(name)
		if mark := "${" + name + "}"; !set && mark == plan.RelayMark { // for its kind to fill in
			out.WriteString(before + mark)
			raw = after
			continue
		}
		if mark := "${" + name + "}"; !set && mark == plan.TreeMark {
			at := d.pos(n)
			d.tree = &at
			out.WriteString(before + mark)
			raw = after
			continue
		}
		if mark := "${" + name + "}"; !set && (mark == plan.PortMark || mark == plan.DataMark) {
			at := d.pos(n)
			if mark == plan.PortMark {
				d.port = &at
			} else {
				d.data = &at
			}
			out.WriteString(before + mark)
			raw = after
			continue
		}
		if !set {
			d.fault(n, fmt.Sprintf("set it before the run: export %s=…", name), "the variable %s is not set", name)
			return "", false
		}
		d.vars[name] = value
		out.WriteString(before + value)
		raw = after
	}
}

// fill puts the values of a sweep's point where {{name}} stands.
func (d *decoder) fill(text string) string {
	for name, value := range d.params {
		if mark := "{{" + name + "}}"; strings.Contains(text, mark) {
			d.filled[name] = true
			text = strings.ReplaceAll(text, mark, value)
		}
	}
	return text
}

func isVarName(s string) bool {
	for i, r := range s {
		letter := r == '_' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
		if !letter && (i == 0 || r < '0' || r > '9') {
			return false
		}
	}
	return s != ""
}

// limits holds a field to the enum, minimum and maximum of its schema tag, so that reader and schema cannot differ.
func (d *decoder) limits(n ast.Node, field reflect.StructField, v reflect.Value, path string) {
	var choices []string
	for rule := range strings.SplitSeq(field.Tag.Get("jsonschema"), ",") {
		name, arg, _ := strings.Cut(rule, "=")
		switch name {
		case "enum":
			choices = append(choices, arg)
		case "minimum", "maximum":
			bound, _ := strconv.ParseInt(arg, 10, 64)
			if v.CanUint() && name == "minimum" && v.Uint() < uint64(bound) {
				d.fault(n, fmt.Sprintf("the minimum is %d", bound), "%s: %d is out of range", path, v.Uint())
			}
			if v.CanInt() && (name == "minimum" && v.Int() < bound || name == "maximum" && v.Int() > bound) {
				d.fault(n, fmt.Sprintf("the %s is %d", name, bound), "%s: %d is out of range", path, v.Int())
			}
		case "minLength":
			if v.Kind() == reflect.String && v.Len() == 0 {
				d.fault(n, "", "%s is empty", path)
			}
		case "minItems":
			if v.Kind() == reflect.Slice && v.Len() == 0 {
				d.fault(n, "", "%s is an empty list", path)
			}
		}
	}
	if choices != nil && v.Kind() == reflect.String && !slices.Contains(choices, v.String()) {
		d.fault(n, plan.PointTo(v.String(), choices), "%s cannot be %q", path, v.String())
	}
}

// keysOf lists a struct's plan keys in the order of its declaration.
func keysOf(t reflect.Type) (keys []string) {
	for f := range t.Fields() {
		if f.Anonymous {
			keys = append(keys, keysOf(f.Type)...)
		} else if name := plan.KeyName(f); name != "" {
			keys = append(keys, name)
		}
	}
	return keys
}

func fieldOf(t reflect.Type, key string) (reflect.StructField, bool) {
	for f := range t.Fields() {
		if f.Anonymous {
			if inner, ok := fieldOf(f.Type, key); ok {
				inner.Index = append(slices.Clone(f.Index), inner.Index...)
				return inner, true
			}
			continue
		}
		if name := plan.KeyName(f); name != "" && name == key {
			return f, true
		}
	}
	return reflect.StructField{}, false
}

func isNull(n ast.Node) bool {
	if n == nil {
		return true
	}
	_, null := n.(*ast.NullNode)
	return null
}

func describe(n ast.Node) string {
	switch v := n.(type) {
	case nil, *ast.NullNode:
		return "empty"
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a set of keys"
	case *ast.SequenceNode:
		return "a list"
	case *ast.StringNode:
		return "the text " + strconv.Quote(short(v.Value))
	case *ast.LiteralNode:
		return "a block of text"
	case ast.ScalarNode:
		return short(v.GetToken().Value)
	}
	return "something else"
}

// short is a value as far as a message needs it.
func short(value string) string {
	const longest = 60
	value = units.Printable(value)
	if runes := []rune(value); len(runes) > longest {
		return string(runes[:longest]) + "…"
	}
	return value
}

// scalar is a plan value written as one word: how it is read from the file's text.
type scalar interface {
	// Read takes the value's text; the error says what was expected.
	Read(text string) error
}
