package cli

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"twinshelf/internal/store/far"
)

const (
	logName = "twinshelf.log"
	maxLog  = 1 << 20 // bytes; a longer one is put aside, and the one before that goes
)

// logTo sends the log to a file in the state folder, and begins with the command. Nothing depends on it.
func (o *options) logTo(dir string) {
	// a shell asks for completions at every key
	if o.log != nil || len(o.args) > 0 && strings.HasPrefix(o.args[0], "__") {
		return
	}
	if os.MkdirAll(dir, 0o700) != nil {
		return
	}
	name := filepath.Join(dir, logName)
	if st, err := os.Stat(name); err == nil && st.Size() > maxLog {
		_ = os.Rename(name, name+".1")
	}
	f, err := os.OpenFile(name, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return
	}
	o.log, o.begun = f, time.Now()
	slog.SetDefault(slog.New(slog.NewTextHandler(f, nil)))
	var line []string
	for _, word := range o.args {
		line = append(line, far.Shown(word))
	}
	slog.Info("command", "line", strings.Join(line, " "), "process", os.Getpid())
}

// logEnd notes how a command ended.
func (o *options) logEnd(ctx context.Context, status int, err error) {
	if o.log == nil {
		return
	}
	level := slog.LevelInfo
	if err != nil {
		level = slog.LevelError
	}
	slog.Log(ctx, level, "command ends", "status", status, "took", time.Since(o.begun).Round(time.Millisecond),
		"error", err)
	_ = o.log.Close()
}
