package nudge

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMessagesOfManyKinds(t *testing.T) {
	binary := map[string]string{"ce-specversion": "1.0", "ce-type": "google.cloud.storage.object.v1.finalized",
		"ce-source": "//storage.googleapis.com/projects/_/buckets/lab", "ce-subject": "objects/in/a b.csv"}
	for _, c := range []struct {
		name, text string
		header     map[string]string
		want       []Nudge
		wrong      string
	}{
		{name: "plain", text: `{"feed": "lab-samples", "path": "a.jsonl"}`, want: []Nudge{{Feed: "lab-samples", Path: "a.jsonl"}}},
		{name: "several", text: ` [{"place": "lab", "path": "in/a"}, {"path": "gauges/b.csv"}]`,
			want: []Nudge{{Place: "lab", Path: "in/a"}, {Path: "gauges/b.csv"}}},
		{name: "S3", text: `{"Records": [{"eventName": "ObjectCreated:Put", "s3": {"bucket": {"name": "lab"}, "object": {"key": "in/a+b%2B.csv"}}},
			{"eventName": "ObjectRemoved:Delete", "s3": {"bucket": {"name": "lab"}, "object": {"key": "c"}}}]}`, want: []Nudge{{Bucket: "lab", Path: "in/a b+.csv"}}},
		{name: "S3, as others write it", text: `{"EventName": "s3:ObjectCreated:Put", "Key": "lab/a", "Records": [{"eventName": "s3:ObjectCreated:Put",
			"s3": {"bucket": {"name": "lab"}, "object": {"key": "a"}}}]}`, want: []Nudge{{Bucket: "lab", Path: "a"}}},
		{name: "S3, passed on", text: `{"Type": "Notification", "Message": "{\"Records\": [{\"eventName\": \"ObjectCreated:Copy\", \"s3\": {\"bucket\": {\"name\": \"lab\"}, \"object\": {\"key\": \"a\"}}}]}"}`,
			want: []Nudge{{Bucket: "lab", Path: "a"}}},
		{name: "S3, a test", text: `{"Service": "Amazon S3", "Event": "s3:TestEvent", "Bucket": "lab"}`},
		{name: "CloudEvent", text: `{"specversion": "1.0", "type": "example.sorrel.file", "source": "/lab", "id": "1", "data": {"feed": "lab-samples", "path": "a"}}`,
			want: []Nudge{{Feed: "lab-samples", Path: "a"}}},
		{name: "CloudEvent of Azure", text: `[{"specversion": "1.0", "type": "Microsoft.Storage.BlobCreated", "source": "/subscriptions/x", "id": "1",
			"subject": "/blobServices/default/containers/lab/blobs/in/a.csv", "data": {"url": "https://x"}}]`, want: []Nudge{{Bucket: "lab", Path: "in/a.csv"}}},
		{name: "CloudEvent of Google, binary", header: binary, text: `{"bucket": "lab"}`, want: []Nudge{{Bucket: "lab", Path: "in/a b.csv"}}},
		{name: "nothing", text: ``, wrong: "tells of no path"},
		{name: "no path", text: `{"feed": "x"}`, wrong: "tells of no path"},
		{name: "no JSON", text: `path`, wrong: "no JSON"},
		{name: "no bucket", text: `{"Records": [{"eventName": "ObjectCreated:Put"}]}`, wrong: "without bucket and key"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := Read([]byte(c.text), func(name string) string { return c.header[name] })
			if c.wrong != "" {
				assert.ErrorContains(t, err, c.wrong)
				return
			}
			assert.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"Records": [{"eventName": "ObjectCreated:Put", "s3": {"bucket": {"name": "lab"}, "object": {"key": "in/a+b%2B.csv"}}}]}`))
	f.Add([]byte(`[{"specversion": "1.0", "data": {"specversion": "1.0", "data": {"path": "a"}}}]`))
	f.Fuzz(func(t *testing.T, text []byte) {
		list, err := Read(text, func(string) string { return "" })
		if err != nil && list != nil {
			t.Fatal("both", list, err)
		}
		for _, n := range list {
			if n.Path == "" {
				t.Fatal("no path")
			}
		}
	})
}
