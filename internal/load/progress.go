package load

import (
	"sync"
	"sync/atomic"
	"time"

	"mullein/internal/reading"
)

// Step names a point in the life of a load, in order.
type Step string

// The steps of a load.
const (
	StepClaimed   Step = "claimed"   // the attempt is on record
	StepOpened    Step = "opened"    // the file is open
	StepStaged    Step = "staged"    // its rows are in the staging table
	StepLocked    Step = "locked"    // the target is locked
	StepMerged    Step = "merged"    // the rows are in the target, not yet committed
	StepMarked    Step = "marked"    // so is the marker
	StepCommitted Step = "committed" // rows and marker are visible; the ledger does not know yet
)

// Progress is how far a load has come.
type Progress struct {
	Feed    string    `json:"feed"`
	Arrival int64     `json:"arrival"`
	Run     int64     `json:"run"`
	Path    string    `json:"path"`
	Files   int       `json:"files"` // that are loaded together
	Step    Step      `json:"step"`
	Bytes   int64     `json:"bytes"` // read so far, of the packed file
	Size    int64     `json:"size"`
	Rows    int64     `json:"rows"` // read so far
	Began   time.Time `json:"began"`
	Waits   string    `json:"waits"` // who holds the target, when the load waits for somebody
}

// progress is a [Progress] that is being made.
type progress struct {
	Progress
	reading.Counter
	step  atomic.Value
	waits atomic.Pointer[string] // who holds the target; nil for nobody
}

func (p *progress) now() Progress {
	out := p.Progress
	out.Bytes, out.Rows = p.Counter.Bytes.Load(), p.Counter.Rows.Load()
	if who := p.waits.Load(); who != nil {
		out.Waits = *who
	}
	if s, ok := p.step.Load().(Step); ok {
		out.Step = s
	}
	return out
}

// Progresses is what a service is loading now. Its zero value is ready for use.
type Progresses struct {
	mu     sync.Mutex
	byFeed map[string]*progress
}

// List returns how far each load has come.
func (p *Progresses) List() []Progress {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := []Progress{}
	for _, one := range p.byFeed {
		out = append(out, one.now())
	}
	return out
}

func (p *Progresses) begin(one *progress) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.byFeed == nil {
		p.byFeed = map[string]*progress{}
	}
	p.byFeed[one.Feed] = one
}

// end forgets a load, unless the feed is at another by now.
func (p *Progresses) end(one *progress) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.byFeed[one.Feed] == one {
		delete(p.byFeed, one.Feed)
	}
}
