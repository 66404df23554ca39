// Package draft proposes feeds from sample files: how they are written, what
// their columns hold, what tells one row from another, and which names belong.
//
// A draft loses none of the rows that it has read. What is uncertain is said in a comment
// beside it.
// Reading itself belongs to core/decode; this package only looks at what comes
// out. Start at [Propose].
package draft
