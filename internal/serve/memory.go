package serve

import (
	"context"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// A declaration stays in memory; what reading and comparing leave behind need not
// pile up to as much again. Up to enough the collector lets garbage be, beyond it
// works harder: never so hard that it would have to work all the time, however
// much there is to keep.
const (
	enough   = 360 << 20 // bytes
	headroom = 2.0       // of what is kept, at least
)

// Tidy keeps the memory of a process that serves in bounds, until ctx ends.
func Tidy(ctx context.Context) {
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	for {
		metrics.Read(live)
		if live[0].Value.Kind() == metrics.KindUint64 {
			debug.SetMemoryLimit(max(enough, int64(float64(live[0].Value.Uint64())*headroom)))
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(200 * time.Millisecond):
		}
	}
}
