package group

import (
	"cmp"
	"slices"
)

// Assign spreads partitions over members: every member gets as many as any
// other, or one more, and keeps as many as it can of those it has. holders
// gives each partition's member now, "" for none; the result gives each
// partition's member then. It depends on its arguments only. With n partitions
// and m members it takes O(n + m log m).
func Assign(holders []string, members []string) []string {
	out := make([]string, len(holders))
	if len(members) == 0 {
		return out
	}
	has := make(map[string]int, len(members))
	for _, m := range members {
		has[m] = 0
	}
	for _, h := range holders {
		if _, ok := has[h]; ok {
			has[h]++
		}
	}
	// Those that have most may keep one more than the others.
	order := slices.Clone(members)
	slices.SortFunc(order, func(a, b string) int { return cmp.Or(cmp.Compare(has[b], has[a]), cmp.Compare(a, b)) })
	base, more := len(holders)/len(members), len(holders)%len(members)
	room := make(map[string]int, len(members))
	for i, m := range order {
		room[m] = base
		if i < more {
			room[m]++
		}
	}
	for p, h := range holders {
		if room[h] > 0 {
			out[p] = h
			room[h]--
		}
	}
	// What is left goes round, so that a member's partitions are not next to
	// each other.
	next := 0
	for p := range out {
		for out[p] == "" {
			if m := order[next%len(order)]; room[m] > 0 {
				out[p] = m
				room[m]--
			}
			next++
		}
	}
	return out
}
