package pause

import (
	"context"
	"errors"
	"testing"
	"time"
)

func TestAfter(t *testing.T) {
	g := Growing{First: 8 * time.Second, Most: time.Minute}
	for tries, want := range map[int]time.Duration{0: 8 * time.Second, 1: 8 * time.Second, 2: 16 * time.Second, 3: 32 * time.Second,
		4: time.Minute, 40: time.Minute, 400: time.Minute} {
		for range 100 {
			if d := g.After(tries); d < want/2 || d > want {
				t.Fatalf("after %d: %s, want at most %s", tries, d, want)
			}
		}
	}
}

func TestRetry(t *testing.T) {
	g, odd := Growing{time.Microsecond, time.Millisecond}, errors.New("odd")
	n := 0
	if err := g.Retry(context.Background(), func(try int) (bool, error) { n++; return try < 3, odd }); n != 3 || err != odd {
		t.Errorf("%d tries, %v", n, err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	if err := (Growing{time.Hour, time.Hour}).Retry(ctx, func(int) (bool, error) { cancel(); return true, odd }); err != context.Canceled {
		t.Errorf("%v", err)
	}
}
