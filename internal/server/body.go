package server

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"os"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
)

// bodyLimit is how long a caller may take to send a body that is read as a whole.
const bodyLimit = 30 * time.Second

// wholeBody is the body of a call, which was read.
type wholeBody struct {
	io.Reader
	io.Closer
	text []byte
}

// whole reads the bodies of calls of [do] before anything else does, within bodyLimit, and leaves a [wholeBody]. Once a body is read,
// net/http listens for the caller going away, and takes a deadline that passes meanwhile for just that: calls that take long would be
// cancelled. So no deadline may be set afterwards.
func (s *Server) whole(ctx huma.Context, next func(huma.Context)) {
	o, r := ctx.Operation(), humagin.Unwrap(ctx).Request
	if o.MaxBodyBytes <= 0 || o.BodyReadTimeout >= 0 {
		next(ctx)
		return
	}
	_ = ctx.SetReadDeadline(time.Now().Add(bodyLimit))                // a writer of tests has none
	text, err := io.ReadAll(io.LimitReader(r.Body, o.MaxBodyBytes+1)) // one more shows that it is too large
	_ = ctx.SetReadDeadline(time.Time{})
	if err != nil {
		status := http.StatusBadRequest
		if errors.Is(err, os.ErrDeadlineExceeded) {
			status = http.StatusRequestTimeout
		}
		_ = huma.WriteErr(s.api, ctx, status, "the body of the call could not be read: "+err.Error())
		return
	}
	r.Body = &wholeBody{io.MultiReader(bytes.NewReader(text), r.Body), r.Body, text}
	next(ctx)
}
