package design

import (
	"maps"
	"slices"
	"sync"
	"sync/atomic"
)

// Reads notes what of a design was looked at through one of its views (see
// [Design.Watched]). What was worked out from a view holds for a later design
// too as long as none of that has changed, which [Reads.Clean] tells.
type Reads struct {
	seen map[read]struct{}
	of   []*Reads // what was used that was worked out from these
	last read     // noted last

	checked atomic.Pointer[checked]
}

// checked is what came of holding a note against changes.
type checked struct {
	changes *Changes
	clean   bool
}

type read struct {
	what readKind
	id   ID // a kind for kindRead
}

type readKind uint8

const (
	objectRead    readKind = iota // one object
	insideRead                    // what stands inside one
	referringRead                 // what refers to one
	kindRead                      // all of a kind
	wholeRead                     // everything
	learnedRead                   // what a speaker has learned, which follows from many
)

// NewReads returns an empty note.
func NewReads() *Reads { return &Reads{seen: map[read]struct{}{}} }

func (r *Reads) note(what readKind, id ID) {
	if r == nil {
		return
	}
	k := read{what, id}
	if k != r.last { // what is asked is often asked again at once
		r.last = k
		r.seen[k] = struct{}{}
	}
}

// Also adds what another note holds: what was worked out from it was used.
func (r *Reads) Also(other *Reads) {
	if r == nil || other == nil || len(r.of) > 0 && r.of[len(r.of)-1] == other {
		return
	}
	r.of = append(r.of, other)
}

// Watched is a view of the design that notes in r what is looked at. It must be
// used by one goroutine at a time.
func (d *Design) Watched(r *Reads) *Design {
	view := *d
	view.reads = r
	return &view
}

// NoteLearned notes that what was learned at a table was looked at, by its key.
// It follows from the whole design, and is worked out apart: see [Changes.With].
func (d *Design) NoteLearned(key string) { d.reads.note(learnedRead, ID(key)) }

// Noting is the note that a view writes to, nil for a design that is not
// watched.
func (d *Design) Noting() *Reads { return d.reads }

// Changes is what differs between two designs.
type Changes struct {
	dirty map[read]struct{}
}

// ChangesTo tells what differs in next, on either side. Objects that are shared are not
// compared.
func (d *Design) ChangesTo(next *Design) *Changes {
	c := &Changes{dirty: map[read]struct{}{}}
	if b, now := d.Built(), next.Built(); d.side != Built && b != now {
		b.changesTo(now, c)
	}
	d.changesTo(next, c)
	return c
}

func (d *Design) changesTo(next *Design, c *Changes) {
	for _, o := range d.all {
		if now := next.objects[o.ID]; now != o && !same(o, now) {
			c.note(o)
			c.note(now)
		}
	}
	for _, o := range next.all {
		if d.objects[o.ID] == nil {
			c.note(o)
		}
	}
}

// ChangedBy is as [Design.ChangesTo], for a next design that the edits lead to.
func (d *Design) ChangedBy(edits []Edit, next *Design) *Changes {
	c := &Changes{dirty: map[read]struct{}{}}
	for _, e := range edits {
		if old, now := d.objects[e.ID], next.objects[e.ID]; old != now {
			c.note(old)
			c.note(now)
		}
	}
	if b, now := d.Built(), next.Built(); d.side != Built && b != now {
		for _, e := range edits {
			if old, now := b.objects[e.ID], now.objects[e.ID]; old != now {
				c.note(old)
				c.note(now)
			}
		}
		c.aside(b, now)
	}
	return c
}

// aside notes what of the estate has come to be there, or is no longer.
func (c *Changes) aside(before, now *Design) {
	for _, o := range slices.Concat(before.aside, now.aside) {
		if before.objects[o.ID] != now.objects[o.ID] {
			c.note(o)
		}
	}
}

// Touching are changes of objects that stay as they are and that something outside of the design now tells otherwise.
func (d *Design) Touching(ids ...ID) *Changes {
	c := &Changes{dirty: map[read]struct{}{}}
	for _, id := range ids {
		c.dirty[read{objectRead, id}] = struct{}{}
	}
	return c
}

func (c *Changes) note(o *Object) {
	if o == nil {
		return
	}
	c.dirty[read{wholeRead, ""}] = struct{}{}
	c.dirty[read{objectRead, o.ID}] = struct{}{}
	c.dirty[read{insideRead, o.Parent}] = struct{}{}
	c.dirty[read{kindRead, ID(o.Kind)}] = struct{}{}
	for _, to := range RefsOf(o) {
		c.dirty[read{referringRead, to}] = struct{}{}
	}
}

// With are the changes, and what is learned otherwise at some tables.
func (c *Changes) With(learned []string) *Changes {
	if len(learned) == 0 {
		return c
	}
	out := &Changes{dirty: maps.Clone(c.dirty)}
	for _, key := range learned {
		out.dirty[read{learnedRead, ID(key)}] = struct{}{}
	}
	return out
}

// And are these changes and others.
func (c *Changes) And(other *Changes) *Changes {
	if c == other || other == nil {
		return c
	}
	out := &Changes{dirty: maps.Clone(c.dirty)}
	maps.Copy(out.dirty, other.dirty)
	return out
}

// None reports whether nothing differs.
func (c *Changes) None() bool { return len(c.dirty) == 0 }

// Clean reports whether nothing that was looked at has changed.
func (r *Reads) Clean(c *Changes) bool {
	if last := r.checked.Load(); last != nil && last.changes == c {
		return last.clean
	}
	clean := r.own(c)
	for _, used := range r.of {
		clean = clean && used.Clean(c)
	}
	r.checked.Store(&checked{c, clean})
	return clean
}

// own is Clean for what was looked at directly.
func (r *Reads) own(c *Changes) bool {
	if len(c.dirty) < len(r.seen) {
		for k := range c.dirty {
			if _, ok := r.seen[k]; ok {
				return false
			}
		}
		return true
	}
	for k := range r.seen {
		if _, ok := c.dirty[k]; ok {
			return false
		}
	}
	return true
}

// Memo holds what was worked out of a design, by key, with what was looked at
// for it. It may be used by many at once. The zero Memo is empty.
type Memo[K comparable, V any] struct {
	mu      sync.Mutex
	by      map[K]memoized[V]
	before  *Memo[K, V] // of the design before, where what did not change still holds
	changes *Changes
}

type memoized[V any] struct {
	value V
	reads *Reads
}

// Get returns what work makes of d for a key, from memory if it can. What was
// looked at is noted where d notes it.
func (m *Memo[K, V]) Get(d *Design, key K, work func(view *Design) V) V {
	m.mu.Lock()
	held, ok := m.by[key]
	if !ok {
		held, ok = m.carry(key)
	}
	m.mu.Unlock()
	if !ok { // worked out unlocked: it may ask for other keys
		r := NewReads()
		held = memoized[V]{work(d.Watched(r)), r}
		m.mu.Lock()
		m.put(key, held)
		m.mu.Unlock()
	}
	d.reads.Also(held.reads)
	return held.value
}

func (m *Memo[K, V]) put(key K, held memoized[V]) {
	if m.by == nil {
		m.by = map[K]memoized[V]{}
	}
	m.by[key] = held
}

// carry takes over what the design before had, if it still holds.
func (m *Memo[K, V]) carry(key K) (held memoized[V], ok bool) {
	if m.before == nil {
		return held, false
	}
	m.before.mu.Lock()
	held, ok = m.before.by[key]
	m.before.mu.Unlock()
	if ok = ok && held.reads.Clean(m.changes); ok {
		m.put(key, held)
	}
	return held, ok
}

// After lets an empty memo take over what another had worked out before the
// changes, as it is asked for.
func (m *Memo[K, V]) After(before *Memo[K, V], changes *Changes) {
	m.before, m.changes = before, changes
}

// Settle takes over all that still holds, and lets go of the design before.
func (m *Memo[K, V]) Settle() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.before == nil {
		return
	}
	m.before.mu.Lock()
	defer m.before.mu.Unlock()
	for k, held := range m.before.by {
		if _, ok := m.by[k]; !ok && held.reads.Clean(m.changes) {
			m.put(k, held)
		}
	}
	m.before, m.changes = nil, nil
}

// Index finds by what was looked at who looked at it. The zero Index is empty; it
// must not be added to while it is asked.
type Index[K comparable] struct{ by map[read][]K }

// Add enters what was looked at for a key.
func (x *Index[K]) Add(key K, r *Reads) {
	if x.by == nil {
		x.by = map[read][]K{}
	}
	x.add(key, r, map[*Reads]bool{})
}

func (x *Index[K]) add(key K, r *Reads, done map[*Reads]bool) {
	if done[r] {
		return
	}
	done[r] = true
	for k := range r.seen {
		if list := x.by[k]; len(list) == 0 || list[len(list)-1] != key { // a key is added at one go
			x.by[k] = append(list, key)
		}
	}
	for _, used := range r.of {
		x.add(key, used, done)
	}
}

// Touched are the keys for which something was looked at that has changed.
func (x *Index[K]) Touched(c *Changes) map[K]bool {
	out := map[K]bool{}
	for k := range c.dirty {
		for _, key := range x.by[k] {
			out[key] = true
		}
	}
	return out
}
