package read_test

import (
	"strings"
	"testing"

	"paceduel/core/figure"
	"paceduel/core/plan"
)

func TestMarksThatCannotBeRead(t *testing.T) {
	tests := []struct {
		name string
		mark plan.Mark
		want string
	}{
		{"way", plan.Mark{}, "found by a pattern or a pointer"},
		{"ways", plan.Mark{Pattern: "(x)", Pointer: "/x"}, "found by a pattern or a pointer"},
		{"group", plan.Mark{Pattern: "startup"}, "no group"},
		{"syntax", plan.Mark{Pattern: "startup (["}, "missing closing"},
		{"pointer", plan.Mark{Pointer: "ms.x"}, `"ms.x" is not a JSON Pointer`},
		{"where", plan.Mark{Pattern: "(x)", Where: map[string]plan.Word{"/a": "b"}}, "belongs to pointer"},
		{"where-to", plan.Mark{Pointer: "/x", Where: map[string]plan.Word{"a": "b"}}, `"a" is not a JSON Pointer`},
		{"from", plan.Mark{Pattern: "(x)", From: "body"}, "cannot be read from body"},
		{"header", plan.Mark{Header: "X-Db"}, "named by both keys"},
		{"unit", plan.Mark{Pattern: "(x)", Unit: "ms]"}, "not a unit"},
		{"sum", plan.Mark{Sum: plan.Lines{"lost"}}, `no mark is called "lost"`},
		{"sums", plan.Mark{Sum: plan.Lines{"whole"}}, "follows from others, too"},
		{"longest", plan.Mark{Longest: plan.Lines{"load", "rows"}}, "do not add up"},
		{"counts", plan.Mark{Count: plan.Lines{"lost"}}, `no mark is called "lost"`},
		{"amount", plan.Mark{Amount: "much"}, `"much" is not an amount`},
		{"time lines", plan.Mark{Pattern: "x", Unit: "ms"}, "no group"},
		{"apples", plan.Mark{Sum: plan.Lines{"load", "rows"}}, "do not add up"},
		{"a/b", plan.Mark{Pattern: "(x)"}, "not a name for a mark"},
	}
	for _, tt := range tests {
		m := plan.Marks{"load": {
			Pattern: "load (.*)",
		}, "rows": {Pattern: "(.*) rows", Unit: "rows"}, "whole": {Sum: plan.Lines{"load"}}, tt.name: tt.mark}
		faults := m.Check("stdout", "stderr", "header")
		if len(faults) == 0 || !strings.Contains(faults[0].What, tt.want) || faults[0].Key != tt.name {
			t.Errorf("%s: %+v; want %q", tt.name, faults, tt.want)
		}
	}
}

func TestClaimsNameMarks(t *testing.T) {
	marks := []figure.Name{"told render", "told render again", "told heap [B]", "told modules [modules]"}
	for text, want := range map[string]plan.Claim{
		"eager render at least 2x faster than late": {Figure: "told render", How: plan.AtLeast, Factor: 2},
		"eager render again under 20ms":             {Figure: "told render again", How: plan.Under, Limit: 0.02},
		"eager heap under 2MiB":                     {Figure: "told heap [B]", How: plan.Under, Limit: 2 << 20},
		"eager modules under 12":                    {Figure: "told modules [modules]", How: plan.Under, Limit: 12},
		"eager cold render under 20ms":              {Figure: "told render", State: "cold", How: plan.Under, Limit: 0.02},
		"eager render warm under 20ms":              {Figure: "told render", State: "warm", How: plan.Under, Limit: 0.02},
		"eager first answer under 1s":               {Figure: figure.FirstAnswer, How: plan.Under, Limit: 1},
	} {
		c, err := plan.ParseClaim(text, []string{"eager", "late"}, nil, marks...)
		if err != nil || c.Figure != want.Figure || c.How != want.How || c.State != want.State || c.Factor != want.Factor ||
			c.Limit != want.Limit {
			t.Errorf("%s: %+v, %v", text, c, err)
		}
	}
	for text, want := range map[string]string{
		"eager rendr under 2ms": "render", "eager heap under 2ms": "an amount", "eager modules under 2ms": "a number",
	} {
		if _, err := plan.ParseClaim(text, []string{"eager", "late"}, nil, marks...); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v; want %q", text, err, want)
		}
	}
}

func TestMarksInWords(t *testing.T) {
	for want, m := range map[string]plan.Mark{
		"startup (.*)": {Pattern: "startup (.*)"},
		"/ms where /mark is render from stderr": {
			Pointer: "/ms", Where: map[string]plan.Word{"/mark": "render"}, From: "stderr",
		},
		"in header X-Db, in us":      {From: "header", Header: "X-Db", Unit: "us"},
		"the sum of load and render": {Sum: plan.Lines{"load", "render"}},
	} {
		if got := m.String(); got != want {
			t.Errorf("%+v is %q; want %q", m, got, want)
		}
	}
}
