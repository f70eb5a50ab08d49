package plan

import (
	"fmt"
	"regexp"
	"slices"
)

// StepLines are the lines that a program prints when a step of it begins and when it ends: they become spans, for
// programs that send none. Both are regular expressions with groups by name: step is what it is called, time when that
// was, and key, where there is one, which of several at a time it belongs to.
type StepLines struct {
	Begin string `json:"begin" jsonschema:"required" jsonschema_description:"a regular expression for the line of a beginning, with (?P<step>…), (?P<time>…) and where needed (?P<key>…)"`
	End   string `json:"end" jsonschema:"required" jsonschema_description:"the same for the line of an end"`
	From  string `json:"from,omitempty" jsonschema:"enum=stdout,enum=stderr" jsonschema_description:"of a command: where they stand; stdout unless said"`
}

// Check reports what is wrong with the patterns; keyed says that each needs a key, since the lines of many shots stand
// together.
func (l *StepLines) Check(keyed bool) (faults []Fault) {
	if l == nil {
		return nil
	}
	for _, said := range []struct{ key, pattern string }{{"begin", l.Begin}, {"end", l.End}} {
		re, err := regexp.Compile(said.pattern)
		if err != nil {
			faults = append(faults, Fault{
				Key: said.key, What: fmt.Sprintf("%q is not a regular expression: %s", said.pattern, err),
				Try: "see the syntax at go doc regexp/syntax",
			})
			continue
		}
		needed := []string{"step", "time"}
		if keyed {
			needed = append(needed, "key")
		}
		for _, name := range needed {
			if !slices.Contains(re.SubexpNames(), name) {
				faults = append(faults, Fault{
					Key: said.key, What: fmt.Sprintf("nothing in %q is called %s", said.pattern, name),
					Try: fmt.Sprintf("add a group (?P<%s>…)", name),
				})
			}
		}
	}
	return faults
}
