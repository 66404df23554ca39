package server

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"mullein/internal/ledger"
)

// seenFile keeps the number of the last arrival that a service saw in the records.
const seenFile = "last-arrival"

// seenEvery is how often it is written.
const seenEvery = time.Minute

// sayOlder warns when the records end before what this service saw in them last, as they
// do when they come from a back-up: only a person knows that they do, and files that were
// loaded and put away since are nowhere to be seen.
func sayOlder(ctx context.Context, records *ledger.Ledger, home string, log *slog.Logger) error {
	text, err := os.ReadFile(filepath.Join(home, seenFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	seen, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
	if err != nil {
		return fmt.Errorf("%s: %w", filepath.Join(home, seenFile), err)
	}
	last, err := records.LastArrival(ctx)
	if err == nil && last < seen {
		log.Warn("the records are older than when this service ran last, as after a restore; run: mullein reconcile",
			"last_arrival", last, "seen_before", seen)
	}
	return err
}

// keepSeen notes how far the records go, until the context ends.
func keepSeen(ctx context.Context, records *ledger.Ledger, home string, log *slog.Logger) {
	for {
		last, err := records.LastArrival(ctx)
		if err == nil {
			err = os.WriteFile(filepath.Join(home, seenFile), []byte(strconv.FormatInt(last, 10)+"\n"), 0o600)
		}
		if err != nil && ctx.Err() == nil {
			log.Warn("how far the records go could not be noted", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(seenEvery):
		}
	}
}
