package server

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"mullein/internal/api"
	"mullein/internal/core/feed"
	"mullein/internal/core/nudge"
	"mullein/internal/ledger"
)

const (
	nudgesPath = "/api/v1/nudges"
	// maxNudges bounds the bytes of a message.
	maxNudges = 4 << 20
)

func (s *Server) nudgeRoutes() {
	o := do(http.MethodPost, "nudge", "/nudges", "Say that something new may lie at a path: as plain JSON, as CloudEvents, or as the messages that stores "+
		"of S3's protocol send of objects that were created. It makes Mullein look sooner, and decides nothing. Instead of a token, a message may be "+
		"signed as Standard Webhooks says, by nudge_secret of the settings")
	o.DefaultStatus, o.MaxBodyBytes, o.SkipValidateBody = http.StatusAccepted, maxNudges, true
	huma.Register(s.api, o, s.nudge)
}

type nudgeInput struct {
	RawBody     []byte `contentType:"application/json" doc:"A message of one of the kinds, or a list of them"`
	SpecVersion string `header:"ce-specversion" doc:"Of a CloudEvent in binary form"`
	Type        string `header:"ce-type"`
	Source      string `header:"ce-source"`
	Subject     string `header:"ce-subject"`
}

func (s *Server) nudge(ctx context.Context, in *nudgeInput) (*body[api.Nudged], error) {
	header := map[string]string{"ce-specversion": in.SpecVersion, "ce-type": in.Type, "ce-source": in.Source, "ce-subject": in.Subject}
	list, err := nudge.Read(in.RawBody, func(name string) string { return header[name] })
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	taken, unknown, err := s.takeNudges(ctx, list)
	return give(api.Nudged{Taken: taken, Unknown: unknown}, err)
}

// takeMessage takes a message of a queue. One that cannot be read is of nothing that is known.
func (s *Server) takeMessage(ctx context.Context, text []byte, header func(name string) string) (taken int, unknown []string, err error) {
	list, err := nudge.Read(text, header)
	if err != nil {
		return 0, []string{err.Error()}, nil
	}
	return s.takeNudges(ctx, list)
}

// takeNudges passes nudges on to all services, and says what is known of none of them.
func (s *Server) takeNudges(ctx context.Context, list []nudge.Nudge) (taken int, unknown []string, err error) {
	var out []ledger.Nudged
	unknown = []string{}
	for i := range list {
		some, err := s.nudgedAt(&list[i])
		if err != nil {
			unknown = append(unknown, err.Error())
		}
		out = append(out, some...)
	}
	if len(unknown) > mostUnknown {
		unknown = append(unknown[:mostUnknown], fmt.Sprintf("and %d more", len(unknown)-mostUnknown))
	}
	if len(out) > 0 {
		err = s.ledger.Nudge(ctx, out)
	}
	return len(out), unknown, err
}

// mostUnknown bounds how many nudges are named that are of nothing that is known.
const mostUnknown = 20

// nudgedAt says where a nudge is about; of an object, that may be at several places.
func (s *Server) nudgedAt(n *nudge.Nudge) ([]ledger.Nudged, error) {
	at := path.Clean(strings.TrimPrefix(n.Path, "/"))
	if at == "." || strings.HasPrefix(at, "../") {
		return nil, fmt.Errorf("%q is no path", n.Path)
	}
	switch {
	case n.Feed != "":
		return []ledger.Nudged{{Feed: n.Feed, Path: at}}, nil
	case n.Bucket != "":
		var out []ledger.Nudged
		for name, below := range s.places.OfObject(n.Bucket, n.Path) {
			out = append(out, ledger.Nudged{Place: name, Path: below})
		}
		if out == nil {
			return nil, fmt.Errorf("%s of bucket %s is at no place of the settings", n.Path, n.Bucket)
		}
		return out, nil
	case n.Place != "":
		name, _, _ := feed.SplitPlace("place:" + strings.TrimPrefix(n.Place, "place:"))
		if _, err := s.places.Get(name); err != nil {
			return nil, err
		}
		return []ledger.Nudged{{Place: name, Path: at}}, nil
	}
	return []ledger.Nudged{{Path: at}}, nil
}

// nudgedBy returns who signed a nudge; ok is false for calls that are none, or carry no signature.
func (s *Server) nudgedBy(c *gin.Context) (who ledger.Credential, ok bool, err error) {
	r := c.Request
	if r.Method != http.MethodPost || r.URL.Path != nudgesPath || r.Header.Get("webhook-signature") == "" {
		return who, false, nil
	}
	secret, err := s.settings.now.Load().NudgeSecretNow()
	if err != nil {
		return who, true, err
	}
	if secret == "" {
		return who, true, errors.New("the settings have no nudge_secret")
	}
	text, err := io.ReadAll(http.MaxBytesReader(c.Writer, r.Body, maxNudges))
	if err != nil {
		return who, true, err
	}
	r.Body = io.NopCloser(bytes.NewReader(text))
	checker, err := standardwebhooks.NewWebhook(strings.TrimSpace(secret))
	if err == nil {
		err = checker.Verify(text, r.Header)
	}
	return ledger.Credential{Name: "nudge", Rights: ledger.Rights{Role: ledger.RoleLook}}, true, err
}
