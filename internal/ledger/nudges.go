package ledger

import (
	"context"
	"encoding/json"
)

// Nudged is word from outside that something new may lie at a path.
type Nudged struct {
	Feed  string `json:"f,omitempty"` // whose landing Path is below
	Place string `json:"p,omitempty"` // that Path is below, where there is no feed; with neither it is below a landing root
	Path  string `json:"a"`
}

// nudgeChannel is where services tell each other of nudges. They are kept nowhere: one that is lost changes nothing but the
// time.
const nudgeChannel = "mullein_nudge"

// maxPayload bounds the bytes that the database hands on at a time; 8,000 are its own bound.
const maxPayload = 7000

// Nudge tells all services that something new may lie at some paths.
func (l *Ledger) Nudge(ctx context.Context, list []Nudged) error {
	var payloads []string
	for len(list) > 0 {
		n := len(list)
		text, err := json.Marshal(list)
		for err == nil && len(text) > maxPayload && n > 1 {
			n /= 2
			text, err = json.Marshal(list[:n])
		}
		if err != nil {
			return err
		}
		list = list[n:]
		if len(text) <= maxPayload { // a path that is longer is none of a file
			payloads = append(payloads, string(text))
		}
	}
	return l.with(ctx).Exec("SELECT pg_notify(?, p) FROM jsonb_array_elements_text(?::jsonb) p", nudgeChannel, textList(payloads)).Error
}

// HearNudges has heard called for nudges that come while somebody follows. It must not wait.
func (l *Ledger) HearNudges(heard func([]Nudged)) {
	l.followers.mu.Lock()
	defer l.followers.mu.Unlock()
	l.followers.hear = heard
}

func (l *Ledger) hearNudges(payload string) {
	var list []Nudged
	if json.Unmarshal([]byte(payload), &list) != nil {
		return // of a service of another version
	}
	l.followers.mu.Lock()
	hear := l.followers.hear
	l.followers.mu.Unlock()
	if hear != nil {
		hear(list)
	}
}
