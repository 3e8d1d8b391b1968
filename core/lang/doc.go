// Package lang is the map language: how a source record becomes a target
// record. The same expressions serve in conditions, rules, file names and map
// lines.
//
// A map goes through these steps, each in its own file: scan (characters to
// tokens), parse (tokens to nodes), check (names and types against the source's
// shape), compile (nodes to a program over slots). functions.go has the one
// table of functions, which documentation and completion are made from.
//
// The language is total: no loops without bound, no input or output. An
// expression that fails rejects its record.
package lang
