// Package shapes measures loads of many shapes beside a script by hand: how large the table
// is, what its key is, how many rows come, in what files, and how many of them are changed.
//
// [Matrix] lists the shapes, [Run] measures some of them with a service and a database of
// their own, and prints a line for each. What a file of a shape holds is in shape.go, the
// service in machine.go, the script in script.go. Start reading at [Run].
package shapes
