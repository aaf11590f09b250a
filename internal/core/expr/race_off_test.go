//go:build !race

package expr

const slowness = 1
