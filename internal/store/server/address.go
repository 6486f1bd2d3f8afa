// Package server is a folder on a server as a backend, by SFTP (draft-ietf-secsh-filexfer-02) over SSH (RFC 4251 to
// 4254), with the extensions of OpenSSH where the server has them.
package server

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"
	"unicode"
)

// scheme begins the address of a far shelf.
const scheme = "sftp://"

// longestAddress bounds what is read, in bytes.
const longestAddress = 4096

// Address is where a far shelf lies.
type Address struct {
	User string // empty for what the configuration says, or the person's own name
	Host string // a name, an address, or an alias of the person's SSH configuration
	Port int    // 0 for what the configuration says, or 22
	Path string // without a slash at the beginning it is in the home folder
}

// Is says whether a text is meant as an address and not as a folder.
func Is(text string) bool { return strings.HasPrefix(strings.ToLower(text), scheme) }

// Parse reads sftp://user@host:port/path; sftp://host/~/path is in the home folder.
func Parse(text string) (a Address, err error) {
	if len(text) > longestAddress || strings.ContainsFunc(text, unicode.IsControl) {
		return a, errors.New("the address is too long, or holds characters that can't be shown")
	}
	u, err := url.Parse(text)
	if err != nil || !strings.EqualFold(u.Scheme, "sftp") {
		return a, errors.New("the address can't be read: write it as sftp://user@host:port/path")
	}
	if _, secret := u.User.Password(); secret || u.RawQuery != "" || u.Fragment != "" {
		return a, errors.New("the address holds more than user, host, port and path: passwords don't belong there, " +
			"since it is shown and remembered; a key or an agent opens the server, or it is asked for")
	}
	a = Address{User: u.User.Username(), Host: u.Hostname(), Path: u.Path}
	if port := u.Port(); port != "" {
		if a.Port, err = strconv.Atoi(port); err != nil || a.Port < 1 || a.Port > 65535 {
			return a, fmt.Errorf("%s is no port", port)
		}
	}
	switch {
	case a.Host == "" || strings.HasPrefix(a.Host, "-"):
		return a, errors.New("the address names no host: write it as sftp://user@host:port/path")
	case a.Path == "/~" || strings.HasPrefix(a.Path, "/~/"):
		a.Path = strings.TrimPrefix(strings.TrimPrefix(a.Path, "/~"), "/")
	case a.Path == "" || a.Path == "/":
		return a, errors.New("the address names no folder: write it as sftp://user@host/srv/oak")
	}
	return a, nil
}

// String is the address as Parse reads it.
func (a Address) String() string {
	u := url.URL{Scheme: "sftp", Host: a.Host, Path: a.Path}
	if a.User != "" {
		u.User = url.User(a.User)
	}
	if strings.Contains(a.Host, ":") {
		u.Host = "[" + a.Host + "]"
	}
	if a.Port > 0 {
		u.Host = net.JoinHostPort(a.Host, strconv.Itoa(a.Port))
	}
	if !strings.HasPrefix(a.Path, "/") {
		u.Path = "/~/" + a.Path
	}
	return u.String()
}
