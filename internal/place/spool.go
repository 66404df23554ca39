package place

import (
	"golang.org/x/sync/semaphore"
)

// spoolRoom is the room on the local disk for bytes of files that are read.
type spoolRoom struct {
	folder string
	free   *semaphore.Weighted
}

func newSpoolRoom(folder string, bytes int64) *spoolRoom {
	return &spoolRoom{folder, semaphore.NewWeighted(bytes)}
}

// take takes room, if there is as much. It waits for none: the files of one delivery are open together.
func (r *spoolRoom) take(bytes int64) (giveBack func(), ok bool) {
	return func() { r.free.Release(bytes) }, r.free.TryAcquire(bytes)
}
