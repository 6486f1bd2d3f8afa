package tui

import (
	"strings"
	"testing"
)

// TestCaptureOfOneDiskOfTwo: leaving out a disk that the machine had is asked for, and "no" leads back.
func TestCaptureOfOneDiskOfTwo(t *testing.T) {
	m := opened(t)
	mm := m.(*model)
	for mm.disks[mm.cursor].Identity.Model != "Cormorant C 500" {
		m = key(m, "down")
	}
	m = key(m, "enter", "space")
	if mm.step != stepCapture || len(mm.plan.Sources) != 1 {
		t.Fatalf("%d sources:\n%s", len(mm.plan.Sources), text(m))
	}
	m = key(m, "enter")
	if mm.menu == nil || mm.running() || !strings.Contains(text(m), "Cormorant C 500") || !strings.Contains(text(m), "Capture all the same?") {
		t.Fatalf("nobody asks:\n%s", text(m))
	}
	m = key(m, "enter")
	if mm.menu != nil || mm.running() || mm.step != stepCapture {
		t.Errorf("after no:\n%s", text(m))
	}
	m = key(m, "enter", "down", "enter")
	if mm.run == nil {
		t.Fatalf("after yes:\n%s", text(m))
	}
	<-mm.run.Ended()
	if err := mm.run.Wait(); err != nil {
		t.Error(err)
	}
}
