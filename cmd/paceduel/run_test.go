package main

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"paceduel/core/plan"
	"paceduel/core/report"
)

// What a pipeline goes by has every plan that it was given, also those that an interrupt kept from being begun.
func TestReportsHaveEveryPlan(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	dir := filepath.Join(t.TempDir(), "reports")
	plans := []*plan.Plan{{Name: "Tides"}, {Name: "Berths"}}
	err := (&settings{}).runAll(ctx, plans, nil, runOptions{ci: dir})
	if !errors.Is(err, context.Canceled) || status(err) != statusInterrupted {
		t.Errorf("%v", err)
	}
	text, err := os.ReadFile(filepath.Join(dir, report.TAPFile))
	if err != nil || !strings.Contains(string(text), "not ok 1 - Tides") ||
		!strings.Contains(string(text), "not ok 2 - Berths") {
		t.Errorf("%v: %s", err, text)
	}
}
