// Package extract writes rows of databases as files into landings.
//
// A worker claims extracts whose time has come (worker.go), and works a window of each (window.go): it says what is new and
// records it before anything is read, reads it in one view of the database (source.go, postgres.go, mysql.go), writes files
// aside (files.go; lines.go, text.go, parquet.go), puts them into the landing when all are whole, and moves the mark after that.
//
// What an extract is stands in core/feed, its records are in ledger. Start at [Worker.Run].
package extract
