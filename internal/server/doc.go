// Package server is the service: it puts the parts together ([Serve]) and is
// what people and programs speak to: the API under /api/v1, its OpenAPI
// document, live events, the console's files, health.
//
// The handlers' own types make the OpenAPI document, from which the console's
// client is generated. What work there is, is done in engine and ledger.
package server
