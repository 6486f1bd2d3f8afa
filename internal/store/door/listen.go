package door

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"twinshelf/internal/durable"
)

const (
	// version is what the server calls itself (RFC 4253, section 4.2).
	version = "SSH-2.0-TwinShelfDoor"
	// comeIn is how long somebody has to show a key.
	comeIn = 30 * time.Second
	// mostVisits is how many connections there may be at once, mostChannels how many sessions on one.
	mostVisits   = 256
	mostChannels = 10
	// silent is after how long without an answer a connection is given up; it is asked every third of that.
	silent = time.Minute
)

// Listener serves a door on a port of its own.
type Listener struct {
	Door *Door
	// Keys is the file of keys, which is read anew for everybody who comes.
	Keys string
	Host ssh.Signer
}

// CheckKeys says what is wrong with a file of keys.
func CheckKeys(file string) error {
	_, err := readKeys(file)
	return err
}

// HostKey reads a host key, or makes one where there is none.
func HostKey(file string) (ssh.Signer, error) {
	b, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		b, err = makeHostKey(file)
	}
	if err != nil {
		return nil, fmt.Errorf("the door's host key: %w", err)
	}
	s, err := ssh.ParsePrivateKey(b)
	if err != nil {
		return nil, fmt.Errorf("the door's host key in %s can't be read: %w", file, err)
	}
	return s, nil
}

func makeHostKey(file string) ([]byte, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "twinshelf door")
	if err != nil {
		return nil, err
	}
	b := pem.EncodeToMemory(block)
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	return b, durable.Replace(file, b)
}

// Serve serves everybody who comes until the context ends, and returns when all have left.
func (l *Listener) Serve(ctx context.Context, on net.Listener) error {
	var visits sync.WaitGroup
	defer visits.Wait()
	stop := context.AfterFunc(ctx, func() { on.Close() })
	defer stop()
	slots := make(chan struct{}, mostVisits)
	for {
		conn, err := on.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return fmt.Errorf("the door can't listen any more: %w", err)
		}
		select {
		case slots <- struct{}{}:
		default:
			conn.Close() // it is full
			continue
		}
		visits.Go(func() {
			defer func() { <-slots }()
			l.visit(ctx, conn)
		})
	}
}

// The key that was shown, as a connection carries it.
const (
	extName   = "name"
	extRight  = "right"
	extQuota  = "quota"
	extFolder = "folder"
)

// config lets those in whose keys are known.
func (l *Listener) config(from string) *ssh.ServerConfig {
	c := &ssh.ServerConfig{ServerVersion: version, MaxAuthTries: 12,
		PublicKeyCallback: func(_ ssh.ConnMetadata, shown ssh.PublicKey) (*ssh.Permissions, error) {
			keys, err := readKeys(l.Keys)
			if err != nil {
				l.Door.log.Note(Entry{Op: "come in", From: from, Refused: err.Error()})
				return nil, errors.New("the door is in disorder")
			}
			k, in := find(keys, shown)
			if !in {
				l.Door.log.Note(Entry{Op: "come in", From: from, Name: ssh.FingerprintSHA256(shown),
					Refused: "the key isn't known"})
				return nil, errors.New("the key isn't known")
			}
			return &ssh.Permissions{Extensions: map[string]string{extName: k.Name, extRight: k.Right.String(),
				extQuota: strconv.FormatInt(k.Quota, 10), extFolder: k.Folder}}, nil
		}}
	c.AddHostKey(l.Host)
	return c
}

// visit serves one connection.
func (l *Listener) visit(ctx context.Context, conn net.Conn) {
	defer conn.Close()
	ctx, end := context.WithCancel(ctx)
	defer end()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	from := conn.RemoteAddr().String()
	if conn.SetDeadline(time.Now().Add(comeIn)) != nil {
		return
	}
	in, channels, requests, err := ssh.NewServerConn(conn, l.config(from))
	if err != nil || conn.SetDeadline(time.Time{}) != nil {
		return
	}
	k, err := keyOf(in.Permissions)
	if err != nil {
		return
	}
	var work sync.WaitGroup
	defer work.Wait()
	work.Go(func() { ssh.DiscardRequests(requests) }) // answers those who ask whether it is alive
	work.Go(func() { watch(ctx, in) })
	slots := make(chan struct{}, mostChannels)
	for c := range channels {
		select {
		case slots <- struct{}{}:
		default:
			_ = c.Reject(ssh.ResourceShortage, "too many sessions")
			continue
		}
		work.Go(func() {
			defer func() { <-slots }()
			l.channel(ctx, c, k, from)
		})
	}
	end()
}

// watch ends a connection that doesn't answer any more.
func watch(ctx context.Context, in *ssh.ServerConn) {
	tick := time.NewTicker(silent / 3)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			late := time.AfterFunc(silent, func() { in.Close() })
			_, _, err := in.SendRequest("keepalive@openssh.com", true, nil)
			late.Stop()
			if err != nil {
				return
			}
		}
	}
}

func keyOf(p *ssh.Permissions) (k Key, err error) {
	if p == nil {
		return k, errors.New("no key was shown")
	}
	if k.Right, err = ParseRight(p.Extensions[extRight]); err != nil {
		return k, err
	}
	k.Name, k.Folder = p.Extensions[extName], p.Extensions[extFolder]
	k.Quota, err = strconv.ParseInt(p.Extensions[extQuota], 10, 64)
	return k, err
}

// channel serves one session, which must be for SFTP.
func (l *Listener) channel(ctx context.Context, c ssh.NewChannel, k Key, from string) {
	if c.ChannelType() != "session" {
		_ = c.Reject(ssh.UnknownChannelType, "files are served here, and nothing else")
		return
	}
	ch, requests, err := c.Accept()
	if err != nil {
		return
	}
	defer ch.Close()
	for r := range requests {
		// RFC 4254, section 6.5: the payload is the name of the subsystem, after its length.
		wanted := r.Type == "subsystem" && len(r.Payload) > 4 && string(r.Payload[4:]) == "sftp"
		if r.WantReply {
			_ = r.Reply(wanted, nil)
		}
		if !wanted {
			continue
		}
		var rest sync.WaitGroup
		rest.Go(func() { ssh.DiscardRequests(requests) })
		if err := l.Door.Serve(ctx, ch, k, from); err != nil {
			l.Door.log.Note(Entry{Op: "leave", Key: k.Name, From: from, Refused: err.Error()})
		}
		ch.Close()
		rest.Wait()
		return
	}
}

// Fingerprint is how people compare a host key.
func Fingerprint(s ssh.Signer) string { return ssh.FingerprintSHA256(s.PublicKey()) }
