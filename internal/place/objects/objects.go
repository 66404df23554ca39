// Package objects is the places that are object stores: S3 and what speaks its protocol, Azure's blobs, Google's
// storage. It stands apart from package place, since it is made with the vendors' own libraries, which are large: only the
// program itself links it. Start at [Dial].
//
// An object has no folders; a folder of such a place is the objects whose keys begin with its name and a slash.
// Its version is its ETag, the same from a listing and from the object itself.
package objects

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"strings"
	"time"

	"cloud.google.com/go/storage"
	"github.com/Azure/azure-sdk-for-go/sdk/azcore"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/container"
	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/config"
	"github.com/aws/aws-sdk-go-v2/credentials"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/aws-sdk-go-v2/service/s3/types"
	"gocloud.dev/blob/azureblob"
	"gocloud.dev/blob/gcsblob"
	"gocloud.dev/blob/s3blob"
	"gocloud.dev/gcerrors"
	"gocloud.dev/gcp"
	"golang.org/x/oauth2/google"
	"google.golang.org/api/option"

	cloud "gocloud.dev/blob"

	"mullein/internal/landing"
	"mullein/internal/place"
	"mullein/internal/settings"
)

// driver is a bucket or a container.
type driver struct {
	bucket *cloud.Bucket
	name   string // of the bucket
	prefix string // of keys; "" for none
}

// Dial opens a bucket or a container. The first request signs in.
func Dial(ctx context.Context, s settings.Place) (place.Driver, error) {
	at, err := url.Parse(s.Address)
	if err != nil {
		return nil, err
	}
	open := map[string]func(context.Context, *settings.Place, string) (*cloud.Bucket, error){settings.S3: openS3,
		settings.Azure: openAzure, settings.Google: openGoogle}[s.Kind()]
	if open == nil {
		return nil, fmt.Errorf("%s is no object store", s.Address)
	}
	bucket, err := open(ctx, &s, at.Host)
	if err != nil {
		return nil, err
	}
	return &driver{bucket, at.Host, strings.Trim(at.Path, "/")}, nil
}

func openS3(ctx context.Context, s *settings.Place, bucket string) (*cloud.Bucket, error) {
	password, err := s.PasswordNow()
	if err != nil {
		return nil, err
	}
	options := []func(*config.LoadOptions) error{}
	switch {
	case s.Anonymous:
		options = append(options, config.WithCredentialsProvider(aws.AnonymousCredentials{}))
	case s.User != "":
		options = append(options, config.WithCredentialsProvider(credentials.NewStaticCredentialsProvider(s.User, password, "")))
	}
	c, err := config.LoadDefaultConfig(ctx, options...)
	if err != nil {
		return nil, err
	}
	c.Region = cmp.Or(s.Region, c.Region, "us-east-1")
	client := s3.NewFromConfig(c, func(o *s3.Options) {
		if s.Endpoint != "" {
			o.BaseEndpoint, o.UsePathStyle = &s.Endpoint, true
			// What speaks the protocol need not know the sums that came to it later.
			o.RequestChecksumCalculation, o.ResponseChecksumValidation = aws.RequestChecksumCalculationWhenRequired,
				aws.ResponseChecksumValidationWhenRequired
		}
	})
	return s3blob.OpenBucket(ctx, client, bucket, nil)
}

func openAzure(ctx context.Context, s *settings.Place, name string) (*cloud.Bucket, error) {
	password, err := s.PasswordNow()
	if err != nil {
		return nil, err
	}
	if s.User == "" && s.Endpoint == "" {
		return nil, errors.New("which storage account? give user, or endpoint")
	}
	address := cmp.Or(strings.TrimSuffix(s.Endpoint, "/"), "https://"+s.User+".blob.core.windows.net")
	at := address + "/" + name
	var client *container.Client
	switch {
	case strings.HasPrefix(password, "?"):
		client, err = container.NewClientWithNoCredential(at+password, nil)
	case s.Anonymous:
		client, err = container.NewClientWithNoCredential(at, nil)
	case password != "":
		var key *azblob.SharedKeyCredential
		if key, err = azblob.NewSharedKeyCredential(s.User, password); err == nil {
			client, err = container.NewClientWithSharedKeyCredential(at, key, nil)
		}
	default:
		client, err = azureblob.NewDefaultClient(azureblob.ServiceURL(address), azureblob.ContainerName(name))
	}
	if err != nil {
		return nil, err
	}
	return azureblob.OpenBucket(ctx, client, nil)
}

func openGoogle(ctx context.Context, s *settings.Place, bucket string) (*cloud.Bucket, error) {
	client := gcp.NewAnonymousHTTPClient(http.DefaultTransport)
	if !s.Anonymous {
		var known *google.Credentials
		var err error
		if s.KeyFile != "" {
			var text []byte
			if text, err = os.ReadFile(s.KeyFile); err == nil {
				known, err = google.CredentialsFromJSONWithType(ctx, text, google.ServiceAccount, storage.ScopeReadWrite)
			}
		} else {
			known, err = gcp.DefaultCredentials(ctx)
		}
		if err != nil {
			return nil, err
		}
		if client, err = gcp.NewHTTPClient(http.DefaultTransport, gcp.CredentialsTokenSource(known)); err != nil {
			return nil, err
		}
	}
	o := &gcsblob.Options{}
	if s.Endpoint != "" {
		o.ClientOptions = append(o.ClientOptions, option.WithEndpoint(s.Endpoint))
	}
	return gcsblob.OpenBucket(ctx, client, bucket, o)
}

// problem makes of a vendor's error one that others know.
func problem(p string, err error) error {
	of := map[gcerrors.ErrorCode]error{gcerrors.NotFound: fs.ErrNotExist, gcerrors.PermissionDenied: fs.ErrPermission,
		gcerrors.FailedPrecondition: landing.ErrChanged, gcerrors.AlreadyExists: fs.ErrExist}[gcerrors.Code(err)]
	var throttled *place.ThrottledError
	switch {
	case err == nil:
		return nil
	case of != nil:
		return fmt.Errorf("%s: %w", p, of)
	case isThrottled(err):
		return &place.ThrottledError{Reason: shortly(err)}
	case errors.As(err, &throttled):
		return throttled
	}
	return errors.New(shortly(err))
}

// isThrottled reports whether a store wants to be asked later.
func isThrottled(err error) bool {
	text := err.Error()
	return gcerrors.Code(err) == gcerrors.ResourceExhausted || strings.Contains(text, "SlowDown") || strings.Contains(text, "StatusCode: 503") ||
		strings.Contains(text, "ServerBusy")
}

// shortly is what a vendor's library says, in a line.
func shortly(err error) string {
	var azure *azcore.ResponseError
	if errors.As(err, &azure) {
		return fmt.Sprintf("the store answers %d %s", azure.StatusCode, azure.ErrorCode)
	}
	text, _, _ := strings.Cut(err.Error(), "\n")
	const most = 300
	if len(text) > most {
		text = strings.ToValidUTF8(text[:most], "") + "..."
	}
	return text
}

func (d *driver) key(p string) string { return strings.TrimPrefix(path.Join(d.prefix, p), "./") }

// listedVersion returns the ETag and the class of an object of a listing.
func listedVersion(o *cloud.ListObject) (tag, class string) {
	var amazon types.Object
	var azure container.BlobItem
	var google storage.ObjectAttrs
	switch {
	case o.As(&amazon):
		return aws.ToString(amazon.ETag), string(amazon.StorageClass)
	case o.As(&azure):
		if p := azure.Properties; p != nil {
			if p.ETag != nil {
				tag = string(*p.ETag)
			}
			if p.AccessTier != nil {
				class = string(*p.AccessTier)
			}
		}
		return tag, class
	case o.As(&google):
		return google.Etag, google.StorageClass
	}
	return "", ""
}

// archived are the classes of which an object cannot be read before somebody has it restored.
var archived = map[string]bool{"GLACIER": true, "DEEP_ARCHIVE": true, "Archive": true}

// entry makes an entry of an object. That of one which was restored is another one than that of the archived one.
func entry(p string, size int64, modified time.Time, tag, class string) landing.Entry {
	e := landing.Entry{Path: p, Size: size, Modified: modified.UTC().Truncate(time.Second)}
	if archived[class] {
		e.Problem = "lies in the archive class " + class + "; have it restored"
		tag += " " + class
	}
	e.Inode = landing.VersionInode(strings.Trim(tag, `"`))
	return e
}

// List visits the objects below a folder, in pages.
func (d *driver) List(ctx context.Context, folder string, visit func(landing.Entry) error) error {
	prefix := d.key(folder)
	if prefix == "." || prefix == "" {
		prefix = ""
	} else {
		prefix += "/"
	}
	objects := d.bucket.List(&cloud.ListOptions{Prefix: prefix})
	for {
		o, err := objects.Next(ctx)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return problem(folder, err)
		}
		if strings.HasSuffix(o.Key, "/") { // what some programs leave as a folder
			continue
		}
		p := o.Key
		if d.prefix != "" {
			p = strings.TrimPrefix(p, d.prefix+"/")
		}
		tag, class := listedVersion(o)
		if err := visit(entry(p, o.Size, o.ModTime, tag, class)); err != nil {
			return err
		}
	}
}

// Stat looks at an object.
func (d *driver) Stat(ctx context.Context, p string) (landing.Entry, error) {
	e, _, err := d.look(ctx, p)
	return e, err
}

func (d *driver) look(ctx context.Context, p string) (landing.Entry, *cloud.Attributes, error) {
	a, err := d.bucket.Attributes(ctx, d.key(p))
	if err != nil {
		return landing.Entry{}, nil, problem(p, err)
	}
	class := ""
	var amazon s3.HeadObjectOutput
	var azure blob.GetPropertiesResponse
	var google storage.ObjectAttrs
	switch {
	case a.As(&amazon):
		class = string(amazon.StorageClass)
		if strings.Contains(aws.ToString(amazon.Restore), `ongoing-request="false"`) {
			class = ""
		}
	case a.As(&azure):
		if azure.AccessTier != nil {
			class = *azure.AccessTier
		}
	case a.As(&google):
		class = google.StorageClass
	}
	return entry(p, a.Size, a.ModTime, a.ETag, class), a, nil
}

// Open opens an object from an offset on. What is read is the version that was looked at, whatever is put there
// meanwhile.
func (d *driver) Open(ctx context.Context, p string, from int64, of landing.Entry) (landing.Opened, error) {
	e, a, err := d.look(ctx, p)
	switch {
	case err != nil:
		return landing.Opened{}, err
	case e.Problem != "":
		return landing.Opened{}, fmt.Errorf("%s %s: %w", p, e.Problem, fs.ErrPermission)
	case from > 0 && !e.Same(landing.Entry{Size: of.Size, Modified: of.Modified, Inode: of.Inode}):
		return landing.Opened{}, landing.ErrChanged
	case from >= e.Size: // of which no range can be asked for
		return landing.Opened{ReadCloser: http.NoBody, Entry: e, MD5: a.MD5}, nil
	}
	body, err := d.bucket.NewRangeReader(ctx, d.key(p), from, -1, &cloud.ReaderOptions{BeforeRead: sameVersion(a)})
	if err != nil {
		return landing.Opened{}, problem(p, err)
	}
	return landing.Opened{ReadCloser: body, Entry: e, MD5: a.MD5}, nil
}

// sameVersion has a store hand out the version that has some attributes, and no other.
func sameVersion(a *cloud.Attributes) func(func(any) bool) error {
	return func(as func(any) bool) error {
		var amazon *s3.GetObjectInput
		var azure *azblob.DownloadStreamOptions
		var google **storage.ObjectHandle
		switch {
		case as(&amazon):
			amazon.IfMatch = &a.ETag
		case as(&azure):
			tag := azcore.ETag(a.ETag)
			azure.AccessConditions = &blob.AccessConditions{ModifiedAccessConditions: &blob.ModifiedAccessConditions{IfMatch: &tag}}
		case as(&google):
			var attributes storage.ObjectAttrs
			if a.As(&attributes) {
				*google = (*google).Generation(attributes.Generation)
			}
		}
		return nil
	}
}

// Put writes an object, whole at once.
func (d *driver) Put(ctx context.Context, p string, content io.Reader) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel() // a writer whose context has ended writes nothing
	w, err := d.bucket.NewWriter(ctx, d.key(p), &cloud.WriterOptions{ContentType: "application/octet-stream"})
	if err != nil {
		return problem(p, err)
	}
	if _, err := io.Copy(w, content); err != nil {
		cancel()
		return errors.Join(err, w.Close())
	}
	return problem(p, w.Close())
}

// Move copies an object and removes the first. A copy is made whole at once.
func (d *driver) Move(ctx context.Context, from, to string) error {
	there, err := d.bucket.Exists(ctx, d.key(to))
	switch {
	case err != nil:
		return problem(to, err)
	case there:
		return fs.ErrExist
	}
	if err := d.bucket.Copy(ctx, d.key(to), d.key(from), nil); err != nil {
		return problem(from, err)
	}
	return d.Remove(ctx, from)
}

// Remove deletes an object.
func (d *driver) Remove(ctx context.Context, p string) error {
	return problem(p, d.bucket.Delete(ctx, d.key(p)))
}

// Close lets the bucket go.
func (d *driver) Close() error { return d.bucket.Close() }
