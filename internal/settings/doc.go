// Package settings holds what an operator says of a service: in a file, in the environment and
// by flags, which win in this order, the last over the first.
//
// A feed is none of it; see core/feed. Start at [Read].
package settings
