package feed

import (
	"fmt"
	"strings"
)

// Problem is one thing that is wrong with a feed file.
type Problem struct {
	File   string `json:"file"`
	Line   int    `json:"line"`   // from 1
	Column int    `json:"column"` // from 1
	What   string `json:"what"`   // what is wrong, and what would be right
}

func (p Problem) Error() string {
	return fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.What)
}

// Problems are all that was found, in the order of the file. It is never empty
// when it is returned as an error.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.Error()
	}
	return strings.Join(lines, "\n")
}
