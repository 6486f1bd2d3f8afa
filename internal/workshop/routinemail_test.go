package workshop

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"net"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"twinshelf/internal/routine"
	"twinshelf/internal/settings"
)

// post is a mail server of the test: what came, and from whom to whom.
type post struct {
	letters []string
	sender  string
	users   map[string]string // passwords
	login   bool              // it knows only the older way to log in
}

func (p *post) NewSession(*smtp.Conn) (smtp.Session, error) { return &session{post: p}, nil }

type session struct {
	*post
	known bool
}

func (s *session) AuthMechanisms() []string {
	if s.login {
		return []string{sasl.Login}
	}
	return []string{sasl.Plain}
}

func (s *session) Auth(string) (sasl.Server, error) {
	check := func(user, password string) error {
		if s.known = s.users[user] != "" && s.users[user] == password; !s.known {
			return errors.New("who is that?")
		}
		return nil
	}
	if s.login {
		return &loginServer{check: check}, nil
	}
	return sasl.NewPlainServer(func(_, user, password string) error { return check(user, password) }), nil
}

// loginServer asks for user and password one after the other.
type loginServer struct {
	check func(user, password string) error
	user  string
}

func (l *loginServer) Next(response []byte) (challenge []byte, done bool, err error) {
	if l.user == "" { // it comes with the command
		l.user = string(response)
		return []byte("Password:"), false, nil
	}
	return nil, true, l.check(l.user, string(response))
}

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	if s.users != nil && !s.known {
		return smtp.ErrAuthRequired
	}
	s.sender = from
	return nil
}

func (s *session) Rcpt(string, *smtp.RcptOptions) error { return nil }

func (s *session) Data(r io.Reader) error {
	b, err := io.ReadAll(r)
	s.letters = append(s.letters, string(b))
	return err
}

func (s *session) Reset()        {}
func (s *session) Logout() error { return nil }

// serve runs a mail server whose certificate these roots trust, or one without TLS where they are nil.
func serve(t *testing.T, p *post, cert *tls.Certificate) (address string) {
	t.Helper()
	s := smtp.NewServer(p)
	s.Domain = "mail.ferry.example"
	s.ReadTimeout = 10 * time.Second
	if cert != nil {
		s.TLSConfig = &tls.Config{Certificates: []tls.Certificate{*cert}}
	} else {
		s.AllowInsecureAuth = true
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_ = s.Serve(l)
	}()
	t.Cleanup(func() {
		s.Close()
		<-ended
	})
	return l.Addr().String()
}

// TestMailServer: mail goes by the server that is set, under TLS alone: a certificate that nobody vouches for, a server
// without TLS and a wrong password send nothing, and say so without the password.
func TestMailServer(t *testing.T) {
	certs := httptest.NewTLSServer(nil) // for its certificate of 127.0.0.1
	defer certs.Close()
	roots := x509.NewCertPool()
	roots.AddCert(certs.Certificate())
	w, err := New(t.TempDir(), nil, false)
	if err != nil {
		t.Fatal(err)
	}
	w.tellers.mail = &mailer{roots: roots}
	file := filepath.Join(t.TempDir(), "mail.pass")
	if err := os.WriteFile(file, []byte("low tide\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	server := &post{users: map[string]string{"shelf": "low tide"}}
	m := settings.Mail{Server: serve(t, server, &certs.TLS.Certificates[0]), From: "shelf@ferry.example", User: "shelf",
		Password: "file " + file}
	r := &routine.Routine{Name: "Fähre", Tell: []routine.Tell{{Way: routine.ByMail, To: "office@ferry.example",
		On: routine.OnFailure}}}
	e := &routine.Entry{Ended: time.Now(), Outcome: routine.Failed, Says: "the dock is empty: " +
		strings.Repeat("nothing in it ", 40)}
	tell := func(m settings.Mail) string {
		t.Helper()
		if err := w.UseMail(m); err != nil {
			t.Fatal(err)
		}
		return strings.Join(w.tellRun(t.Context(), r, e), "\n")
	}
	if problems := tell(m); problems != "" || len(server.letters) != 1 || server.sender != "shelf@ferry.example" {
		t.Fatalf("%s, %d letters from %s", problems, len(server.letters), server.sender)
	}
	for _, want := range []string{"From: Twin Shelf <shelf@ferry.example>\r\n", "To: <office@ferry.example>\r\n",
		"Subject: =?utf-8?q?", "Message-ID: <", "the dock is empty"} {
		if !strings.Contains(server.letters[0], want) {
			t.Errorf("no %q in %s", want, server.letters[0])
		}
	}
	again, err := New(w.State.Folder(), nil, false)
	if err != nil || again.State.Mail != m {
		t.Errorf("remembered: %+v %v", again.State.Mail, err)
	}
	server.login = true
	if problems := tell(m); problems != "" || len(server.letters) != 2 {
		t.Errorf("the older way: %s", problems)
	}
	server.users["shelf"] = "high tide"
	if problems := tell(m); !strings.Contains(problems, "nobody could be told by mail") ||
		strings.Contains(problems, "tide") || len(server.letters) != 2 {
		t.Errorf("a wrong password: %s", problems)
	}
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	if problems := tell(m); !strings.Contains(problems, "can read it") {
		t.Errorf("a password that all can read: %s", problems)
	}
	plain := &post{}
	if problems := tell(settings.Mail{Server: serve(t, plain, nil),
		From: "shelf@ferry.example"}); len(plain.letters) > 0 ||
		!strings.Contains(problems, "no TLS that can be trusted") {
		t.Errorf("without TLS: %s", problems)
	}
	w.tellers.mail = nil // the roots of the system, which don't know it
	open := &post{}
	m = settings.Mail{Server: serve(t, open, &certs.TLS.Certificates[0]), From: "shelf@ferry.example"}
	if problems := tell(m); len(open.letters) > 0 || !strings.Contains(problems, "certificate") {
		t.Errorf("a certificate that nobody vouches for: %s", problems)
	}
	for _, bad := range []settings.Mail{{Server: "mail.ferry.example"}, {Server: "", From: "a@b.example"},
		{Server: "mail.ferry.example", From: "a@b.example", User: "a"},
		{Server: "mail.ferry.example", From: "a@b.example", User: "a", Password: "low tide"}} {
		if err := w.UseMail(bad); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
	if m, err := CheckMail(settings.Mail{Server: "mail.ferry.example", From: "a@b.example"}); err != nil ||
		m.Server != "mail.ferry.example:587" {
		t.Errorf("%+v %v", m, err)
	}
}

// TestStandingIsTold: silence is told once, the week once a week with all who want it in one message.
func TestStandingIsTold(t *testing.T) {
	dir := t.TempDir()
	w, err := New(dir, nil, false)
	if err != nil {
		t.Fatal(err)
	}
	page := script(t, "page", `cat >> `+dir+`/told; echo " $TWINSHELF_OUTCOME" >> `+dir+"/told")
	start := time.Date(2026, 11, 2, 9, 0, 0, 0, time.Local)
	for _, name := range []string{"Kiosk", "Desk"} {
		r, err := routine.Parse(strings.NewReader(routine.Head + "\nname: " + name + "\nshelf: Oak\ndo: check 1 %\n" +
			"tell on failure: command " + page + "\ntell weekly: command " + page + "\nalarm: nothing for 8 days\n"))
		if err != nil {
			t.Fatal(err)
		}
		if err := w.Routines().Save(r, start); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Routines().Note("Kiosk", routine.Entry{Ended: start.AddDate(0, 0, 6),
		Outcome: routine.Done}); err != nil {
		t.Fatal(err)
	}
	told := func(now time.Time) string {
		t.Helper()
		w.tellStanding(t.Context(), now)
		b, _ := os.ReadFile(dir + "/told")
		_ = os.Remove(dir + "/told")
		return string(b)
	}
	if got := told(start); got != "" {
		t.Errorf("at first: %s", got)
	}
	week := told(start.AddDate(0, 0, 7))
	if strings.Count(week, "\n") != 1 || !strings.Contains(week, `"routine_name":"Desk"`) ||
		!strings.Contains(week, `"routine_name":"Kiosk","outcomes":{"done":1}`) || !strings.Contains(week, " week") {
		t.Errorf("the week: %s", week)
	}
	silent := told(start.AddDate(0, 0, 8))
	if strings.Count(silent, "\n") != 1 || !strings.Contains(silent, `"routine_name":"Desk"`) ||
		!strings.Contains(silent, " silent") {
		t.Errorf("silence: %s", silent)
	}
	if got := told(start.AddDate(0, 0, 8).Add(time.Minute)); got != "" {
		t.Errorf("told twice: %s", got)
	}
}
