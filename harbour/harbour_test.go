package harbour_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"paceduel/core/contender/all"
	"paceduel/core/plan/read"
	"paceduel/harbour"
)

func ask(t *testing.T, url, way string) (int, string) {
	t.Helper()
	return askWith(t, url, "X-Board", way)
}

// askWith names the way of answering in a header.
func askWith(t *testing.T, url, header, way string) (int, string) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, url, nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set(header, way)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return resp.StatusCode, string(body)
}

func serve(t *testing.T) string {
	t.Helper()
	s, err := harbour.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error)
	go func() { done <- s.Serve(ctx) }()
	t.Cleanup(func() {
		http.DefaultClient.CloseIdleConnections()
		cancel()
		if err := <-done; err != nil {
			t.Errorf("Serve: %v", err)
		}
	})
	if err := s.Prepare(); err != nil {
		t.Fatal(err)
	}
	return s.URL()
}

func TestAllWaysAnswerTheSame(t *testing.T) {
	url := serve(t)
	for _, i := range []int{0, 17, 200, 729} {
		tide := harbour.TideName(i)
		status, want := ask(t, url+"/berths?tide="+tide, "per-vessel")
		var board harbour.Board
		if err := json.Unmarshal([]byte(want), &board); err != nil || status != 200 || board.Tide != tide ||
			len(board.Berths) < 20 {
			t.Fatalf("tide %s: status %d, %d berths, %v", tide, status, len(board.Berths), err)
		}
		for _, way := range []string{"joined", "snapshot", "copied", ""} {
			if status, got := ask(t, url+"/berths?tide="+tide, way); status != 200 || got != want {
				t.Errorf("tide %s: %q answers %d with other bytes than per-vessel", tide, way, status)
			}
		}
	}
}

func TestWrongQuestionsAreRefused(t *testing.T) {
	url := serve(t)
	tests := []struct {
		path, way string
		want      int
	}{
		{"/berths?tide=999-high", "joined", 404}, {
			"/berths?tide=999-high", "per-vessel", 404,
		}, {"/berths?tide=999-high", "snapshot", 404}, {"/berths?tide=999-high", "copied", 404},
		{"/berths?tide=" + harbour.TideName(0), "guess", 400}, {"/quay", "", 404},
	}
	for _, tt := range tests {
		if got, body := ask(t, url+tt.path, tt.way); got != tt.want {
			t.Errorf("%s by %q: status %d (%s); want %d", tt.path, tt.way, got, body, tt.want)
		}
	}
}

func TestPackersWriteTheSame(t *testing.T) {
	var manifest bytes.Buffer
	if err := harbour.WriteManifest(&manifest); err != nil {
		t.Fatal(err)
	}
	if n := manifest.Len(); n < 9<<20 || n > 12<<20 {
		t.Errorf("the manifest has %d bytes; want about 10 MB", n)
	}
	if sum := fmt.Sprintf("%x", sha256.Sum256(manifest.Bytes())); sum != harbour.ManifestSHA256 {
		t.Errorf("the manifest has become another: its SHA-256 is %s", sum)
	}
	packed := map[string][]byte{}
	for name := range harbour.Packers() {
		var out bytes.Buffer
		if err := harbour.Pack(name, bytes.NewReader(manifest.Bytes()), &out); err != nil {
			t.Fatal(err)
		}
		packed[name] = out.Bytes()
	}
	if len(packed["gather"]) == 0 || !bytes.Equal(packed["gather"], packed["stream"]) {
		t.Errorf("gather wrote %d bytes, stream %d; want the same", len(packed["gather"]), len(packed["stream"]))
	}
	if len(packed["gather"])*4 > manifest.Len() {
		t.Errorf("packed to %d of %d bytes", len(packed["gather"]), manifest.Len())
	}
}

func TestPackersRefuseWhatIsNoManifest(t *testing.T) {
	for name := range harbour.Packers() {
		for _, text := range []string{"tide\n", "1;a;b;c;hold x;3 kg;d;e\n", "1;a;b;c;hold 1;3 kg;d;e;f\n"} {
			if err := harbour.Pack(name, strings.NewReader(text), io.Discard); err == nil {
				t.Errorf("%s packs %q", name, text)
			}
		}
	}
	if err := harbour.Pack("guess", nil, nil); err == nil || !strings.Contains(err.Error(), "gather, stream") {
		t.Errorf("an unknown packer says %v", err)
	}
}

func TestLayWritesPlansThatCanBeRead(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "demo")
	for range 2 { // the second time everything is there
		if err := harbour.Lay(dir); err != nil {
			t.Fatal(err)
		}
	}
	env := func(name string) (string, bool) {
		v, ok := map[string]string{"HARBOUR": "http://127.0.0.1:1", "PACEDUEL": "/bin/true"}[name]
		return v, ok
	}
	for _, name := range []string{harbour.BerthBoard, harbour.Packer} {
		if _, err := read.File(filepath.Join(dir, name), read.Options{Kinds: all.PlanKinds(), Lookup: env}); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "tides.csv"), []byte("spoilt"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := harbour.Lay(dir); err != nil {
		t.Fatal(err)
	}
	if text, _ := os.ReadFile(filepath.Join(dir, "tides.csv")); !strings.HasPrefix(string(text), "tide\n") {
		t.Errorf("a spoilt file was left as %q", text[:min(20, len(text))])
	}
	database := filepath.Join(dir, "harbour.db")
	before, err := os.Stat(database)
	if err != nil || before.Size() < 1<<20 {
		t.Fatalf("the database: %v, %v", before, err)
	}
	if err := os.WriteFile(database, []byte("spoilt"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := harbour.Lay(dir); err != nil {
		t.Fatal(err)
	}
	if after, err := os.Stat(database); err != nil || after.Size() != before.Size() {
		t.Errorf("a spoilt database was left: %v, %v", after, err)
	}
}

// Every question has a plan that can be read beside the harbour's data, and says which lines to change.
func TestQuestionsHavePlansThatCanBeRun(t *testing.T) {
	dir := t.TempDir()
	if err := harbour.Lay(dir); err != nil {
		t.Fatal(err)
	}
	env := func(name string) (string, bool) {
		v, ok := map[string]string{"HARBOUR": "http://127.0.0.1:1", "PACEDUEL": "/bin/true"}[name]
		return v, ok
	}
	seen := map[string]bool{}
	for _, q := range harbour.Questions() {
		p, err := read.Plan(filepath.Join(dir, q.Key+".duel.yaml"), []byte(q.Text), read.Options{
			Kinds: all.PlanKinds(), Lookup: env,
		})
		if err != nil {
			t.Errorf("%s: %v", q.Key, err)
			continue
		}
		if p.Name != q.Name || seen[q.Key] || !strings.Contains(q.Text, "change "+q.Lines) {
			t.Errorf("%s: %q is called %q", q.Key, q.Name, p.Name)
		}
		for word := range strings.FieldsSeq(strings.NewReplacer(",", "", " and ", " ").Replace(q.Lines)) {
			if !strings.Contains(q.Text, word+":") {
				t.Errorf("%s: there is no %s to change", q.Key, word)
			}
		}
		seen[q.Key] = true
	}
}
