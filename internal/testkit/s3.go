package testkit

import (
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// S3Server is a real S3 server of the test.
type S3Server struct {
	Endpoint string // http://127.0.0.1:port
	// Owner is the client of who may do everything.
	Owner *minio.Client
	args  []string
	t     testing.TB
	cmd   *exec.Cmd
}

// The keys of who may do everything.
const (
	S3Key    = "tam-hollis"
	S3Secret = "tides-and-timetables"
)

// S3 starts a server on this machine, and gives the environment the keys to it. Its buckets can keep versions. More
// are global arguments of the server, such as certificates (and then it is secure).
func S3(t testing.TB, secure bool, more ...string) *S3Server {
	t.Helper()
	return S3On(t, "127.0.0.1", secure, more...)
}

// S3On starts a server on one of the addresses of this machine, or of the other end of a Cable.
func S3On(t testing.TB, host string, secure bool, more ...string) *S3Server {
	t.Helper()
	Need(t, "versitygw")
	dir := t.TempDir()
	l, err := net.Listen("tcp", host+":0")
	if err != nil {
		t.Fatal(err)
	}
	at := l.Addr().String()
	l.Close()
	for _, sub := range []string{"buckets", "versions"} {
		if err := os.Mkdir(filepath.Join(dir, sub), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	s := &S3Server{Endpoint: "http://" + at, t: t}
	if secure {
		s.Endpoint = "https://" + at
	}
	s.args = append([]string{"--quiet", "--port", at, "--access", S3Key, "--secret", S3Secret}, more...)
	s.args = append(s.args, "posix", "--versioning-dir", filepath.Join(dir, "versions"), filepath.Join(dir, "buckets"))
	s.Owner, err = minio.New(at, &minio.Options{Creds: credentials.NewStaticV4(S3Key, S3Secret, ""),
		Region: "us-east-1", Secure: secure, Transport: &http.Transport{
			TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}) // it isn't what is tested
	if err != nil {
		t.Fatal(err)
	}
	for key, value := range map[string]string{"AWS_ACCESS_KEY_ID": S3Key, "AWS_SECRET_ACCESS_KEY": S3Secret,
		"AWS_SESSION_TOKEN": "", "AWS_ENDPOINT_URL": "", "AWS_REGION": ""} {
		t.Setenv(key, value)
	}
	s.Start()
	t.Cleanup(s.Stop)
	return s
}

// Start starts the server and returns once it answers.
func (s *S3Server) Start() {
	s.t.Helper()
	program, err := Path("versitygw")
	if err != nil {
		s.t.Fatal(err)
	}
	s.cmd = exec.Command(program, s.args...)
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	if err := s.cmd.Start(); err != nil {
		s.t.Fatal(err)
	}
	u, err := url.Parse(s.Endpoint)
	if err != nil {
		s.t.Fatal(err)
	}
	for end := time.Now().Add(time.Minute); ; time.Sleep(20 * time.Millisecond) {
		c, err := net.Dial("tcp", u.Host)
		if err == nil {
			c.Close()
			return
		}
		if time.Now().After(end) {
			s.t.Fatalf("the S3 server doesn't answer: %v", err)
		}
	}
}

// Stop kills the server with all its connections.
func (s *S3Server) Stop() {
	if s.cmd == nil {
		return
	}
	_ = s.cmd.Process.Kill()
	_ = s.cmd.Wait()
	s.cmd = nil
}

// Bucket makes a bucket, and gives the address of a folder in it.
func (s *S3Server) Bucket(name string, o minio.MakeBucketOptions) string {
	s.t.Helper()
	if err := s.Owner.MakeBucket(s.t.Context(), name, o); err != nil {
		s.t.Fatal(err)
	}
	return fmt.Sprintf("s3://%s/oak?endpoint=%s", name, s.Endpoint)
}
