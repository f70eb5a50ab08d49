package weighin_test

import (
	"fmt"
	"strings"
	"testing"

	"paceduel/core/weighin"
)

func TestWeightIsChargedToMembers(t *testing.T) {
	tests := []struct{ body, want string }{
		{`{"a":1,"b":"xyz"}`, "b 10 1; a 5 1;  2 1"},
		{
			`{"rows":[{"id":1,"name":"Ebb"},{"id":2,"name":"Tern"}]}`,
			"rows[].name 27 2; rows[].id 12 2; rows 9 1; rows[] 5 2;  2 1",
		},
		{`[1,22,333]`, "[] 8 3;  2 1"},
		{`[]`, " 2 1"},
		{"no JSON", ""}, {`{"a":`, ""}, {"", ""}, {"3", ""},
	}
	for _, tt := range tests {
		var got []string
		sum := int64(0)
		for _, p := range weighin.Weigh([]byte(tt.body)) {
			got = append(got, fmt.Sprintf("%s %d %d", p.Path, p.Bytes, p.Count))
			sum += p.Bytes
		}
		if strings.Join(got, "; ") != tt.want {
			t.Errorf("Weigh(%s) = %q; want %q", tt.body, strings.Join(got, "; "), tt.want)
		}
		if tt.want != "" && sum != int64(len(tt.body)) {
			t.Errorf("the parts of %s add up to %d of %d bytes", tt.body, sum, len(tt.body))
		}
	}
}

func TestLightPartsArePutTogether(t *testing.T) {
	var members []string
	for i := range 100 {
		members = append(members, fmt.Sprintf(`"m%02d":%s`, i, strings.Repeat("1", 100-i)))
	}
	body := "{" + strings.Join(members, ",") + "}"
	parts := weighin.Weigh([]byte(body))
	sum := int64(0)
	for _, p := range parts {
		sum += p.Bytes
	}
	if len(parts) != 60 || parts[0].Path != "m00" || parts[59].Path != "other" || parts[59].Count != 42 ||
		sum != int64(len(body)) {
		t.Errorf("parts %+v add up to %d of %d", parts, sum, len(body))
	}
}

func FuzzWeigh(f *testing.F) {
	f.Add(`{"a":[1,{"b":null}],"":"x"}`)
	f.Fuzz(func(t *testing.T, body string) {
		sum := int64(0)
		parts := weighin.Weigh([]byte(body))
		for _, p := range parts {
			sum += p.Bytes
		}
		if parts != nil && sum != int64(len(body)) {
			t.Errorf("the parts of %q add up to %d of %d bytes", body, sum, len(body))
		}
	})
}
