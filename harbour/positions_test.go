package harbour

import (
	"os"
	"path/filepath"
	"testing"
)

// Only the buffered log holds positions that are not in its file, and what stands in one is counted as it is.
func TestThePositionLog(t *testing.T) {
	for way, want := range map[string]int64{"buffered": 0, "written": 5, "synced": 5} {
		path := filepath.Join(t.TempDir(), "positions.log")
		l, err := openLog(path, way)
		if err != nil {
			t.Fatal(err)
		}
		for range 5 {
			if _, err := l.keep("Brim", "58.1N 4.2E"); err != nil {
				t.Fatal(err)
			}
		}
		if c, err := CountPositions(path); err != nil || c.Records != want || c.Torn+c.Doubled != 0 || c.Last != want {
			t.Errorf("%s: %+v, %v", way, c, err)
		}
		l.file.Close()
	}
	if _, err := openLog(filepath.Join(t.TempDir(), "x"), "loosely"); err == nil {
		t.Error("a way that there is not")
	}
	path := filepath.Join(t.TempDir(), "positions.log")
	if err := os.WriteFile(path, []byte("1,a,b\n2,a,b\n2,a,b\nx,a,b\n3,a\n4,a,b"), 0o600); err != nil {
		t.Fatal(err)
	}
	if c, err := CountPositions(path); err != nil || c != (PositionCount{6, 3, 1, 2}) {
		t.Errorf("%+v, %v", c, err)
	}
	if l, err := openLog(path, "written"); err != nil || l.next != 3 {
		t.Errorf("goes on with %+v, %v", l, err)
	}
}
