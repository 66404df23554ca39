// Package target is the tables that rows end in, and the bookkeeping beside
// them: their shape, staging by COPY, the merge by key, and the marker that
// makes each load happen exactly once. It speaks to PostgreSQL through pgx.
//
// It knows nothing of files or of the ledger. The way of a load is
// [Database.Session], [Session.Begin], [Load.Stage], [Load.Lock], [Load.Merge],
// [Load.Commit], in this order; see load.go.
package table
