package api

// The states of an arrival, in the order of a file's life, then the ends.
const (
	ArrivalNoticed  = "noticed"
	ArrivalSettling = "settling"
	ArrivalReady    = "ready"
	ArrivalLoading  = "loading"
	ArrivalLoaded   = "loaded"
	ArrivalRefused  = "refused"
	ArrivalFailed   = "failed"
	ArrivalSkipped  = "skipped"
	ArrivalHeld     = "held"
	ArrivalGone     = "gone"
	ArrivalRecalled = "recalled"
)

// ArrivalStates returns the states of an arrival, in their order.
func ArrivalStates() []string {
	return []string{ArrivalNoticed, ArrivalSettling, ArrivalReady, ArrivalLoading, ArrivalLoaded, ArrivalRefused,
		ArrivalFailed, ArrivalSkipped, ArrivalHeld, ArrivalGone, ArrivalRecalled}
}

// The states of a run.
const (
	RunQueued    = "queued"
	RunRunning   = "running"
	RunDone      = "done"
	RunFailed    = "failed"
	RunCancelled = "cancelled"
)

// The states of a slot.
const (
	SlotOpen    = "open"
	SlotOnTime  = "on time"
	SlotLate    = "late"
	SlotMissing = "missing"
	SlotRefused = "refused"
	SlotExcused = "excused"
	SlotSurplus = "surplus"
)
