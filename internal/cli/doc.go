// Package cli is the command line, on the API's client. It decides nothing: it
// asks, and shows tables to people and JSON to programs.
//
// Exit codes: 0 done and good; 1 the call failed; 2 wrong usage; 3 the work was
// done and something was refused or failed. Start at [Run].
package cli
