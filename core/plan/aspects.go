package plan

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"paceduel/core/units"
)

// Aspect is one setting as people read it: a key and its value.
type Aspect struct{ Key, Value string }

// Aspects splits the contenders' settings into what all share and what is each one's own, in the order of the plan.
// What all leave at its default is left out; values taken from the environment are shown by name.
func (p *Plan) Aspects() (shared []Aspect, own [][]Aspect) {
	own = make([][]Aspect, len(p.Contenders))
	for i, c := range p.Contenders {
		own[i] = flatten("", reflect.ValueOf(c.Settings).Elem())
		own[i] = append(own[i], flatten("footing", reflect.ValueOf(c.Ground))...)
		if c.Ground.From != nil {
			own[i] = append(own[i], flatten("from", reflect.ValueOf(*c.Ground.From))...)
		}
		if c.Ground.Service != nil {
			own[i] = append(own[i], flatten("service", reflect.ValueOf(*c.Ground.Service))...)
		}
		if c.Ground.Watch != nil {
			own[i] = append(own[i], flatten("watch", reflect.ValueOf(*c.Ground.Watch))...)
		}
		if c.Ground.Crash != nil {
			own[i] = append(own[i], flatten("crash", reflect.ValueOf(*c.Ground.Crash))...)
			own[i] = append(own[i], Aspect{"crash.count", c.Ground.Crash.Count.Summary()})
		}
		if b := c.Ground.Bystander; b != nil {
			own[i] = append(own[i], Aspect{"bystander", b.Summary()})
		}
		if c.Ground.Traces != nil {
			own[i] = append(own[i], flatten("traces", reflect.ValueOf(*c.Ground.Traces))...)
		}
		for j := range own[i] {
			own[i][j].Value = p.Mask(own[i][j].Value)
		}
	}
	for _, a := range own[0] {
		if !slices.ContainsFunc(own[1:], func(list []Aspect) bool { return !slices.Contains(list, a) }) {
			shared = append(shared, a)
		}
	}
	for i := range own {
		own[i] = slices.DeleteFunc(own[i], func(a Aspect) bool { return slices.Contains(shared, a) })
	}
	defaults := flatten("", reflect.ValueOf(p.Contenders[0].Defaults).Elem())
	defaults = append(defaults, flatten("service", reflect.ValueOf(*(&Service{}).Complete()))...)
	shared = slices.DeleteFunc(shared, func(a Aspect) bool { return slices.Contains(defaults, a) })
	return shared, own
}

func flatten(prefix string, v reflect.Value) (out []Aspect) {
	for f := range v.Type().Fields() {
		name, field := KeyName(f), v.FieldByIndex(f.Index)
		if f.Anonymous {
			out = append(out, flatten(prefix, field)...)
			continue
		}
		if name == "" || field.IsZero() {
			continue
		}
		out = append(out, aspectsOf(JoinKeys(prefix, name), field)...)
	}
	return out
}

// aspectsOf are those of one setting, which may have settings of its own.
func aspectsOf(key string, v reflect.Value) (out []Aspect) {
	if v.Kind() == reflect.Pointer {
		v = v.Elem()
	}
	switch {
	case hasSettings(v.Type()):
		return flatten(key, v)
	case v.Kind() == reflect.Map:
		names := v.MapKeys()
		slices.SortFunc(names, func(a, b reflect.Value) int { return strings.Compare(a.String(), b.String()) })
		for _, n := range names {
			out = append(out, aspectsOf(key+"."+n.String(), v.MapIndex(n))...)
		}
		return out
	case v.Kind() == reflect.Slice && hasSettings(v.Type().Elem()):
		for i := range v.Len() {
			out = append(out, aspectsOf(fmt.Sprintf("%s[%d]", key, i), v.Index(i))...)
		}
		return out
	}
	return []Aspect{{key, write(v)}}
}

// hasSettings reports whether values of a type have settings of their own, and are not written as one.
func hasSettings(t reflect.Type) bool {
	return t.Kind() == reflect.Struct && !t.Implements(reflect.TypeFor[fmt.Stringer]())
}

func write(v reflect.Value) string {
	switch x := v.Interface().(type) {
	case Span:
		return x.D().String()
	case fmt.Stringer:
		return x.String()
	case Bytes:
		return units.Trim(units.Bytes(float64(x)))
	}
	if v.Kind() == reflect.Slice {
		words := make([]string, v.Len())
		for i := range words {
			words[i] = write(v.Index(i))
		}
		return strings.Join(words, " ")
	}
	return fmt.Sprint(v.Interface())
}
