package server

import (
	"context"
	"net"
	"sync"
	"time"
)

// patience ends a connection that comes about too slowly. The time that a person takes to answer doesn't count.
type patience struct {
	mu    sync.Mutex
	timer *time.Timer // nil before the connection is there
}

func newPatience() *patience { return new(patience) }

func (p *patience) begin(conn net.Conn) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.timer = time.AfterFunc(dialWithin, func() { conn.Close() })
}

func (p *patience) end() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.timer != nil {
		p.timer.Stop()
	}
}

// again begins to wait anew.
func (p *patience) again() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.timer != nil {
		p.timer.Reset(dialWithin)
	}
}

// spare gives the same questions, while which nobody loses patience.
func (p *patience) spare(asks Asks) (out Asks) {
	if trust := asks.Trust; trust != nil {
		out.Trust = func(ctx context.Context, host, fingerprint string) bool {
			p.end()
			defer p.again()
			return trust(ctx, host, fingerprint)
		}
	}
	if secret := asks.Secret; secret != nil {
		out.Secret = func(ctx context.Context, question string) (string, error) {
			p.end()
			defer p.again()
			return secret(ctx, question)
		}
	}
	return out
}
