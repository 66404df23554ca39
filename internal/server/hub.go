package server

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"mullein/internal/ledger"
	"mullein/internal/notice"
)

// hub reads events once for all live streams, and keeps the newest as they are sent.
type hub struct {
	mu    sync.Mutex
	known bool
	from  int64 // events after this one are known
	sent  []sentEvent
}

// sentEvent is an event as streams send it, with the commit or the computed rollup that it tells of.
type sentEvent struct {
	id    int64
	feed  string
	text  []byte
	blind []byte // the text for those who may not see the data of the feed
}

const (
	// hubKept bounds how many events are kept for streams that are a little behind; others read the
	// ledger.
	hubKept = 5000
	// streamPause is how long a stream gathers events after it has sent some.
	streamPause = 100 * time.Millisecond
)

// last returns up to which event the hub knows; 0 before it knows any.
func (h *hub) last() int64 {
	if len(h.sent) > 0 {
		return h.sent[len(h.sent)-1].id
	}
	return h.from
}

// after returns the texts of the events after one, for somebody who may see the data of some feeds, and the last of
// them. ok is false where the hub
// does not know all of them.
func (h *hub) after(id int64, may func(feed string) bool) (texts [][]byte, last int64, ok bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if !h.known || id < h.from {
		return nil, id, false
	}
	for i := len(h.sent) - 1; i >= 0 && h.sent[i].id > id; i-- {
		if may(h.sent[i].feed) {
			texts = append(texts, h.sent[i].text)
		} else {
			texts = append(texts, h.sent[i].blind)
		}
	}
	for i, j := 0, len(texts)-1; i < j; i, j = i+1, j-1 {
		texts[i], texts[j] = texts[j], texts[i]
	}
	return texts, max(id, h.last()), true
}

// add adds events that follow.
func (h *hub) add(events []sentEvent) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.sent = append(h.sent, events...)
	if drop := len(h.sent) - hubKept; drop > 0 {
		h.from = h.sent[drop-1].id
		h.sent = append([]sentEvent{}, h.sent[drop:]...)
	}
}

// forget drops what the hub knows: nobody listens.
func (h *hub) forget() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.known, h.from, h.sent = false, 0, nil
}

// readEvents brings the hub up to what happened, as long as anybody listens.
func (s *Server) readEvents(ctx context.Context) error {
	h := &s.hub
	if !s.isHeard() {
		h.forget()
		return nil
	}
	if !h.known {
		last, err := s.ledger.LastEvent(ctx)
		if err != nil {
			return err
		}
		h.mu.Lock()
		h.known, h.from = true, last
		h.mu.Unlock()
		return nil
	}
	for ctx.Err() == nil {
		h.mu.Lock()
		last := h.last()
		h.mu.Unlock()
		events, err := s.ledger.EventsAfter(ctx, last, eventsAtOnce)
		if err != nil || len(events) == 0 {
			return err
		}
		about, err := s.subjects(ctx, events)
		if err != nil {
			return err
		}
		sent := make([]sentEvent, len(events))
		for i := range events {
			e := &events[i]
			sent[i].id, sent[i].feed = e.ID, e.Feed
			if sent[i].text, err = about.sent(e, true); err != nil {
				return err
			}
			if sent[i].blind = sent[i].text; notice.IsCommit(e) {
				if sent[i].blind, err = about.sent(e, false); err != nil {
					return err
				}
			}
		}
		h.add(sent)
		if len(events) < eventsAtOnce {
			return nil
		}
	}
	return ctx.Err()
}

// sent writes an event as server-sent events, for people who may see data or not.
func (k *subjects) sent(e *ledger.Event, data bool) ([]byte, error) {
	var b bytes.Buffer
	write := func(name string, data any) error {
		text, err := json.Marshal(data)
		fmt.Fprintf(&b, "id: %d\nevent: %s\ndata: %s\n\n", e.ID, name, text)
		return err
	}
	err := write("change", k.event(e))
	if name, more := k.more(e, data); err == nil && more != nil {
		err = write(name, more)
	}
	return b.Bytes(), err
}

// more returns what programs are told with an event, and what that is called; nil for nothing.
func (k *subjects) more(e *ledger.Event, data bool) (name string, more any) {
	if commit := k.commit(e); commit != nil {
		if !data {
			commit.Data.KeyRange = nil
		}
		return "commit", *commit
	}
	if e.Kind == notice.RollupEvent {
		return "computed", *notice.ComputedEvent(e, k.rollups[e.Rollup])
	}
	return "", nil
}

type writerKey struct{}

// withWriter hands the stream's writer on to the handler of events, which sends what was written
// already.
func (s *Server) withWriter(ctx huma.Context, next func(huma.Context)) {
	if ctx.Operation().OperationID == "events" {
		ctx = huma.WithValue(ctx, writerKey{}, ctx.BodyWriter())
	}
	next(ctx)
}

// sendEvents sends the events after one, and returns the last. An error is that of a
// caller who has gone.
func (s *Server) sendEvents(ctx context.Context, last int64, send sse.Sender) (int64, error) {
	who := rightsOf(ctx)
	for ctx.Err() == nil {
		texts, upTo, ok := s.hub.after(last, who.SeesData)
		switch {
		case ok && len(texts) == 0:
			return upTo, nil
		case ok:
			if err := writeTexts(ctx, texts); err != nil {
				return last, err
			}
			last = upTo
		default:
			upTo, err := s.sendOlder(ctx, last, send)
			if err != nil || upTo == last { // the database is away, or the hub is not ready: there is news then
				return last, err
			}
			last = upTo
		}
	}
	return last, ctx.Err()
}

// writeTexts writes what was written as server-sent events already.
func writeTexts(ctx context.Context, texts [][]byte) error {
	w, ok := ctx.Value(writerKey{}).(io.Writer)
	if !ok {
		return http.ErrNotSupported
	}
	if response, is := w.(http.ResponseWriter); is {
		control := http.NewResponseController(response)
		if err := control.SetWriteDeadline(time.Now().Add(sse.WriteTimeout)); err != nil {
			return err
		}
		defer control.Flush()
	}
	_, err := w.Write(bytes.Join(texts, nil))
	return err
}

// sendOlder sends some events after one that the hub does not know any more.
func (s *Server) sendOlder(ctx context.Context, last int64, send sse.Sender) (int64, error) {
	events, err := s.ledger.EventsAfter(ctx, last, eventsAtOnce)
	if err != nil {
		return last, nil
	}
	about, err := s.subjects(ctx, events)
	if err != nil {
		return last, nil
	}
	who := rightsOf(ctx)
	for i := range events {
		e := &events[i]
		last = e.ID
		if err := send(sse.Message{ID: int(e.ID), Data: about.event(e)}); err != nil {
			return last, err
		}
		if _, more := about.more(e, who.SeesData(e.Feed)); more != nil {
			if err := send(sse.Message{ID: int(e.ID), Data: more}); err != nil {
				return last, err
			}
		}
	}
	return last, nil
}

// shared answers a question once for all who ask it at a time: who asks while it is being answered
// waits for the next answer, which begins after they asked, so that nobody gets one that is older
// than the question. While many ask, answers are apart.
type shared[T any] struct {
	mu            sync.Mutex
	running, next *sharedAnswer[T]
	began         time.Time // of the answer before
	crowd         int       // how many asked for it
}

type sharedAnswer[T any] struct {
	begun bool
	asked int
	done  chan struct{}
	value T
	err   error
}

const (
	// sharedPause is the least time between the beginnings of two answers, where the first was
	// given to a crowd.
	sharedPause = 250 * time.Millisecond
	sharedCrowd = 5
)

// sharedLimit bounds how long an answer may take.
const sharedLimit = 30 * time.Second

// get returns an answer that began after get was called.
func (s *shared[T]) get(ctx context.Context, find func(context.Context) (T, error)) (T, error) {
	s.mu.Lock()
	a := s.running
	switch {
	case a == nil:
		a = &sharedAnswer[T]{done: make(chan struct{})}
		s.running = a
		go s.answer(context.WithoutCancel(ctx), a, find)
	case !a.begun: // it begins soon
	case s.next == nil:
		s.next = &sharedAnswer[T]{done: make(chan struct{})}
		a = s.next
	default:
		a = s.next
	}
	a.asked++
	s.mu.Unlock()
	select {
	case <-a.done:
		return a.value, a.err
	case <-ctx.Done():
		var none T
		return none, ctx.Err()
	}
}

// answer finds an answer, and those that are asked for meanwhile.
func (s *shared[T]) answer(ctx context.Context, a *sharedAnswer[T], find func(context.Context) (T, error)) {
	for a != nil {
		s.mu.Lock()
		pause := sharedPause - time.Since(s.began)
		if s.crowd < sharedCrowd {
			pause = 0
		}
		s.mu.Unlock()
		if pause > 0 {
			time.Sleep(pause)
		}
		s.mu.Lock()
		s.began, a.begun, s.crowd = time.Now(), true, a.asked
		s.mu.Unlock()
		limited, cancel := context.WithTimeout(ctx, sharedLimit)
		a.value, a.err = find(limited)
		cancel()
		s.mu.Lock()
		close(a.done)
		a, s.running, s.next = s.next, s.next, nil
		s.mu.Unlock()
	}
}
