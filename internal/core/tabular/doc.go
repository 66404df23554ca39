// Package tabular turns the text of cells into typed values, as the open
// standards Table Schema and Table Dialect (Data Package v2) say.
//
// It does not split bytes into cells (core/decode does) and knows no database.
// Start at [Schema], then [Schema.Compile], which gives a [Column] for each
// field; [MatchHeader] holds a file's header against a schema.
package tabular
