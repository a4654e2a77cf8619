package prefix

import "math/bits"

// small is the number of keys that are sorted in one go: they and their copy
// stay in the cache.
const small = 1 << 13

// sortKeys sorts keys by their bits from low upward. tmp is scratch space of
// the same length. The work is linear: keys are dealt out by their highest
// differing bits until a share fits into the cache, and each share is then
// radix-sorted from the lowest bits.
func sortKeys(keys, tmp []uint64, low int) {
	if len(keys) < 2 {
		return
	}
	top := bits.Len64(differing(keys))
	if top <= low {
		return
	}
	if len(keys) <= small {
		sortShare(keys, tmp, low, top)
		return
	}
	// Deal out so that shares of evenly spread keys are a little below small.
	width := min(bits.Len(uint(len(keys)/small))+1, top-low, 11)
	shift := top - width
	mask := uint64(1)<<width - 1
	var counts [1 << 11]int
	for _, k := range keys {
		counts[k>>shift&mask]++
	}
	at := 0
	var starts [1<<11 + 1]int
	for n := range int(mask) + 1 {
		starts[n] = at
		at += counts[n]
		counts[n] = starts[n]
	}
	starts[mask+1] = at
	for _, k := range keys {
		d := k >> shift & mask
		tmp[counts[d]] = k
		counts[d]++
	}
	copy(keys, tmp)
	for n := range int(mask) + 1 {
		a, b := starts[n], starts[n+1]
		sortKeys(keys[a:b], tmp[a:b], low)
	}
}

// differing has a bit set wherever two keys differ.
func differing(keys []uint64) uint64 {
	var all uint64
	first := keys[0]
	for _, k := range keys {
		all |= k ^ first
	}
	return all
}

// sortShare is a radix sort from bit low up to bit top, eight bits at a time.
func sortShare(keys, tmp []uint64, low, top int) {
	if len(keys) <= 24 {
		insertionSort(keys, low)
		return
	}
	from, to := keys, tmp
	for shift := low; shift < top; shift += 8 {
		var counts [256]uint32
		for _, k := range from {
			counts[k>>shift&255]++
		}
		var at uint32
		for n, c := range counts {
			counts[n] = at
			at += c
		}
		for _, k := range from {
			d := k >> shift & 255
			to[counts[d]] = k
			counts[d]++
		}
		from, to = to, from
	}
	if &from[0] != &keys[0] {
		copy(keys, from)
	}
}

func insertionSort(keys []uint64, low int) {
	for n := 1; n < len(keys); n++ {
		k := keys[n]
		m := n
		for ; m > 0 && keys[m-1]>>low > k>>low; m-- {
			keys[m] = keys[m-1]
		}
		keys[m] = k
	}
}
