// Package e2e holds tests of the whole service, used as its users use it:
// through HTTP, the command line, and the console in a browser.
package e2e
