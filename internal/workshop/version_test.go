package workshop

import (
	"runtime/debug"
	"strings"
	"testing"
)

func TestVersion(t *testing.T) {
	for want, settings := range map[string][]debug.BuildSetting{
		"": {{Key: "GOOS", Value: "linux"}},
		" (commit 0123456789ab of 2026-11-29T05:00:00Z, with changes)": {{Key: "vcs.revision",
			Value: "0123456789abcdef"},
			{Key: "vcs.time", Value: "2026-11-29T05:00:00Z"}, {Key: "vcs.modified", Value: "true"}},
		" (commit 0123)": {{Key: "vcs.revision", Value: "0123"}, {Key: "vcs.modified", Value: "false"}},
	} {
		if got := ofCommit(settings); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	if !strings.HasPrefix(Version(), Tool()) {
		t.Errorf("%q isn't of %q", Version(), Tool())
	}
}
