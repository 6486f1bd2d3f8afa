package workshop

import (
	"fmt"
	"runtime/debug"
)

// Tool is the name and version that twins and proofs carry.
func Tool() string {
	version := "development"
	if b, ok := debug.ReadBuildInfo(); ok && b.Main.Version != "" && b.Main.Version != "(devel)" {
		version = b.Main.Version
	}
	return "Twin Shelf " + version
}

// Version is the same, with the commit that it was built from where that is known.
func Version() string {
	b, ok := debug.ReadBuildInfo()
	if !ok {
		return Tool()
	}
	return Tool() + ofCommit(b.Settings)
}

// ofCommit is the commit in words, as the build's settings tell it.
func ofCommit(settings []debug.BuildSetting) string {
	told := map[string]string{}
	for _, s := range settings {
		told[s.Key] = s.Value
	}
	commit := told["vcs.revision"]
	if commit == "" {
		return ""
	}
	words := fmt.Sprintf(" (commit %.12s", commit)
	if when := told["vcs.time"]; when != "" {
		words += " of " + when
	}
	if told["vcs.modified"] == "true" {
		words += ", with changes"
	}
	return words + ")"
}
