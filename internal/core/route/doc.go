// Package route is what routes compute: a route is the service's own reader of a
// channel, that copies what fulfils a condition to another channel, exactly once.
//
// Three state machines agree on what was copied. [Plans] is part of what a
// partition of the source derives from its log: for each route the cuts of the
// log, in each of which messages are decided by the same terms, and a floor, before
// which nothing is sent any more. [Origins] is part of what a partition of the
// target derives from its log: for each route and source partition the place up to
// which it has messages; a batch is taken only directly behind that place. [Walk]
// is what a worker knows of one route on one source partition: any number of them
// may be at work, on any node, with old news.
//
// A decision (left out or sent, with what content, to which partition) depends on
// the message and the terms of its cut alone. So all workers send the same messages
// to a target in the same order; since each batch names the place behind which it
// belongs, the target takes each message once, whoever sends it, however often and
// late. What a user wishes (the settings of a route) becomes part of a plan by a
// command in the source's log; no other record decides what is sent.
//
// All of it is deterministic, and reads no clock and no message from disk.
package route
