package harbour_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"paceduel/harbour"
)

// Both tidiers write the same, whatever the remembering one has kept, and a tidy manifest stays as it is.
func TestTidiersAgree(t *testing.T) {
	var untidy bytes.Buffer
	if err := harbour.WriteUntidy(&untidy); err != nil {
		t.Fatal(err)
	}
	lines := bytes.SplitAfter(untidy.Bytes(), []byte{'\n'})
	short := bytes.Join(lines[:1200], nil)
	tidied := map[string]string{}
	for name := range harbour.Tidiers() {
		path := filepath.Join(t.TempDir(), "untidy.txt")
		for run := range 2 {
			if err := os.WriteFile(path, short, 0o644); err != nil {
				t.Fatal(err)
			}
			if err := harbour.Tidy(name, path); err != nil {
				t.Fatal(err)
			}
			text, err := os.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			if run > 0 && string(text) != tidied[name] {
				t.Errorf("%s writes something else the second time", name)
			}
			tidied[name] = string(text)
		}
		kept, _ := os.ReadDir(filepath.Join(filepath.Dir(path), harbour.TidyStore))
		if remembers := len(kept) > 0; remembers != (name == "remembering") {
			t.Errorf("%s keeps %d files", name, len(kept))
		}
		if err := harbour.Tidy(name, path); err != nil {
			t.Fatal(err)
		}
		if text, _ := os.ReadFile(path); string(text) != tidied[name] {
			t.Errorf("%s changes a tidy manifest", name)
		}
	}
	if tidied["plain"] != tidied["remembering"] || tidied["plain"] == string(short) ||
		strings.Count(tidied["plain"], "\n") != 1200 {
		t.Error("the tidiers do not agree, or leave all as it was")
	}
	if err := harbour.Tidy("hasty", "x"); err == nil || !strings.Contains(err.Error(), "plain, remembering") {
		t.Errorf("an unknown tidier: %v", err)
	}
	path := filepath.Join(t.TempDir(), "x")
	if err := os.WriteFile(path, []byte("no manifest\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := harbour.Tidy("plain", path); err == nil {
		t.Error("what is no manifest is tidied")
	}
}

// The forms of the register list the same vessels in very different numbers of bytes.
func TestFormsOfTheRegister(t *testing.T) {
	url := serve(t)
	ids := func(form string, zipped bool) (list []int, length int) {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, url+"/vessels?form="+form, nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Accept-Encoding", map[bool]string{true: "gzip", false: "identity"}[zipped])
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		length = len(body)
		if zipped {
			z, err := gzip.NewReader(bytes.NewReader(body))
			if err != nil {
				t.Fatal(err)
			}
			if body, err = io.ReadAll(z); err != nil {
				t.Fatal(err)
			}
		}
		var reg harbour.Register
		if err := json.Unmarshal(body, &reg); err != nil {
			t.Fatal(err)
		}
		for _, v := range reg.Vessels {
			list = append(list, v.ID)
			if (form == "full") != (len(v.History) > 0) {
				t.Fatalf("%s form of %+v", form, v)
			}
		}
		return list, length
	}
	full, fullBytes := ids("full", false)
	zipped, zippedBytes := ids("full", true)
	slim, slimBytes := ids("slim", false)
	if len(full) != 200 || !slices.Equal(full, zipped) || !slices.Equal(full, slim) {
		t.Errorf("%d, %d and %d vessels", len(full), len(zipped), len(slim))
	}
	if slimBytes*5 > fullBytes || zippedBytes*4 > fullBytes {
		t.Errorf("%d bytes in full, %d zipped, %d slim", fullBytes, zippedBytes, slimBytes)
	}
	if status, body := ask(t, url+"/vessels?form=long", ""); status != http.StatusBadRequest ||
		!strings.Contains(body, "full and slim") {
		t.Errorf("an unknown form: %d %s", status, body)
	}
}

// The register in pages is the register: each leads to the next, and the last to none.
func TestPagesOfTheRegister(t *testing.T) {
	url := serve(t)
	var all []int
	for path := "/vessels?form=slim&of=60"; path != ""; {
		resp, err := http.Get(url + path)
		if err != nil {
			t.Fatal(err)
		}
		var reg harbour.Register
		err = json.NewDecoder(resp.Body).Decode(&reg)
		resp.Body.Close()
		if err != nil || len(reg.Vessels) == 0 || len(reg.Vessels) > 60 {
			t.Fatalf("%s: %d vessels, %v", path, len(reg.Vessels), err)
		}
		for _, v := range reg.Vessels {
			all = append(all, v.ID)
		}
		link := resp.Header.Get("Link")
		path, _, _ = strings.Cut(strings.TrimPrefix(link, "<"), ">")
	}
	if len(all) != 200 || !slices.IsSorted(all) || all[0] != 1 || all[199] != 200 {
		t.Errorf("%d vessels: %v", len(all), all)
	}
	if resp, err := http.Get(url + "/vessels?form=slim&of=many"); err != nil || resp.StatusCode != http.StatusBadRequest {
		t.Errorf("%v %v", resp.Status, err)
	}
}
