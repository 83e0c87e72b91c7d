package fault_test

import (
	"strings"
	"testing"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin/fault"
	"hodstone/internal/proof/prooftest"
)

// TestEachFaultDoesWhatItSays: it breaks the checks that its row names, and no other.
func TestEachFaultDoesWhatItSays(t *testing.T) { prooftest.Matrix(t, packet.V311, packet.V5) }

// TestFaultsAreFound by name; the error for others names those of the family.
func TestFaultsAreFound(t *testing.T) {
	if all, err := fault.Set("will.never-sent", "qos.twice"); err != nil || len(all) != 2 || all[1].Name != "qos.twice" {
		t.Errorf("%+v %v", all, err)
	}
	if _, err := fault.Set("qos.twice", "will.sometimes"); err == nil ||
		!strings.Contains(err.Error(), "did you mean one of will.never-sent") || strings.Contains(err.Error(), "qos.") {
		t.Errorf("an unknown one: %v", err)
	}
	if _, err := fault.Find("tide.low"); err == nil || !strings.Contains(err.Error(), "lists them") || strings.Contains(err.Error(), "did you mean") {
		t.Errorf("an unknown family: %v", err)
	}
}
