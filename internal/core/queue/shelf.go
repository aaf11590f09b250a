package queue

import "iter"

// shelf keeps the items of a partition. They lie in large blocks without
// pointers, which the garbage collector does not look into, so that a million
// of them stand about without a price. An item keeps its place: a pointer to it
// is good until the item is removed.
type shelf struct {
	blocks []*[shelfBlock]item
	free   []uint32        // places of removed items
	pages  map[int64]*page // by offset/pageSpan
	count  int
}

// page is where the items of neighbouring offsets are: those that are worked
// on at a time lie in few pages, which stay in the processor's cache.
type page struct {
	count int
	at    [pageSpan]uint32 // place plus one, 0 without an item
}

const (
	shelfBlock = 1024
	pageSpan   = 64
)

func newShelf() shelf { return shelf{pages: map[int64]*page{}} }

// get returns the item of an offset, nil if there is none.
func (s *shelf) get(offset int64) *item {
	p := s.pages[offset/pageSpan]
	if p == nil {
		return nil
	}
	n := p.at[offset%pageSpan]
	if n == 0 {
		return nil
	}
	return s.place(n - 1)
}

func (s *shelf) place(n uint32) *item { return &s.blocks[n/shelfBlock][n%shelfBlock] }

// add keeps a copy of an item of a new offset and returns it.
func (s *shelf) add(one item) *item {
	if len(s.free) == 0 {
		first := uint32(len(s.blocks) * shelfBlock)
		s.blocks = append(s.blocks, new([shelfBlock]item))
		for n := first + shelfBlock; n > first; n-- {
			s.free = append(s.free, n-1)
		}
	}
	n := s.free[len(s.free)-1]
	s.free = s.free[:len(s.free)-1]
	p := s.pages[one.offset/pageSpan]
	if p == nil {
		p = &page{}
		s.pages[one.offset/pageSpan] = p
	}
	p.at[one.offset%pageSpan] = n + 1
	p.count++
	s.count++
	it := s.place(n)
	*it = one
	return it
}

// remove forgets an item. With the last one all room is given back.
func (s *shelf) remove(offset int64) {
	p := s.pages[offset/pageSpan]
	n := p.at[offset%pageSpan] - 1
	p.at[offset%pageSpan] = 0
	if p.count--; p.count == 0 {
		delete(s.pages, offset/pageSpan)
	}
	*s.place(n) = item{}
	s.free = append(s.free, n)
	if s.count--; s.count == 0 && len(s.blocks) > 1 {
		*s = newShelf()
	}
}

// all goes through the items, in no order.
func (s *shelf) all() iter.Seq[*item] {
	return func(yield func(*item) bool) {
		for _, b := range s.blocks {
			for i := range b {
				if b[i].state != 0 && !yield(&b[i]) {
					return
				}
			}
		}
	}
}
