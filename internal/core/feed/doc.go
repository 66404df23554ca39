// Package feed says what a feed is, and what an extract is: their files, their defaults, and their
// errors with line and column.
//
// [Parse] is the way in. It walks the YAML along the grammar (grammar.go), the
// one description from which the checking, the JSON Schema for editors and the
// reference in docs/ come, and then builds a [Feed] (build.go). [ParseExtract] does the same for
// extracts (extract.go). Nothing here touches files, databases or clocks.
package feed
