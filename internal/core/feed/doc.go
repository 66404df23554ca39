// Package feed says what a feed is: the feed file, its defaults, and its
// errors with line and column.
//
// [Parse] is the way in. It walks the YAML along the grammar (grammar.go), the
// one description from which the checking, the JSON Schema for editors and the
// reference in docs/ come, and then builds a [Feed] (build.go). Nothing here
// touches files, databases or clocks.
package feed
