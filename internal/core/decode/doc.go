// Package decode turns the bytes of a file into records: unpacking, charsets,
// and the formats csv, json, jsonl, fixed, parquet, avro and xlsx.
//
// It knows no columns and no constraints (core/tabular) and opens nothing: it is
// handed readers. Memory does not grow with the file where a format can be
// streamed, and is bounded where it cannot. Start at [Open].
package decode
