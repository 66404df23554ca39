package ledger

import (
	"context"
	"time"
)

// Act is what a person or a program did, or tried to do.
type Act struct {
	ID      int64     `gorm:"primaryKey"`
	At      time.Time `gorm:"default:now()"`
	By      string    // who
	Way     string    // api or session
	Came    string    // the address that it came from
	What    string    // the operation, as the API calls it
	Feed    string    // "" where it is of none, or of several
	Of      string    // what it was done to: the path of the call
	Because string
	Before  string // how it was; "" where that is not known
	After   string // how it is then
	Status  int    // of the answer; 200 to 299 for what was done
}

// TableName keeps GORM from making plurals.
func (Act) TableName() string { return "act" }

// AddAct keeps an act.
func (l *Ledger) AddAct(ctx context.Context, a *Act) error {
	return l.with(ctx).Create(a).Error
}

// ActFilter says which acts are wanted; empty parts want all.
type ActFilter struct {
	Feed, By, What string
	Before         int64 // only those with smaller numbers; 0 for all
	Most           int
}

// Acts returns acts, the newest first.
func (l *Ledger) Acts(ctx context.Context, f ActFilter) ([]Act, error) {
	out := []Act{}
	q := l.with(ctx).Model(&Act{})
	for column, value := range map[string]string{"feed": f.Feed, "by": f.By, "what": f.What} {
		if value != "" {
			q = q.Where(column+" = ?", value)
		}
	}
	if f.Before > 0 {
		q = q.Where("id < ?", f.Before)
	}
	err := q.Order("id DESC").Limit(f.Most).Find(&out).Error
	return out, err
}
