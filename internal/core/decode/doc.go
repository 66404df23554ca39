// Package decode turns the bytes of a file into records of cells: unpacking,
// byte order marks, delimited text.
//
// It knows no types (core/tabular) and opens nothing: it is handed readers.
// Memory does not grow with the file. Start at [Unpack], then [NewCSV].
package decode
