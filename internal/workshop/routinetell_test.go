package workshop

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/routine"
)

// script is a program of the test.
func script(t *testing.T, name, does string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte("#!/bin/sh\n"+does+"\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestTell: programs, mail and web addresses are told what became of a run, those that only want failures only of
// these; a server that fails is tried again, one that refuses isn't, and no secret of an address comes into the
// history.
func TestTell(t *testing.T) {
	var posts []string
	var answers []int
	server := httptest.NewTLSServer(http.HandlerFunc(func(a http.ResponseWriter, q *http.Request) {
		b, _ := io.ReadAll(q.Body)
		posts = append(posts, q.URL.Path+" "+string(b))
		a.Header().Set("Location", "/elsewhere")
		a.WriteHeader(answers[0])
		answers = answers[1:]
	}))
	defer server.Close()
	dir := t.TempDir()
	page := script(t, "page",
		`cat > `+dir+`/page; echo "$TWINSHELF_ROUTINE|$TWINSHELF_OUTCOME|$TWINSHELF_SAYS|$1|$TWINSHELF_PASSPHRASE" > `+
			dir+"/env")
	client := newClient()
	client.Transport = server.Client().Transport
	w, err := New(t.TempDir(), nil, false)
	if err != nil {
		t.Fatal(err)
	}
	w.tellers = tellers{client: client, sendmail: script(t, "sendmail", `[ "$*" = "-i -t" ] && cat > `+dir+"/mail"),
		pause: time.Millisecond}
	r := &routine.Routine{Name: "Desk", Machine: "Ticket desk", Tell: []routine.Tell{
		{Way: routine.ByCommand, To: page + " --quiet", On: routine.EachRun},
		{Way: routine.ByMail, To: "office@ferry.example", On: routine.OnFailure},
		{Way: routine.ByWeb, To: server.URL + "/secret-token", On: routine.EachRun},
		{Way: routine.ByWeb, To: server.URL + "/weekly", On: routine.Weekly}}, Heartbeat: server.URL + "/beat"}
	t.Setenv("TWINSHELF_PASSPHRASE", "gulls")
	ctx, cancel := context.WithCancel(t.Context())
	cancel() // a run that was stopped is told all the same
	answers = []int{503, 429, 204, 200}
	e := &routine.Entry{Ended: time.Now(), Outcome: routine.Done, Says: "captured onto Oak", Twin: "20261129T"}
	if problems := w.tellRun(ctx, r, e); len(problems) > 0 || len(posts) != 4 ||
		posts[3] != "/beat " {
		t.Errorf("%q, %d posts", problems, len(posts))
	}
	var m struct {
		Routine string `json:"routine_name"`
		Outcome string `json:"outcome"`
		Twin    string `json:"twin"`
	}
	got, err := os.ReadFile(dir + "/page")
	if err != nil || json.Unmarshal(got, &m) != nil || m.Routine != "Desk" || m.Outcome != "done" ||
		m.Twin != "20261129T" {
		t.Errorf("%s %v", got, err)
	}
	if env, _ := os.ReadFile(dir + "/env"); string(env) != "Desk|done|captured onto Oak|--quiet|\n" {
		t.Errorf("%s", env)
	}
	if _, err := os.Stat(dir + "/mail"); err == nil {
		t.Error("who wants failures only got mail of a success")
	}
	e.Outcome, e.Says, answers, posts = routine.Failed, "Kestrel, K1 isn't attached", []int{404, 200}, nil
	problems := strings.Join(w.tellRun(t.Context(), r, e), "\n")
	if len(posts) != 1 || !strings.Contains(problems, "127.0.0.1: 404 Not Found (1 attempt)") ||
		strings.Contains(problems, "secret") {
		t.Errorf("%d posts: %s", len(posts), problems)
	}
	mail, err := os.ReadFile(dir + "/mail")
	for _, want := range []string{"To: office@ferry.example\n", "Subject: Twin Shelf: Desk: failed\n",
		"Kestrel, K1 isn't attached", "twinshelf routine run 'Desk'"} {
		if err != nil || !strings.Contains(string(mail), want) {
			t.Errorf("no %q in %s", want, mail)
		}
	}
	answers, posts = []int{307, 200}, nil
	problems = strings.Join(w.tellRun(t.Context(), r, e), "\n")
	if len(posts) != 1 || !strings.Contains(problems, "307 Temporary Redirect") {
		t.Errorf("sent on: %d posts: %s", len(posts), problems)
	}
	server.Close()
	r.Name = "Schalter, abends: Fähre"
	w.tellRun(t.Context(), r, e)
	if mail, err := os.ReadFile(dir + "/mail"); err != nil || !strings.Contains(string(mail), "Subject: =?utf-8?q?") {
		t.Errorf("a name with an accent: %s %v", mail, err)
	}
	w.tellers.sendmail = dir + "/none"
	r.Tell[0].To = script(t, "hangs", "echo line is busy; exit 3")
	problems = strings.Join(w.tellRun(t.Context(), r, e), "\n")
	for _, want := range []string{"exit status 3: line is busy", "has no " + dir + "/none", "3 attempts"} {
		if !strings.Contains(problems, want) || strings.Contains(problems, "secret") {
			t.Errorf("no %q in %s", want, problems)
		}
	}
	// Nobody's word but that of a certificate is believed.
	w.tellers = tellers{client: &http.Client{}, pause: time.Millisecond}
	other := httptest.NewTLSServer(http.NotFoundHandler())
	defer other.Close()
	r.Tell = []routine.Tell{{Way: routine.ByWeb, To: other.URL, On: routine.OnFailure}}
	if problems := w.tellRun(t.Context(), r, e); len(problems) != 1 || !strings.Contains(problems[0], "certificate") {
		t.Errorf("%q", problems)
	}
}
