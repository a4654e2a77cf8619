// Package demo holds the demo estate.
package demo

import _ "embed"

// Thistledown is the design file of the Thistledown Botanic Trust.
//
//go:embed thistledown.yaml
var Thistledown []byte
