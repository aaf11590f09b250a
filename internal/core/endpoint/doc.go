// Package endpoint is what delivery to places outside computes: what an answer means,
// when a place counts as failing and when it is tried again, at which rate delivery goes
// on after that, how deliveries are signed, and which networks they may go to. It knows
// no connection and no clock: times are handed in.
package endpoint
