package queue

// place is a time and the offset for which it counts; equal times go by
// offset, so that every replica takes them in the same order.
type place struct{ at, offset int64 }

func (a place) before(b place) bool { return a.at < b.at || a.at == b.at && a.offset < b.offset }

// dueHeap holds places, the earliest first. What has changed since is not
// taken out: who takes a place looks whether it still counts.
type dueHeap []place

func (h *dueHeap) push(p place) {
	*h = append(*h, p)
	s := *h
	i := len(s) - 1
	for i > 0 {
		up := (i - 1) / 2
		if !s[i].before(s[up]) {
			break
		}
		s[i], s[up] = s[up], s[i]
		i = up
	}
}

func (h *dueHeap) pop() place {
	s := *h
	top := s[0]
	n := len(s) - 1
	s[0] = s[n]
	*h = s[:n]
	h.down(0)
	return top
}

func (h dueHeap) down(i int) {
	for {
		least := 2*i + 1
		if least >= len(h) {
			return
		}
		if r := least + 1; r < len(h) && h[r].before(h[least]) {
			least = r
		}
		if !h[least].before(h[i]) {
			return
		}
		h[i], h[least] = h[least], h[i]
		i = least
	}
}

// heapOf orders the places in place.
func heapOf(places []place) dueHeap {
	h := dueHeap(places)
	for i := len(h)/2 - 1; i >= 0; i-- {
		h.down(i)
	}
	return h
}

// leaseHeap holds leased messages, the one that runs out first at the top.
// Each knows its place in it, so that accepting it takes it out.
type leaseHeap []hold

// hold is a leased message, and to whom it was given with which others.
type hold struct {
	it  *item
	run *handout
}

// run returns to whom a leased message was given.
func (h leaseHeap) run(it *item) *handout { return h[it.heapAt].run }

func (h leaseHeap) before(i, j int) bool {
	return place{h[i].it.due, h[i].it.offset}.before(place{h[j].it.due, h[j].it.offset})
}

func (h leaseHeap) swap(i, j int) {
	h[i], h[j] = h[j], h[i]
	h[i].it.heapAt, h[j].it.heapAt = int32(i), int32(j)
}

func (h *leaseHeap) push(one hold) {
	one.it.heapAt = int32(len(*h))
	*h = append(*h, one)
	h.up(int(one.it.heapAt))
}

func (h leaseHeap) up(i int) {
	for i > 0 {
		parent := (i - 1) / 2
		if !h.before(i, parent) {
			return
		}
		h.swap(i, parent)
		i = parent
	}
}

func (h leaseHeap) down(i int) {
	for {
		least := 2*i + 1
		if least >= len(h) {
			return
		}
		if r := least + 1; r < len(h) && h.before(r, least) {
			least = r
		}
		if !h.before(least, i) {
			return
		}
		h.swap(i, least)
		i = least
	}
}

func (h *leaseHeap) remove(it *item) {
	i, n := int(it.heapAt), len(*h)-1
	if i != n {
		h.swap(i, n)
	}
	(*h)[n] = hold{}
	*h = (*h)[:n]
	if i != n {
		h.down(i)
		h.up(i)
	}
}
