package feed

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"mullein/internal/core/check"
)

var sizeUnits = []struct {
	suffix string
	bytes  float64
}{{"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}, {"TiB", 1 << 40}, {"kB", 1e3}, {"MB", 1e6}, {"GB", 1e9},
	{"TB", 1e12}, {"B", 1}}

// ParseSize reads a number of bytes such as 200KiB or 2GiB.
func ParseSize(s string) (int64, error) {
	for _, u := range sizeUnits {
		if number, ok := strings.CutSuffix(s, u.suffix); ok {
			n, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
			if err != nil || n < 0 || n*u.bytes > math.MaxInt64/2 {
				break
			}
			return int64(n * u.bytes), nil
		}
	}
	return 0, fmt.Errorf("%q is not a size; write 1B, 200KiB or 2GiB", s)
}

var durationUnits = []struct {
	suffix string
	unit   time.Duration
}{{"ms", time.Millisecond}, {"s", time.Second}, {"m", time.Minute}, {"h", time.Hour}, {"d", 24 * time.Hour}}

// ParseSpan reads a duration as feed files write it: 3s, 15m, 2h, 14d, 0.
func ParseSpan(s string) (time.Duration, error) {
	if s == "0" {
		return 0, nil
	}
	for _, u := range durationUnits {
		if number, ok := strings.CutSuffix(s, u.suffix); ok {
			n, err := strconv.ParseFloat(number, 64)
			if err != nil || n < 0 || n*float64(u.unit) > math.MaxInt64/2 {
				continue
			}
			return time.Duration(n * float64(u.unit)), nil
		}
	}
	return 0, fmt.Errorf("%q is not a duration; write 3s, 15m, 2h or 14d", s)
}

func parseShare(s string) (check.Tolerance, error) {
	if percent, ok := strings.CutSuffix(s, "%"); ok {
		p, err := strconv.ParseFloat(percent, 64)
		if err == nil && p >= 0 && p <= 100 {
			return check.Tolerance{IsShare: true, Share: p / 100}, nil
		}
	} else if n, err := strconv.ParseInt(s, 10, 64); err == nil && n >= 0 {
		return check.Tolerance{Rows: n}, nil
	}
	return check.Tolerance{}, fmt.Errorf("%q is neither a number of rows nor a share; write 10 or 0.5%%", s)
}

// Span writes a duration as feed files do: 14d, 90m.
func Span(d time.Duration) string {
	for _, u := range []struct {
		name string
		of   time.Duration
	}{{"d", 24 * time.Hour}, {"h", time.Hour}, {"m", time.Minute}} {
		if d >= u.of && d%u.of == 0 {
			return strconv.FormatInt(int64(d/u.of), 10) + u.name
		}
	}
	return d.String()
}
