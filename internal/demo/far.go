package demo

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"

	"mullein/internal/client"
	"mullein/internal/localssh"
	"mullein/internal/settings"
)

// The places of the sample suppliers, and what they stand for in the feeds.
const (
	buoyPlace   = "estuary-buoys"
	buoyLanding = "landing/buoys"
	labPlace    = "laboratory"
	labLanding  = "landing/lab"
	labBucket   = "sorrel-laboratory"
)

// Far is what is outside of the service's machine: an SFTP server where the buoys leave their profiles, a bucket where the
// laboratory leaves its reports, which sends events, and the database of a neighbour.
type Far struct {
	root        string
	uploaded    objectTime           // of the object that is put
	lab         gofakes3.Backend     // the laboratory's bucket
	sent        map[string]time.Time // reports that are in it, with their times
	places      map[string]settings.Place
	connections map[string]string
}

// FarSide starts what is outside, with files below root, keys in a folder of home, and the neighbour's database on the server of
// a database. It ends with ctx.
func FarSide(ctx context.Context, home, root, database string) (*Far, error) {
	f := &Far{root: root, sent: map[string]time.Time{}}
	f.lab = s3mem.New(s3mem.WithTimeSource(&f.uploaded))
	server, err := localssh.Start(ctx, filepath.Join(home, "sftp"))
	if err != nil {
		return nil, fmt.Errorf("the buoys' SFTP server: %w", err)
	}
	context.AfterFunc(ctx, func() { _ = server.Stop() }) // the process ends
	folder, err := filepath.Abs(filepath.Join(root, buoyLanding))
	if err != nil {
		return nil, err
	}
	endpoint, err := f.bucket(ctx)
	if err != nil {
		return nil, fmt.Errorf("the laboratory's bucket: %w", err)
	}
	f.places = map[string]settings.Place{
		buoyPlace: {Address: "sftp://" + server.Address + folder, User: server.User, KeyFile: server.KeyFile, HostKeys: []string{server.HostKey}},
		labPlace:  {Address: "s3://" + labBucket, Endpoint: endpoint, Region: "sorrel", User: "observatory", Password: "of-the-demo", Every: settings.Span(time.Minute)},
	}
	neighbour, err := neighbourDatabase(ctx, database)
	if err != nil {
		return nil, fmt.Errorf("the neighbour's database: %w", err)
	}
	f.connections = map[string]string{neighbourConnection: neighbour}
	return f, nil
}

// Settings adds what is outside to settings.
func (f *Far) Settings(s settings.Settings) settings.Settings {
	places, connections := maps.Clone(f.places), maps.Clone(f.connections)
	maps.Copy(places, s.Places)
	maps.Copy(connections, s.Connections)
	s.Places, s.Connections = places, connections
	return s
}

// bucket serves the laboratory's bucket, until ctx ends, with the reports that are in its folder.
func (f *Far) bucket(ctx context.Context) (endpoint string, err error) {
	if err := os.MkdirAll(filepath.Join(f.root, labLanding), 0o755); err != nil {
		return "", err
	}
	if err := f.lab.CreateBucket(labBucket); err != nil {
		return "", err
	}
	if _, err := f.upload(); err != nil {
		return "", err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	web := &http.Server{Handler: gofakes3.New(f.lab, gofakes3.WithLogger(gofakes3.DiscardLog())).Server(), ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = web.Serve(listener) }()
	context.AfterFunc(ctx, func() { _ = web.Close() })
	return "http://" + listener.Addr().String(), nil
}

// Work sends an event for each report that the laboratory leaves in its bucket, and has the neighbour measure, until ctx ends.
func (f *Far) Work(ctx context.Context, service *client.Client) error {
	done := make(chan error, 1)
	go func() { done <- measure(ctx, f.connections[neighbourConnection]) }()
	return errors.Join(f.sendEvents(ctx, service), <-done)
}

// upload puts new reports of the laboratory into its bucket, and returns the events of them.
func (f *Far) upload() (events []map[string]any, err error) {
	folder := filepath.Join(f.root, labLanding)
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil || strings.HasPrefix(e.Name(), ".") || f.sent[e.Name()].Equal(info.ModTime()) {
			continue // it is gone, or half, or there already
		}
		text, err := os.ReadFile(filepath.Join(folder, e.Name()))
		f.uploaded.at = info.ModTime()
		if err == nil {
			_, err = f.lab.PutObject(labBucket, e.Name(), map[string]string{"Last-Modified": info.ModTime().UTC().Format(http.TimeFormat)}, bytes.NewReader(text), int64(len(text)), nil)
		}
		if err != nil {
			return nil, err
		}
		f.sent[e.Name()] = info.ModTime()
		events = append(events, objectCreated(e.Name(), info))
	}
	return events, nil
}

// objectTime is the clock of the bucket, which gives each report the time that its file has.
type objectTime struct{ at time.Time }

func (t *objectTime) Now() time.Time { return t.at }

func (t *objectTime) Since(at time.Time) time.Duration { return t.at.Sub(at) }

// sendEvents tells the service of reports as a bucket does that sends its events to an address.
func (f *Far) sendEvents(ctx context.Context, service *client.Client) error {
	const every = time.Second
	for {
		events, err := f.upload()
		if err != nil {
			return fmt.Errorf("the laboratory's bucket: %w", err)
		}
		for _, event := range events {
			if err := service.NudgeWith(ctx, event); err != nil && ctx.Err() == nil {
				return fmt.Errorf("send an event of the laboratory's bucket: %w", err)
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(every):
		}
	}
}

// objectCreated is the message that an object store sends of a new object.
func objectCreated(name string, info os.FileInfo) map[string]any {
	return map[string]any{"Records": []any{map[string]any{"eventName": "ObjectCreated:Put", "eventTime": info.ModTime().UTC().Format(time.RFC3339),
		"s3": map[string]any{"bucket": map[string]any{"name": labBucket}, "object": map[string]any{"key": name, "size": info.Size()}}}}}
}

// atPlaces has sample feeds take their files from places instead of folders.
func atPlaces(text string) string {
	text = strings.Replace(text, "at: "+labLanding+"\n", "at: place:"+labPlace+"\n", 1)
	return strings.Replace(text, "at: "+buoyLanding+"\n", "at: place:"+buoyPlace+"\n", 1)
}
