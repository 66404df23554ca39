// Package news says of what people and programs are told, and when: the kinds of news, what
// of it has one cause, when it is told again, and the hours of silence.
//
// What is wrong is found by the ledger, and messages are written and sent by package notice.
package news
