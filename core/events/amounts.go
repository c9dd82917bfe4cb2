package events

import (
	"iter"
	"math"
	"math/bits"
	"slices"
	"sort"
	"sync"

	"entelon/core/measure"
	"entelon/core/parallel"
)

// amounts are the amounts of rows. They are kept as they come and counted in narrow buckets, so that a
// percentile needs those of one bucket in order, and not all of them.
type amounts struct {
	count, total      int64
	smallest, largest int64
	bucket            [buckets]int64
	blocks            [][]int64
}

const (
	// bucketBits is how finely a power of two is parted: in 64, so that a bucket is 1.6 % wide.
	bucketBits = 6
	buckets    = 1 + (64-bucketBits)<<bucketBits + 1
	blockRows  = 1 << 15
)

// bucketOf is the bucket of an amount. What is below 0 is in the first one.
func bucketOf(v int64) int {
	if v < 0 {
		return 0
	}
	shift := bits.Len64(uint64(v)) - bucketBits - 1
	if shift <= 0 {
		return 1 + int(v)
	}
	return 1 + shift<<bucketBits + int(v>>shift)
}

func (a *amounts) add(v int64) {
	if a.count == 0 {
		a.smallest, a.largest = v, v
	}
	a.smallest, a.largest = min(a.smallest, v), max(a.largest, v)
	a.count++
	a.total += v
	a.bucket[bucketOf(v)]++
	n := len(a.blocks) - 1
	if n < 0 || len(a.blocks[n]) == blockRows {
		size := blockRows
		if n < 0 {
			size = 256 // there are often few
		}
		a.blocks = append(a.blocks, make([]int64, 0, size))
		n++
	}
	a.blocks[n] = append(a.blocks[n], v)
}

func (a *amounts) join(o *amounts) {
	if o.count == 0 {
		return
	}
	if a.count == 0 {
		a.smallest, a.largest = o.smallest, o.largest
	}
	a.smallest, a.largest = min(a.smallest, o.smallest), max(a.largest, o.largest)
	a.count, a.total = a.count+o.count, a.total+o.total
	for i, n := range o.bucket {
		a.bucket[i] += n
	}
	a.blocks = append(a.blocks, o.blocks...)
}

// counted are amounts of which the buckets that were asked for are in order.
type counted struct {
	*amounts
	in map[int][]int64 // by bucket
}

// settle puts the amounts of the buckets in order that percentiles of these shares, and bounds, fall into.
func (a *amounts) settle(shares []float64, bounds []int64) counted {
	out := counted{a, map[int][]int64{}}
	var slot [buckets]int16 // 1 more than the position among what is gathered
	var asked []int
	ask := func(bucket int) {
		if slot[bucket] == 0 && a.bucket[bucket] > 0 {
			asked = append(asked, bucket)
			slot[bucket] = int16(len(asked))
		}
	}
	for _, share := range shares {
		bucket, _ := a.at(share)
		ask(bucket)
	}
	for _, bound := range bounds {
		ask(bucketOf(bound))
	}
	gathered := make([][]int64, len(asked))
	var mu sync.Mutex
	parallel.PiecesFrom(8, len(a.blocks), func(pieces iter.Seq2[int, int]) {
		mine := make([][]int64, len(asked))
		for low, high := range pieces {
			for _, b := range a.blocks[low:high] {
				for _, v := range b {
					if n := slot[bucketOf(v)]; n > 0 {
						mine[n-1] = append(mine[n-1], v)
					}
				}
			}
		}
		mu.Lock()
		defer mu.Unlock()
		for n := range mine {
			gathered[n] = append(gathered[n], mine[n]...)
		}
	})
	for n, bucket := range asked {
		slices.Sort(gathered[n])
		out.in[bucket] = gathered[n]
	}
	return out
}

// at is where the rank of a share of the amounts is: in which bucket, and the how manieth of that.
func (a *amounts) at(share float64) (bucket int, rank int64) {
	rank = max(0, int64(math.Ceil(share*float64(a.count)))-1)
	for i, n := range a.bucket {
		if rank < n {
			return i, rank
		}
		rank -= n
	}
	return 0, 0
}

// atMost is a percentile by nearest rank: the smallest amount that so large a share of rows does not
// exceed. It was asked for.
func (a counted) atMost(share float64) int64 {
	bucket, rank := a.at(share)
	return a.in[bucket][rank]
}

// boundsOf are where steps of amounts begin that grow with them: of times 1, 2, 5, 10, 20, 50 … ns, of bytes
// powers of two, up to one that is larger than all, if there is such a number.
func (a *amounts) boundsOf(unit measure.Unit) []int64 {
	bounds := []int64{0}
	for to := int64(1); bounds[len(bounds)-1] <= a.largest; {
		bounds = append(bounds, to)
		larger := next(to, unit)
		if larger <= to { // there are no larger numbers
			break
		}
		to = larger
	}
	return bounds
}

// sizes counts amounts in steps between bounds, which were asked for. Steps without any between others are
// there, too. What is below 0 is one step.
func (a counted) sizes(bounds []int64) (out []Size) {
	if a.bucket[0] > 0 {
		out = append(out, Size{a.smallest, 0, a.bucket[0]})
	}
	before := func(bound int64) (n int64) { // how many are from 0 on, and below
		bucket := bucketOf(bound)
		for _, of := range a.bucket[1:bucket] {
			n += of
		}
		return n + int64(sort.Search(len(a.in[bucket]), func(i int) bool { return a.in[bucket][i] >= bound }))
	}
	all, below := a.count-a.bucket[0], int64(0)
	for n, bound := range bounds {
		to, upTo := bound, all
		if n+1 < len(bounds) {
			to = bounds[n+1]
			upTo = before(to)
		}
		if rows := upTo - below; rows > 0 || len(out) > 0 {
			out = append(out, Size{bound, to, rows})
		}
		below = upTo
	}
	for len(out) > 0 && out[len(out)-1].Rows == 0 {
		out = out[:len(out)-1]
	}
	return out
}
