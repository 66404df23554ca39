// Package nudge reads words from outside that something new may lie at a path: as CloudEvents 1.0, as the messages
// that stores of S3's protocol send of objects that were created, or as plain JSON. Start at [Read].
package nudge

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"
)

// Nudge says that something new may lie at a path.
type Nudge struct {
	Feed   string `json:"feed"`   // the feed whose landing it is; "" where that is not said
	Place  string `json:"place"`  // the place, by its name; "" where that is not said
	Bucket string `json:"bucket"` // the bucket or container of an object; "" where that is not said
	Path   string `json:"path"`   // below the feed's landing, the place, the bucket, or a landing root
}

// Most is how many nudges one message may hold.
const Most = 10_000

// errEmpty says that a message tells of nothing.
var errEmpty = errors.New("it tells of no path: send {\"path\": ...} with feed or place, a CloudEvent, or what a store sends of new objects")

// amazon is a message of a store of S3's protocol.
type amazon struct {
	Records []struct {
		EventName string `json:"eventName"`
		S3        struct {
			Bucket struct{ Name string }
			Object struct{ Key string }
		}
	}
	Message string // of a message that was passed on
	Event   string // s3:TestEvent
}

// event is a CloudEvent in its JSON format.
type event struct {
	SpecVersion string `json:"specversion"`
	Type        string
	Source      string
	Subject     string
	Data        json.RawMessage
}

// Read reads a message. In CloudEvents' binary form the attributes are in headers, whose names begin with ce-; header returns
// one. Messages that tell of other things than new objects hold no nudges.
func Read(body []byte, header func(name string) string) ([]Nudge, error) {
	if header("ce-specversion") != "" {
		return one(event{header("ce-specversion"), header("ce-type"), header("ce-source"), header("ce-subject"), body})
	}
	body = []byte(strings.TrimSpace(string(body)))
	if len(body) == 0 {
		return nil, errEmpty
	}
	if body[0] != '[' {
		return read(body, 0)
	}
	var list []json.RawMessage
	if err := json.Unmarshal(body, &list); err != nil {
		return nil, fmt.Errorf("no JSON: %w", err)
	}
	if len(list) > Most {
		return nil, fmt.Errorf("%d messages; %d are the most", len(list), Most)
	}
	var out []Nudge
	for _, text := range list {
		some, err := read(text, 0)
		if err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	return out, nil
}

// maxPassedOn is how many times a message may have been put into another.
const maxPassedOn = 3

func read(text []byte, depth int) ([]Nudge, error) {
	var e event
	var s3 amazon
	var plain Nudge
	if err := json.Unmarshal(text, &plain); err != nil {
		return nil, fmt.Errorf("no JSON: %w", err)
	}
	_ = json.Unmarshal(text, &e)  // what is no event
	_ = json.Unmarshal(text, &s3) // and no message of a store is plain
	switch {
	case e.SpecVersion != "":
		return one(e)
	case s3.Records != nil:
		return objects(&s3)
	case s3.Event == "s3:TestEvent":
		return nil, nil
	case s3.Message != "" && depth < maxPassedOn:
		return read([]byte(s3.Message), depth+1)
	case plain.Path == "":
		return nil, errEmpty
	}
	return []Nudge{plain}, nil
}

func objects(m *amazon) ([]Nudge, error) {
	if len(m.Records) > Most {
		return nil, fmt.Errorf("%d records; %d are the most", len(m.Records), Most)
	}
	var out []Nudge
	for _, r := range m.Records {
		if !strings.Contains(r.EventName, "ObjectCreated") {
			continue
		}
		key, err := url.QueryUnescape(r.S3.Object.Key)
		if err != nil || key == "" || r.S3.Bucket.Name == "" {
			return nil, fmt.Errorf("a record without bucket and key: %s of %q", r.EventName, r.S3.Object.Key)
		}
		out = append(out, Nudge{Bucket: r.S3.Bucket.Name, Path: key})
	}
	return out, nil
}

// one reads an event: of a vendor's store by its subject, else by its data.
func one(e event) ([]Nudge, error) {
	if rest, is := strings.CutPrefix(e.Subject, "/blobServices/default/containers/"); is {
		container, key, there := strings.Cut(rest, "/blobs/")
		if !there || strings.Contains(e.Type, "Deleted") {
			return nil, nil
		}
		return []Nudge{{Bucket: container, Path: key}}, nil
	}
	if _, bucket, is := strings.Cut(e.Source, "/buckets/"); is && strings.HasPrefix(e.Subject, "objects/") {
		if strings.HasSuffix(e.Type, "deleted") {
			return nil, nil
		}
		return []Nudge{{Bucket: bucket, Path: strings.TrimPrefix(e.Subject, "objects/")}}, nil
	}
	if len(e.Data) == 0 {
		return nil, errEmpty
	}
	return read(e.Data, 1)
}
