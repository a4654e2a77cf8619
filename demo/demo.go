// Package demo holds the demo estates.
package demo

import "embed"

// Thistledown is the design file of the whole Thistledown Botanic Trust.
//
//go:embed thistledown.yaml
var Thistledown []byte

// TwoGardens is its smallest part that has everything: two colliding sites and
// a cloud network.
//
//go:embed two-gardens.yaml
var TwoGardens []byte

// Remedies are small estates, each the story of one remedy for ranges that
// collide.
//
//go:embed remedies/*.yaml
var Remedies embed.FS

// Cases are small estates, each of something that goes wrong when networks are joined.
//
//go:embed cases/*.yaml
var Cases embed.FS
