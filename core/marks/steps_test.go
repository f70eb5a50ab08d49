package marks

import (
	"strings"
	"testing"
	"time"

	"paceduel/core/plan"
)

func TestMomentsInEveryForm(t *testing.T) {
	civil := time.Date(2026, 11, 27, 14, 5, 6, 123456789, time.UTC)
	for text, want := range map[string]Moment{
		"2026-11-27T14:05:06.123456789Z":   {Civil: civil.UnixNano()},
		"2026-11-27T15:05:06.123+01:00":    {Civil: civil.Truncate(time.Millisecond).UnixNano()},
		"[2026-11-27 14:05:06.123456789Z]": {Civil: civil.UnixNano()},
		"1795788306":                       {Civil: 1795788306e9},
		"1795788306.25":                    {Civil: 1795788306_250_000_000},
		"1795788306123":                    {Civil: 1795788306123e6},
		"1795788306123.5":                  {Civil: 1795788306123_500_000},
		"1795788306123456":                 {Civil: 1795788306123456e3},
		"1795788306123456789":              {Civil: 1795788306123456789},
		"0.0125":                           {Since: 12500 * time.Microsecond},
		"12.5ms":                           {Since: 12500 * time.Microsecond},
		"1m2s":                             {Since: 62 * time.Second},
	} {
		if got, ok := readMoment(text); !ok || got != want {
			t.Errorf("%s is %+v, %v; want %+v", text, got, ok, want)
		}
	}
	for _, text := range []string{"", "yesterday", "-3", "1e9", "-5ms", "1.2.3", "99999999999999999999", "2026-11-27",
		"0.x"} {
		if got, ok := readMoment(text); ok {
			t.Errorf("%s is %+v; want none", text, got)
		}
	}
}

var printed = &plan.StepLines{
	Begin: `^(?P<time>\S+) (?P<key>\w+) begin (?P<step>.+)$`, End: `^(?P<time>\S+) (?P<key>\w+) end (?P<step>.+)$`,
}

func TestStepsArePaired(t *testing.T) {
	s := NewSteps(printed)
	text := "starting\n1ms a begin load\r\n2ms b begin load\n3ms a begin load\n4ms a end load\n5ms b end load\n" +
		"6ms a end load\n7ms a end sort\n8ms a begin sort\nno time a begin load\n9ms a begin \n" + strings.Repeat("x",
		MaxLine+1) +
		"\n10ms a end sort, and a long name"
	stretches, left := Pair(s.Events([]byte(text)))
	var got []string
	for _, st := range stretches {
		got = append(got, st.Key+" "+st.Step+" "+st.Begin.Since.String()+"-"+st.End.Since.String())
	}
	if want := "a load 3ms-4ms, b load 2ms-5ms, a load 1ms-6ms"; strings.Join(got, ", ") != want || len(left) != 1 ||
		left[0].Step != "sort" {
		t.Errorf("%s, %v left; want %s", strings.Join(got, ", "), left, want)
	}
	if NewSteps(nil) != nil {
		t.Error("a reader of nothing")
	}
}

func TestPatternsOfSteps(t *testing.T) {
	for _, tt := range []struct {
		lines plan.StepLines
		keyed bool
		want  string
	}{
		{*printed, true, ""},
		{plan.StepLines{Begin: "(", End: printed.End}, false, `begin: "(" is not a regular expression`},
		{plan.StepLines{Begin: printed.Begin, End: "(?P<step>x)"}, false, `end: nothing in "(?P<step>x)" is called time`},
		{plan.StepLines{Begin: "(?P<step>x)(?P<time>y)", End: printed.End}, true, "is called key"},
		{plan.StepLines{Begin: "(?P<step>x)(?P<time>y)", End: printed.End}, false, ""},
	} {
		got := ""
		for _, f := range tt.lines.Check(tt.keyed) {
			got += f.Key + ": " + f.What + "\n"
		}
		if (got == "") != (tt.want == "") || !strings.Contains(got, tt.want) {
			t.Errorf("%+v: %q; want %s", tt.lines, got, tt.want)
		}
	}
}

func FuzzSteps(f *testing.F) {
	f.Add([]byte("1ms a begin load\n2026-11-27T14:05:06Z a end load\n"))
	f.Add([]byte("1795788306.5 a begin x\n999999999999999999.9 a end x"))
	s := NewSteps(printed)
	f.Fuzz(func(t *testing.T, text []byte) {
		events := s.Events(text)
		if out, left := Pair(events); 2*len(out)+len(left) > len(events) {
			t.Fatalf("%d pairs and %d left of %d", len(out), len(left), len(events))
		}
	})
}
