package bucket

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"slices"

	"github.com/minio/minio-go/v7"

	"twinshelf/internal/store/backend"
)

// Error is what became of a request.
type Error struct {
	Op   string // what was to be done, such as "read"
	Name string // of the object; empty for the bucket
	Code string // what the service calls it; empty where it gave no answer
	Says string // in words, with what to do
	Err  error
}

func (e *Error) Error() string {
	if e.Name == "" {
		return e.Says
	}
	return fmt.Sprintf("%s %s: %s", e.Op, e.Name, e.Says)
}

func (e *Error) Unwrap() error { return e.Err }

// ErrNoKeys means that no credentials were found in any of the usual places.
var ErrNoKeys = errors.New("no credentials were found")

// meanings are codes of the service (Amazon S3 API reference, Error responses), with what they mean here and the error
// that is known elsewhere; nil for none.
var meanings = []struct {
	codes []string
	says  string
	is    error
}{
	{[]string{"NoSuchKey", "NotFound", "NoSuchVersion"}, "it isn't there", fs.ErrNotExist},
	{[]string{"NoSuchUpload"}, "what was uploaded so far was thrown away by somebody else", nil},
	{[]string{"PreconditionFailed"}, "it is there already", fs.ErrExist},
	{[]string{"NoSuchBucket"}, "there is no such bucket; buckets are made by their owner, not here", nil},
	{[]string{"InvalidAccessKeyId", "SignatureDoesNotMatch", "ExpiredToken", "InvalidToken", "TokenRefreshRequired"},
		"the service doesn't take these credentials: look at AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, or at the " +
			"shared file of credentials", fs.ErrPermission},
	{[]string{"AccessDenied", "AllAccessDisabled", "Forbidden", "AccountProblem"},
		"these credentials have no right to do that", fs.ErrPermission},
	{[]string{"RequestTimeTooSkewed", "RequestExpired"}, "the service refuses what this machine's clock says: set " +
		"the clock right", nil},
	{[]string{"QuotaExceeded", "XMinioStorageFull", "InsufficientStorage", "InsufficientCapacity",
		"XMinioAdminBucketQuotaExceeded", "EntityTooLarge"}, "there is no room left for it", backend.ErrFull},
	{[]string{"ObjectLocked", "InvalidRequestObjectLocked"}, "it is locked against deleting", fs.ErrPermission},
	{[]string{"AuthorizationHeaderMalformed", "PermanentRedirect", "IllegalLocationConstraintException"},
		"the bucket is in another region: say region=… in the address", nil},
}

// explain says in words what became of a request.
func explain(op, name string, err error) error {
	if err == nil || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	if already := (*Error)(nil); errors.As(err, &already) {
		return err
	}
	answer := answerOf(err)
	out := &Error{Op: op, Name: name, Code: answer.Code, Err: err}
	for _, m := range meanings {
		if slices.Contains(m.codes, answer.Code) {
			out.Says = m.says
			if m.is != nil {
				out.Err = fmt.Errorf("%w: %w", m.is, err)
			}
			return out
		}
	}
	switch {
	case answer.StatusCode == http.StatusInsufficientStorage:
		out.Says, out.Err = "there is no room left for it", fmt.Errorf("%w: %w", backend.ErrFull, err)
	case answer.StatusCode == http.StatusPreconditionFailed:
		out.Says, out.Err = "it is there already", fmt.Errorf("%w: %w", fs.ErrExist, err)
	case answer.StatusCode == http.StatusNotFound:
		out.Says, out.Err = "it isn't there", fmt.Errorf("%w: %w", fs.ErrNotExist, err)
	case untrusted(err):
		out.Says = "the service's certificate isn't trusted (" + err.Error() + "): with a certificate authority of " +
			"your own say ca=/path/of/its.pem in the address; otherwise somebody may be in between"
	case answer.StatusCode == 0 || answer.Code == "":
		out.Says = "the service can't be reached: " + err.Error()
	default:
		out.Says = fmt.Sprintf("the service refused it: %s (%s)", answer.Message, answer.Code)
	}
	return out
}

// untrusted says whether a certificate was refused.
func untrusted(err error) bool {
	return errors.As(err, new(*tls.CertificateVerificationError)) || errors.As(err, new(x509.UnknownAuthorityError)) ||
		errors.As(err, new(x509.HostnameError)) || errors.As(err, new(x509.CertificateInvalidError))
}

// is says whether an error is one of the service's codes.
func is(err error, codes ...string) bool {
	return slices.Contains(codes, answerOf(err).Code)
}

// answerOf is what the service answered; empty where it didn't.
func answerOf(err error) (out minio.ErrorResponse) {
	_ = errors.As(err, &out)
	return out
}
