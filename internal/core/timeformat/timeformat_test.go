package timeformat

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	for _, c := range []struct{ pattern, text, want string }{
		{"%Y-%m-%d", "2026-07-01", "2026-07-01T00:00:00Z"},
		{"%d.%m.%y %R", "01.07.26 12:30", "2026-07-01T12:30:00Z"},
		{"%y", "69", "1969-01-01T00:00:00Z"},
		{"%Y%j", "2028366", "2028-12-31T00:00:00Z"},
		{"%e %b %Y", " 1 Jul 2026", "2026-07-01T00:00:00Z"},
		{"%A, %d %B %Y", "Wednesday, 01 July 2026", "2026-07-01T00:00:00Z"},
		{"%F %I:%M %p", "2026-07-01 12:05 AM", "2026-07-01T00:05:00Z"},
		{"%F %I:%M %p", "2026-07-01 01:05 pm", "2026-07-01T13:05:00Z"},
		{"%FT%T.%f%z", "2026-07-01T12:00:00.5-01:30", "2026-07-01T13:30:00.5Z"},
		{"%FT%T%z", "2026-07-01T12:00:00Z", "2026-07-01T12:00:00Z"},
		{"%s", "1782907200", "2026-07-01T12:00:00Z"},
		{"100%% %Y", "100% 2026", "2026-01-01T00:00:00Z"},
		{"%d/%m/%Y", "1/10/2009", "2009-10-01T00:00:00Z"},
		{"%b %d %Y", "Jan 1 2000", "2000-01-01T00:00:00Z"},
		{"%Y-%m-%d %H:%M:%S", "2026-7-1 9:5:0", "2026-07-01T09:05:00Z"},
		{"%e %b %Y %k:%M", "1 Jul 2026 9:30", "2026-07-01T09:30:00Z"},
		{"%F %l:%M %p", "2026-07-01  9:30 PM", "2026-07-01T21:30:00Z"},
		{"%-d.%-m.%Y", "1.7.2026", "2026-07-01T00:00:00Z"},
		{"%-d.%-m.%Y", "01.07.2026", "2026-07-01T00:00:00Z"},
		{"%d.%m.%y", "1.7.6", "2006-07-01T00:00:00Z"},
	} {
		l, err := Compile(c.pattern)
		require.NoError(t, err)
		got, err := l.Time([]byte(c.text), time.UTC)
		require.NoError(t, err, c.text)
		assert.Equal(t, c.want, got.UTC().Format(time.RFC3339Nano), c.text)
	}
	for _, c := range []struct {
		pattern, text string
		want          error
	}{
		{"%Y-%m-%d", "2026-02-30", ErrNoSuchTime},
		{"%Y%j", "2026366", ErrNoSuchTime},
		{"%H", "24", ErrNoSuchTime},
		{"%I %p", "13 pm", ErrNoSuchTime},
		{"%Y-%m-%d", "26-07-01", ErrNoMatch},
		{"%Y-%m-%d", "2026-007-01", ErrNoMatch},
		{"%Y%m%d", "202671", ErrNoMatch},
		{"%Y%m%d%H%M", "20260701123", ErrNoMatch},
		{"%d/%m/%Y", " 1/10/2009", ErrNoMatch},
		{"%d/%m/%Y", "/10/2009", ErrNoMatch},
		{"%Y-%m-%d", "2026-07-01x", ErrNoMatch},
		{"%z", "+1", ErrNoMatch},
		{"%b", "Jux", ErrNoMatch},
	} {
		l, err := Compile(c.pattern)
		require.NoError(t, err)
		_, err = l.Time([]byte(c.text), time.UTC)
		assert.ErrorIs(t, err, c.want, c.text)
	}
}

// TestExactLayoutsReadWhatTheyWrite takes texts that lack zeros.
func TestExactLayoutsReadWhatTheyWrite(t *testing.T) {
	at := time.Date(2026, 7, 1, 9, 5, 0, 0, time.UTC)
	for pattern, want := range map[string]string{"%Y-%m-%d": "2026-07-01", "%e %k:%M": " 1  9:05",
		"%-d.%-m. %-I %p": "1.7. 9 AM", "%-j": "182"} {
		l, err := Compile(pattern)
		require.NoError(t, err)
		assert.Equal(t, want, l.Format(at))
		_, err = l.Exact().Parse([]byte(want))
		assert.NoError(t, err, pattern)
		assert.Regexp(t, "^"+l.Regexp()+"$", want)
	}
	l, err := Compile("%Y-%m-%d")
	require.NoError(t, err)
	_, err = l.Exact().Parse([]byte("2026-7-1"))
	assert.ErrorIs(t, err, ErrNoMatch)
	_, err = Compile("%-Y")
	assert.ErrorContains(t, err, "unknown token %-")
}

func FuzzParse(f *testing.F) {
	f.Add("%Y-%m-%dT%H:%M:%S%z", "2026-07-01T12:00:00+01:00")
	f.Fuzz(func(t *testing.T, pattern, text string) {
		if l, err := Compile(pattern); err == nil {
			_, _ = l.Time([]byte(text), time.UTC)
			_ = l.Regexp()
		}
	})
}

// TestISO holds the reader of ISO's form against the layouts that read the same, and days
// against the calendar of package time.
func TestISO(t *testing.T) {
	layouts := []*Layout{}
	for _, pattern := range []string{"%Y-%m-%dT%H:%M:%S", "%Y-%m-%dT%H:%M:%S%z", "%Y-%m-%dT%H:%M:%S.%f",
		"%Y-%m-%dT%H:%M:%S.%f%z"} {
		l, err := Compile(pattern)
		require.NoError(t, err)
		layouts = append(layouts, l.Exact())
	}
	heads := []string{"2026-01-31T14:30:00", "2024-02-29T23:59:59", "2026-02-29T00:00:00", "2026-13-01T00:00:00",
		"2026-01-31T24:00:00", "2026-01-31T14:30:60", "2026-01-31 14:30:00", "2026-1-31T14:30:00", "2026-01-31T14:30",
		"20260131T143000", "2O26-01-31T14:30:00", "2026-01-3:T14:30:00", "0000-01-01T00:00:00", "0001-01-01T00:00:00",
		"9999-12-31T23:59:59", "+026-01-31T14:30:00", ""}
	tails := []string{"", "Z", "z", "+01:00", "-0130", "+16:00", "+01:60", "+1:00", ".5", ".", ".123456789", ".1234567891",
		".25Z", ".25+05:45", "Z ", " ", "+01:00Z", "+0"}
	for _, head := range heads {
		for _, tail := range tails {
			var want Fields
			var wantErr error
			for _, l := range layouts {
				if want, wantErr = l.Parse([]byte(head + tail)); !errors.Is(wantErr, ErrNoMatch) {
					break
				}
			}
			got, err := ISO([]byte(head + tail))
			assert.Equal(t, wantErr, err, head+tail)
			if err == nil {
				assert.Equal(t, want, got, head+tail)
			}
		}
	}
	for day := time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC); day.Year() < 2500; day = day.AddDate(0, 0, 13) {
		require.Equal(t, day.Unix()/86400, daysSince1970(day.Year(), int(day.Month()), day.Day()), day)
	}
}
