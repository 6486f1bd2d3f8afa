package workshop

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"twinshelf/internal/routine"
	"twinshelf/internal/settings"
	"twinshelf/internal/units"
)

// mailer sends mail by a server of the person's own, never without TLS.
type mailer struct {
	settings.Mail
	secret func() ([]byte, error) // the password; nil for none
	roots  *x509.CertPool         // nil for those of the system
}

// Ports of mail servers (RFC 8314): at the first TLS begins at once, at others by STARTTLS.
const (
	portTLS   = "465"
	portUsual = "587"
)

// CheckMail says what keeps the particulars of a mail server from being used.
func CheckMail(m settings.Mail) (settings.Mail, error) {
	host, port, err := net.SplitHostPort(m.Server)
	if err != nil {
		host, port = m.Server, portUsual
	}
	if host == "" || strings.ContainsAny(host, " /@") || port == "" {
		return m, fmt.Errorf("%q is no mail server: name it with its port, such as mail.ferry.example:587", m.Server)
	}
	m.Server = net.JoinHostPort(host, port)
	if from, err := mail.ParseAddress(m.From); err != nil || from.Address != m.From {
		return m, fmt.Errorf("%q can't be whom mail comes from: give an address, such as shelf@ferry.example", m.From)
	}
	if (m.User == "") != (m.Password == "") {
		return m, errors.New("a user and where the password is belong together: give both, or neither")
	}
	if m.Password != "" {
		if _, err := routine.ParseSource(m.Password); err != nil {
			return m, fmt.Errorf("where the password is: %w", err)
		}
	}
	return m, nil
}

// UseMail remembers the server that mail goes by; an empty one forgets it.
func (w *Workshop) UseMail(m settings.Mail) (err error) {
	if m != (settings.Mail{}) {
		if m, err = CheckMail(m); err != nil {
			return err
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.State.SetMail(m)
}

// mailPassword is the file of a password that is kept with the settings.
const mailPassword = "mail.password"

// KeepMailPassword keeps a password with the settings, for its owner alone.
func (w *Workshop) KeepMailPassword(p []byte) error {
	return routine.KeepSecret(filepath.Join(w.State.Folder(), mailPassword), p)
}

// tellersNow are the ways of telling, with the mail server as it is set now.
func (w *Workshop) tellersNow() tellers {
	t := w.tellers
	w.mu.Lock()
	m := w.State.Mail
	w.mu.Unlock()
	if m.Server == "" {
		return t
	}
	t.mail = &mailer{Mail: m}
	if w.tellers.mail != nil { // a test's roots
		t.mail.roots = w.tellers.mail.roots
	}
	if source, err := routine.ParseSource(m.Password); err == nil && m.User != "" {
		kept := filepath.Join(w.State.Folder(), mailPassword)
		t.mail.secret = func() ([]byte, error) { return routine.ReadSecret(source, kept) }
	}
	return t
}

// TryMail sends a message to see whether that works.
func (w *Workshop) TryMail(ctx context.Context, to string) error {
	t := w.tellersNow()
	host, _ := os.Hostname()
	n := notice{subject: "mail works",
		text: fmt.Sprintf("This is a trial: Twin Shelf on %s can send mail to you.\n", host)}
	if said := t.tell(ctx, routine.Tell{Way: routine.ByMail, To: to}, n); len(said) > 0 {
		return errors.New(strings.Join(said, "; "))
	}
	return nil
}

// letter is a message without its addresses (RFC 5322), lines ended by \n.
func (n notice) letter() string {
	var b bytes.Buffer
	fmt.Fprintf(&b, "Subject: %s\nDate: %s\nMIME-Version: 1.0\nContent-Type: text/plain; charset=utf-8\n"+
		"Content-Transfer-Encoding: quoted-printable\nAuto-Submitted: auto-generated\n\n",
		mime.QEncoding.Encode("utf-8", "Twin Shelf: "+units.Visible(n.subject)), time.Now().Format(time.RFC1123Z))
	q := quotedprintable.NewWriter(&b)
	_, _ = q.Write([]byte(n.text)) // into memory
	_ = q.Close()
	return strings.ReplaceAll(b.String(), "\r\n", "\n")
}

// send gives a message to the server.
func (m *mailer) send(ctx context.Context, to string, n notice) error {
	host, port, err := net.SplitHostPort(m.Server)
	if err != nil {
		return err
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", m.Server)
	if err != nil {
		return fmt.Errorf("the mail server %s can't be reached: %w", host, err)
	}
	defer conn.Close()
	if end, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(end)
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	config := &tls.Config{ServerName: host, RootCAs: m.roots, MinVersion: tls.VersionTLS12}
	var c *smtp.Client
	if port == portTLS {
		c = smtp.NewClient(tls.Client(conn, config))
	} else if c, err = smtp.NewClientStartTLS(conn, config); err != nil {
		return fmt.Errorf("the mail server %s offers no TLS that can be trusted, and without it nothing is sent: %w",
			host, err)
	}
	if err := m.logIn(c); err != nil {
		return fmt.Errorf("the mail server %s: %w", host, err)
	}
	var id [16]byte
	_, _ = rand.Read(id[:]) // never fails
	head := fmt.Sprintf("From: Twin Shelf <%s>\nTo: <%s>\nMessage-ID: <%x@%s>\n", m.From, to, id,
		m.From[strings.LastIndex(m.From, "@")+1:])
	if err := c.SendMail(m.From, []string{to}, strings.NewReader(head+n.letter())); err != nil {
		return fmt.Errorf("the mail server %s: %w", host, err)
	}
	return c.Quit()
}

// logIn says who sends, where a user is set.
func (m *mailer) logIn(c *smtp.Client) error {
	if m.User == "" {
		return nil
	}
	if m.secret == nil {
		return errors.New("where its password is isn't said")
	}
	p, err := m.secret()
	if err != nil {
		return err
	}
	if c.SupportsAuth(sasl.Login) && !c.SupportsAuth(sasl.Plain) {
		return c.Auth(sasl.NewLoginClient(m.User, string(p)))
	}
	return c.Auth(sasl.NewPlainClient("", m.User, string(p)))
}
