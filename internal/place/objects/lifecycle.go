package objects

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"cloud.google.com/go/storage"
	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/aws-sdk-go-v2/service/s3/types"
	"github.com/aws/smithy-go"
)

// Lifecycle returns what the bucket does by itself with objects below the prefix: when it deletes them, or moves them to another
// class. There is nothing where it has no rules; Azure tells of none here.
func (d *driver) Lifecycle(ctx context.Context) ([]string, error) {
	var amazon *s3.Client
	var google *storage.Client
	switch {
	case d.bucket.As(&amazon):
		return d.amazonRules(ctx, amazon)
	case d.bucket.As(&google):
		return d.googleRules(ctx, google)
	}
	return nil, nil
}

// touches reports whether a rule for keys with a prefix is about objects of the place.
func (d *driver) touches(prefix string) bool {
	below := d.prefix + "/"
	return d.prefix == "" || strings.HasPrefix(prefix, below) || strings.HasPrefix(below, prefix)
}

func (d *driver) amazonRules(ctx context.Context, client *s3.Client) (out []string, err error) {
	answer, err := client.GetBucketLifecycleConfiguration(ctx, &s3.GetBucketLifecycleConfigurationInput{Bucket: &d.name})
	var said smithy.APIError
	if errors.As(err, &said) && said.ErrorCode() == "NoSuchLifecycleConfiguration" {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for _, r := range answer.Rules {
		prefix := ""
		if r.Filter != nil {
			prefix = aws.ToString(r.Filter.Prefix)
			if and := r.Filter.And; and != nil {
				prefix = aws.ToString(and.Prefix)
			}
		}
		if r.Status != types.ExpirationStatusEnabled || !d.touches(prefix) {
			continue
		}
		if e := r.Expiration; e != nil && e.Days != nil {
			out = append(out, rule("deletes objects", prefix, int64(*e.Days)))
		}
		for _, t := range r.Transitions {
			if t.Days != nil {
				out = append(out, rule("moves objects to "+string(t.StorageClass), prefix, int64(*t.Days)))
			}
		}
	}
	return out, nil
}

func (d *driver) googleRules(ctx context.Context, client *storage.Client) (out []string, err error) {
	bucket, err := client.Bucket(d.name).Attrs(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range bucket.Lifecycle.Rules {
		prefixes := r.Condition.MatchesPrefix
		if len(prefixes) == 0 {
			prefixes = []string{""}
		}
		for _, prefix := range prefixes {
			switch {
			case !d.touches(prefix):
			case r.Action.Type == storage.DeleteAction:
				out = append(out, rule("deletes objects", prefix, r.Condition.AgeInDays))
			case r.Action.Type == storage.SetStorageClassAction:
				out = append(out, rule("moves objects to "+r.Action.StorageClass, prefix, r.Condition.AgeInDays))
			}
		}
	}
	return out, nil
}

func rule(does, prefix string, days int64) string {
	if prefix != "" {
		does += " below " + prefix
	}
	return fmt.Sprintf("the bucket %s %d days after they came", does, days)
}
