// Package ledger keeps the records: feeds and their versions, arrivals and what
// became of them, runs, rejects, leases, events and tokens, in PostgreSQL
// through GORM, in the schema mullein_records.
//
// Each change of state is one transaction that writes its event too, so that
// whoever follows the events sees what the tables say. It knows nothing of
// files or target tables. Start at [Open] and, for what is kept, at [Arrival].
package ledger
