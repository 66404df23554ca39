// Package spelling says how far texts are from each other, to name what was meant by
// one that is misspelt.
package spelling

import "strings"

// Pattern is a text with gaps: literal texts, and nil where any text may stand.
type Pattern []*string

// Distance returns the number of bytes to replace, add, take away or swap with their
// neighbour until a text is one that the pattern stands for, a Damerau-Levenshtein
// distance: any text costs nothing where the pattern has a gap. It returns limit+1 for
// all that is beyond limit.
func (p Pattern) Distance(text string, limit int) int {
	n := len(text) + 1
	rows := make([]int, 3*n) // of the two bytes of the pattern before, and of this one
	before, last, now := rows[:n], rows[n:2*n], rows[2*n:]
	for i := range last {
		last[i] = i
	}
	lastBest := 0
	for _, literal := range p {
		if literal == nil { // whatever was reached further left is reached here too
			for i := 1; i < n; i++ {
				last[i] = min(last[i], last[i-1])
			}
			continue
		}
		for k := range len(*literal) {
			c := (*literal)[k]
			now[0] = last[0] + 1
			best := now[0]
			for i := 1; i < n; i++ {
				cost := last[i-1]
				if text[i-1] != c {
					cost++
				}
				if k > 0 && i > 1 && text[i-1] == (*literal)[k-1] && text[i-2] == c {
					cost = min(cost, before[i-2]+1)
				}
				now[i] = min(cost, last[i]+1, now[i-1]+1)
				best = min(best, now[i])
			}
			if best > limit && lastBest > limit {
				return limit + 1
			}
			lastBest = best
			before, last, now = last, now, before
		}
	}
	return min(last[len(text)], limit+1)
}

// maxWord bounds the length of words that are compared.
const maxWord = 64

// Nearest returns the candidate that a misspelt word most likely means, or "".
func Nearest(word string, candidates []string) string {
	if word == "" || len(word) > maxWord {
		return ""
	}
	word = strings.ToLower(word)
	best, bestDistance := "", len(word)/3+2
	for _, c := range candidates {
		if len(c) > maxWord {
			continue
		}
		low := strings.ToLower(c)
		d := Pattern{&low}.Distance(word, bestDistance)
		if strings.HasPrefix(low, word) {
			d = min(d, 1)
		}
		if d < bestDistance {
			best, bestDistance = c, d
		}
	}
	return best
}
