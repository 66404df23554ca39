// Package filename says which files belong to a feed and what their names tell.
//
// A pattern is written against the path below the landing, with forward
// slashes. It knows nothing of the file system. Start at [Compile].
package filename
