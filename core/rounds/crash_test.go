package rounds

import (
	"testing"

	"paceduel/core/result"
)

func TestWhatACountSays(t *testing.T) {
	for said, want := range map[string]result.Crash{
		"42": {Records: 42}, "records 42\ntorn 3\n": {Records: 42, Torn: 3},
		"{\n \"records\": 42,\n \"doubled\": 7\n}\n": {Records: 42, Doubled: 7},
		"reading positions.log\n42 records\n1 torn":  {Records: 42, Torn: 1}, " 0 \n": {},
		`[{"count":42}]`: {Records: 42}, `[42]`: {Records: 42},
		`{"records": 42, "torn": 1, "at": "x"}`: {Records: 42, Torn: 1},
		`[{"records":42,"doubled":7}]`:          {Records: 42, Doubled: 7},
	} {
		var c result.Crash
		if !counted(said, &c) || c.Records != want.Records || c.Torn != want.Torn || c.Doubled != want.Doubled {
			t.Errorf("%q: %+v; want %+v", said, c, want)
		}
	}
	for _, said := range []string{"", "none", "torn 3", "records -1", "records 99999999999999999999",
		"1e30", "4.5", "-1", `{"torn":3}`, `[]`, `[{"count":1},{"count":2}]`, `{"records":"42"}`, "null"} {
		if counted(said, &result.Crash{}) {
			t.Errorf("%q says a number", said)
		}
	}
	c := result.Crash{Acknowledged: 700, Unknown: 4, Records: 605, Torn: 2, Doubled: 3}
	if c.Lost() != 100 || c.Beyond() != 0 {
		t.Errorf("lost %d, beyond %d", c.Lost(), c.Beyond())
	}
	if c.Records = 720; c.Lost() != 0 || c.Beyond() != 11 {
		t.Errorf("lost %d, beyond %d", c.Lost(), c.Beyond())
	}
}
