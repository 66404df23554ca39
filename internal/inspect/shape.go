package inspect

import (
	"context"
	"fmt"
	"strings"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/load"
)

// shapePatience is how long putting a feed waits for the target's database to say
// how its table is.
const shapePatience = 5 * time.Second

// Shape says, for people, what stands between a feed and its table as it is: what
// a load would change first, or why it could not load. It is "" when nothing does,
// when the table is still to be made, and of feeds of several tables.
func (i *Inspector) Shape(ctx context.Context, f *feed.Feed) string {
	if f.HasKinds() {
		return ""
	}
	ctx, cancel := context.WithTimeout(ctx, shapePatience)
	defer cancel()
	shape, err := load.Wanted(f)
	if err != nil {
		return err.Error()
	}
	database, err := i.Database(f)
	if err != nil {
		return err.Error()
	}
	fitted, changes, err := database.Look(ctx, shape)
	switch {
	case err != nil:
		return err.Error()
	case !fitted.Exists() || len(changes) == 0:
		return ""
	}
	return fmt.Sprintf("the next load changes table %s: %s", shape, strings.Join(changes, "; "))
}
