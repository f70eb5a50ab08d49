package rows_test

import (
	"errors"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"paceduel/core/rows"
)

func TestFilling(t *testing.T) {
	table, err := rows.Read("tides", strings.NewReader("tide,at\nhigh & dry,08:10\nlow,14:25\n"))
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		text   string
		row    int
		escape func(string) string
		want   string
	}{
		{"plain", 0, nil, "plain"},
		{"{{tide}} at {{ at }}", 1, nil, "low at 14:25"},
		{"?tide={{tide}}", 0, url.QueryEscape, "?tide=high+%26+dry"},
		{"open {{ for ever", 0, nil, "open {{ for ever"},
	} {
		if got, err := table.Fill("url", tt.text, tt.row, tt.escape); err != nil || got != tt.want {
			t.Errorf("%q filled in from row %d is %q, %v; want %q", tt.text, tt.row, got, err, tt.want)
		}
	}
	_, err = table.Fill("body", "{{berth}}", 0, nil)
	var unknown rows.Unknown
	if !errors.As(err, &unknown) || unknown.Key != "body" || unknown.Try() != "the columns are tide, at" {
		t.Errorf("a column that is not there: %v", err)
	}
	if _, err := rows.None().Fill("url", "{{berth}}", 0, nil); !errors.As(err, &unknown) ||
		!strings.Contains(unknown.Try(), "set rows:") {
		t.Errorf("without rows: %v", err)
	}
}

func TestTablesThatAreNone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "tides.csv")
	for text, want := range map[string]string{
		"": "is empty", "tide\n": "no rows", "tide\n1,2\n": "wrong number of fields",
		"tide\n" + strings.Repeat("1\n", rows.Max+1): "more than 100000 rows",
	} {
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, err := rows.Open(path); err == nil || !strings.Contains(err.Error(), want) ||
			!strings.Contains(err.Error(), path) {
			t.Errorf("%.20q: %v; want %s, with the file's name", text, err, want)
		}
	}
	if _, err := rows.Open(filepath.Dir(path)); err == nil {
		t.Error("a folder is a table")
	}
}

func FuzzFill(f *testing.F) {
	f.Add("a{{tide}}b{{", "high")
	f.Fuzz(func(t *testing.T, text, value string) {
		table := rows.Table{Columns: []string{"tide"}, Rows: [][]string{{value}}}
		got, err := table.Fill("url", text, 0, nil)
		if err == nil && !strings.Contains(text, "{{") && got != text {
			t.Errorf("%q is filled in as %q", text, got)
		}
	})
}

func FuzzRead(f *testing.F) {
	f.Add("tide\n1\n2\n")
	f.Add("\"a\nb")
	f.Fuzz(func(t *testing.T, text string) {
		table, err := rows.Read("f", strings.NewReader(text))
		if err == nil && (len(table.Rows) == 0 || len(table.Rows[0]) != len(table.Columns)) {
			t.Errorf("%q is read as %+v", text, table)
		}
	})
}
