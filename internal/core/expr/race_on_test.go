//go:build race

package expr

// slowness is how many times longer work takes than without the race detector,
// which watches each step of a pattern.
const slowness = 10
