// Package examples holds programs in other languages that ask for flags, so that the demo can
// run one of them.
package examples

import _ "embed"

// Display is the display of a locker, a program for Node.
//
//go:embed node/display.mjs
var Display []byte
