package main

import (
	"os"
	"strings"
	"testing"
)

// notices returns the notices that the tests run with: the first one alone, or
// what BERTHING_NOTICES says. With the second notice, 0419, TestNobodyGrounds fails.
func notices() []string {
	if list := os.Getenv("BERTHING_NOTICES"); list != "" {
		return strings.Split(list, ",")
	}
	return []string{"0412"}
}

func TestNobodyGrounds(t *testing.T) {
	report, err := run("data", notices())
	if err != nil {
		t.Fatalf("%s: %v", report, err)
	}
}

func TestEveryVesselIsCounted(t *testing.T) {
	report, _ := run("data", notices())
	if !strings.HasPrefix(report, "2304 vessels berthed, 96 turned away") {
		t.Error(report)
	}
}

func TestMissingDataIsReported(t *testing.T) {
	if _, err := run(t.TempDir(), nil); err == nil || !strings.Contains(err.Error(), "tide book") {
		t.Errorf("got %v", err)
	}
}
