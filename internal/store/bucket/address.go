// Package bucket is object storage as a backend, by the S3 protocol (Amazon Simple Storage Service, API version
// 2006-03-01), whoever serves it.
package bucket

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"path"
	"strings"
	"time"
	"unicode"
)

// scheme begins the address of a shelf in object storage.
const scheme = "s3://"

const (
	// longestAddress bounds what is read, in bytes.
	longestAddress = 4096
	// longestLag bounds for how long a listing may lag.
	longestLag = 10 * time.Minute
)

// Address is where a shelf lies in object storage.
type Address struct {
	Bucket string
	Folder string // what the names of its objects begin with, without slashes around it; may be empty
	// Endpoint is https://host:port of the service; empty for the one of the environment, or Amazon's.
	Endpoint string
	Region   string
	Style    string        // "path" or "host": where the bucket is named; empty for what usually works
	Profile  string        // of the shared file of credentials; empty for the usual places
	CA       string        // file with certificate authorities to be trusted beside the system's
	Lag      time.Duration // for how long a listing may not show what was put
}

// Is says whether a text is meant as such an address.
func Is(text string) bool { return strings.HasPrefix(strings.ToLower(text), scheme) }

// form is how addresses are written.
const form = "s3://bucket/folder?endpoint=https://host:port"

// Parse reads s3://bucket/folder?endpoint=…&region=…&style=…&profile=…&ca=…&lag=….
func Parse(text string) (a Address, err error) {
	if len(text) > longestAddress || strings.ContainsFunc(text, unicode.IsControl) {
		return a, errors.New("the address is too long, or holds characters that can't be shown")
	}
	u, err := url.Parse(text)
	if err != nil || !strings.EqualFold(u.Scheme, "s3") {
		return a, fmt.Errorf("the address can't be read: write it as %s", form)
	}
	if u.User != nil || u.Fragment != "" {
		return a, errors.New("the address holds more than a bucket, a folder and how it is reached: keys don't " +
			"belong there, since it is shown and remembered; they are taken from the environment (AWS_ACCESS_KEY_ID, " +
			"AWS_SECRET_ACCESS_KEY), from the shared file of credentials, or from the machine")
	}
	a.Bucket, a.Folder = u.Host, strings.Trim(u.Path, "/")
	if !validBucket(a.Bucket) {
		return a, fmt.Errorf("the address names no bucket: write it as %s", form)
	}
	if a.Folder != "" && (path.Clean(a.Folder) != a.Folder || strings.HasPrefix(a.Folder, "..")) {
		return a, fmt.Errorf("%q can't be a folder in a bucket", a.Folder)
	}
	said, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return a, errors.New("what stands after the question mark of the address can't be read")
	}
	for key, values := range said {
		if err := a.set(key, values); err != nil {
			return a, err
		}
	}
	return a, nil
}

// validBucket says whether a name can be that of a bucket: 3 to 63 lower-case letters, digits, hyphens and dots. Older
// ones have capitals and underscores too.
func validBucket(name string) bool {
	return len(name) >= 3 && len(name) <= 63 && !strings.ContainsFunc(name, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("-._", r))
	}) && !strings.HasPrefix(name, ".") && !strings.Contains(name, "..")
}

// set takes what an address says beside bucket and folder.
func (a *Address) set(key string, values []string) (err error) {
	if len(values) != 1 {
		return fmt.Errorf("the address says %q more than once", key)
	}
	v := values[0]
	switch key {
	case "endpoint":
		a.Endpoint, err = endpoint(v)
	case "region":
		a.Region = v
	case "style":
		if v != "path" && v != "host" {
			return fmt.Errorf("style in the address is path or host, not %q", v)
		}
		a.Style = v
	case "profile":
		a.Profile = v
	case "ca":
		if !path.IsAbs(v) {
			return fmt.Errorf("ca in the address is the whole path of a file with certificates, not %q", v)
		}
		a.CA = v
	case "lag":
		if a.Lag, err = time.ParseDuration(v); err != nil || a.Lag < 0 || a.Lag > longestLag {
			return fmt.Errorf("lag in the address is a time such as 30s, %v at most", longestLag)
		}
	default: // neither the key nor the value is repeated: it may be a secret
		return errors.New("the address says something that isn't known: endpoint, region, style, profile, ca and lag " +
			"can stand there; keys don't belong into it")
	}
	return err
}

// endpoint reads the address of a service.
func endpoint(text string) (string, error) {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Hostname() == "" || u.User != nil ||
		u.RawQuery != "" || u.Fragment != "" || strings.Trim(u.Path, "/") != "" {
		return "", errors.New("endpoint in the address is https://host:port, and nothing else")
	}
	return u.Scheme + "://" + u.Host, nil
}

// String is the address as Parse reads it.
func (a Address) String() string {
	u := url.URL{Scheme: "s3", Host: a.Bucket, Path: "/" + a.Folder}
	var said []string
	add := func(key, value string) {
		if value != "" {
			// Slashes and colons are allowed in a query as they are (RFC 3986, section 3.4).
			said = append(said, key+"="+strings.NewReplacer("%3A", ":", "%2F", "/").Replace(url.QueryEscape(value)))
		}
	}
	add("endpoint", a.Endpoint)
	add("region", a.Region)
	add("style", a.Style)
	add("profile", a.Profile)
	add("ca", a.CA)
	if a.Lag > 0 {
		add("lag", a.Lag.String())
	}
	u.RawQuery = strings.Join(said, "&")
	return u.String()
}

// local says whether the service runs on this machine.
func (a Address) local() bool {
	u, err := url.Parse(a.service())
	if err != nil {
		return false
	}
	ip := net.ParseIP(u.Hostname())
	return u.Hostname() == "localhost" || ip != nil && ip.IsLoopback()
}
