package network

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/beevik/ntp"
)

// ErrNoTime means that a server doesn't tell the time, or not one to be believed.
var ErrNoTime = errors.New("the time can't be had there")

// waitTime is how long a server of time gets to answer.
const waitTime = 5 * time.Second

// Offset asks a server of time (NTP, RFC 5905) how far this machine's clock is behind it; less than zero where the
// clock is ahead. Nobody vouches for the answer: a person has to look at it.
func Offset(ctx context.Context, server string) (time.Duration, error) {
	server = strings.TrimSpace(server)
	if server == "" {
		return 0, fmt.Errorf("%w: no server was named", ErrNoTime)
	}
	dial := func(_, remote string) (net.Conn, error) { return new(net.Dialer).DialContext(ctx, "udp", remote) }
	r, err := ntp.QueryWithOptions(server, ntp.QueryOptions{Timeout: waitTime, Dialer: dial})
	if err == nil {
		err = r.Validate()
	}
	if err != nil {
		return 0, fmt.Errorf("%w (%s): %w", ErrNoTime, server, err)
	}
	return r.ClockOffset, nil
}
