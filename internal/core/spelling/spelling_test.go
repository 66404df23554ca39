package spelling

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNearestFindsWhatWasMeant(t *testing.T) {
	known := []string{"datetime", "date", "number", "integer", "landing"}
	for word, want := range map[string]string{
		"datetme": "datetime", "Date": "date", "intger": "integer", "landng": "landing", "nubmer": "number",
		"xyz": "", "": "",
	} {
		assert.Equal(t, want, Nearest(word, known), word)
	}
	assert.Empty(t, Nearest("a", nil))
}

func TestDistanceToAPattern(t *testing.T) {
	gauge, csv := "GAUGE_", ".csv"
	p := Pattern{&gauge, nil, &csv}
	for text, want := range map[string]int{
		"GAUGE_K1.csv": 0, "GAUGE_.csv": 0, "GAUG_K1.csv": 1, "GUAGE_K1.csv": 1, "GAUGE_K1csv.": 2, "GAUGE_K1.txt": 3,
		"K1": 9, "": 9,
	} {
		assert.Equal(t, min(want, 9), p.Distance(text, 8), text)
		assert.Equal(t, min(want, 3), p.Distance(text, 2), "%s: no more than one beyond the limit", text)
	}
}
