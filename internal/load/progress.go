package load

import (
	"slices"
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

// The steps of a recall, after it was claimed.
const (
	StepListed   Step = "listed"   // it is known which keys it is about
	StepReread   Step = "reread"   // the files of later loads were held against them
	StepCompared Step = "compared" // it is known what becomes of each row
)

// Work names what is done with a target.
type Work string

// What is done with targets and takes its time.
const (
	Loading    Work = "load"
	Rebuilding Work = "rebuild"
	Recalling  Work = "recall"
	Previewing Work = "preview" // of a recall
	Verifying  Work = "verify"
	Rehearsing Work = "rehearsal"
)

// Progress is how far a load has come, or other work of that kind.
type Progress struct {
	Work    Work      `json:"work"`
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

// Going is work that goes on: a [Progress] that is being made.
type Going struct {
	Progress
	reading.Counter
	at    atomic.Pointer[string] // the file at hand, where the work is about several
	step  atomic.Value
	waits atomic.Pointer[string] // who holds the target; nil for nobody
}

// Step says that the work has come to a step.
func (p *Going) Step(s Step) { p.step.Store(s) }

// At says which file the work is at, of those that it is about.
func (p *Going) At(path string) { p.at.Store(&path) }

func (p *Going) now() Progress {
	out := p.Progress
	out.Bytes, out.Rows = p.Counter.Bytes.Load(), p.Counter.Rows.Load()
	if path := p.at.Load(); path != nil {
		out.Path = *path
	}
	if who := p.waits.Load(); who != nil {
		out.Waits = *who
	}
	if s, ok := p.step.Load().(Step); ok {
		out.Step = s
	}
	return out
}

// Progresses is what a service is doing now. Its zero value is ready for use.
type Progresses struct {
	mu  sync.Mutex
	all map[*Going]bool
}

// List returns how far all work has come, what began first before the rest.
func (p *Progresses) List() []Progress {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := []Progress{}
	for one := range p.all {
		out = append(out, one.now())
	}
	slices.SortFunc(out, func(a, b Progress) int { return a.Began.Compare(b.Began) })
	return out
}

// Begin has work listed, from now on until End.
func (p *Progresses) Begin(what Progress) *Going {
	what.Began = time.Now()
	one := &Going{Progress: what}
	one.Step(StepClaimed)
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.all == nil {
		p.all = map[*Going]bool{}
	}
	p.all[one] = true
	return one
}

// End ends what Begin began. It may be called again.
func (p *Progresses) End(one *Going) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.all, one)
}
