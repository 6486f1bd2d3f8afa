package bucket

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"twinshelf/internal/store/pace"
)

const (
	// amazons is the endpoint where neither address nor environment name one.
	amazons = "https://s3.amazonaws.com"
	// usualRegion is what services other than Amazon's answer to, whatever their own region is called.
	usualRegion = "us-east-1"

	dialWithin = 10 * time.Second
	// answerWithin is how long a service may take to answer once it was sent all of a request.
	answerWithin = time.Minute
	// connections is how many are kept open.
	connections = 64
	// mostCA bounds a file of certificates, in bytes.
	mostCA = 4 << 20
	// attempts is how often the package tries a request that the service couldn't take.
	attempts = 5
)

// Open gives the backend at an address; the service is asked when the backend is first used. pacer, which may
// be nil, bounds what goes over the line.
func Open(a Address, pacer *pace.Pacer) (*Bucket, error) {
	transport, err := newTransport(a.CA, pacer)
	if err != nil {
		return nil, err
	}
	keys := credentialsFor(a.Profile, transport)
	core, err := dial(a, keys, transport)
	if err != nil {
		return nil, err
	}
	return &Bucket{at: a, core: core, transport: transport, keys: keys}, nil
}

// service is where the requests go.
func (a Address) service() string {
	if a.Endpoint != "" {
		return a.Endpoint
	}
	for _, key := range []string{"AWS_ENDPOINT_URL_S3", "AWS_ENDPOINT_URL"} {
		if e, err := endpoint(os.Getenv(key)); err == nil {
			return e
		}
	}
	return amazons
}

// region is the one that requests are signed for; empty has the package ask.
func (a Address) region() string {
	for _, r := range []string{a.Region, os.Getenv("AWS_REGION"), os.Getenv("AWS_DEFAULT_REGION")} {
		if r != "" {
			return r
		}
	}
	if a.service() == amazons {
		return ""
	}
	return usualRegion
}

func dial(a Address, keys *credentials.Credentials, transport http.RoundTripper) (*minio.Core, error) {
	u, err := url.Parse(a.service())
	if err != nil {
		return nil, err
	}
	lookup := minio.BucketLookupAuto
	switch {
	case a.Style == "host":
		lookup = minio.BucketLookupDNS
	case a.Style == "path" || a.service() != amazons:
		lookup = minio.BucketLookupPath
	}
	core, err := minio.NewCore(u.Host, &minio.Options{Creds: keys, Secure: u.Scheme == "https", Transport: transport,
		Region: a.region(), BucketLookup: lookup, MaxRetries: attempts})
	if err != nil {
		return nil, fmt.Errorf("%s can't be used: %w", a, err)
	}
	return core, nil
}

// newTransport makes connections that are noticed to be dead within 20 seconds.
func newTransport(ca string, pacer *pace.Pacer) (*http.Transport, error) {
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if ca != "" {
		if err := trust(pool, ca); err != nil {
			return nil, err
		}
	}
	d := pace.Dialer(dialWithin)
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := d.DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return pace.Impatient(c, pace.Silent), nil
	}
	return &http.Transport{Proxy: http.ProxyFromEnvironment, DialContext: pacer.Dialer(dial),
		TLSHandshakeTimeout: dialWithin, ResponseHeaderTimeout: answerWithin, IdleConnTimeout: time.Minute,
		MaxIdleConns: connections, MaxIdleConnsPerHost: connections, DisableCompression: true,
		TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: pool}}, nil
}

// trust adds the certificates of a file.
func trust(pool *x509.CertPool, file string) error {
	st, err := os.Stat(file)
	if err == nil && st.Size() > mostCA {
		err = fmt.Errorf("it is larger than %d bytes", mostCA)
	}
	var pem []byte
	if err == nil {
		pem, err = os.ReadFile(file)
	}
	if err == nil && !pool.AppendCertsFromPEM(pem) {
		err = errors.New("there is no certificate in it (PEM)")
	}
	if err != nil {
		return fmt.Errorf("the certificate authorities in %s can't be used: %w", file, err)
	}
	return nil
}

// machineWithin bounds how long the machine is asked for credentials that a cloud gives it.
const machineWithin = 3 * time.Second

// credentialsFor looks in the usual places: a profile that is named, or environment, shared file and machine.
func credentialsFor(profile string, transport http.RoundTripper) *credentials.Credentials {
	if profile != "" {
		return credentials.New(&credentials.FileAWSCredentials{Profile: profile})
	}
	return credentials.NewChainCredentials([]credentials.Provider{&credentials.EnvAWS{},
		&credentials.FileAWSCredentials{},
		&credentials.IAM{Client: &http.Client{Transport: &http.Transport{
			DialContext: (&net.Dialer{Timeout: machineWithin}).DialContext}, Timeout: machineWithin}}})
}
