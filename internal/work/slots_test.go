package work

import (
	"context"
	"net"
	"testing"
	"time"

	"hen-roost/internal/connect"
)

func TestSlots(t *testing.T) {
	s := NewSlots(3, map[string]int{"directory": 1})
	var first *Slot
	for i, c := range []struct {
		kind string
		want bool
	}{{"directory", true}, {"directory", false}, {"host", true}, {"host", true}, {"host", false}} {
		got := s.Try(c.kind, nil)
		if (got != nil) != c.want {
			t.Errorf("%d: %s %v", i, c.kind, got)
		}
		if i == 0 {
			first = got
		}
	}
	first.Leave()
	first.Leave()
	if s.Try("host", nil) == nil || s.Try("directory", nil) != nil {
		t.Error("a slot that was given back is not free, or is free for too many")
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := s.Take(ctx, "host"); err == nil || len(s.queues[fresh]) != 0 {
		t.Errorf("who waits no longer is still in the queue: %v", err)
	}
}

// A target that takes the connection and says nothing costs the others no slot; when it answers it comes first.
func TestSilentTargetsHoldNoSlot(t *testing.T) {
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	s := NewSlots(1, nil)
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	told := make(chan struct{})
	sleeper := s.Try("host", func() { close(told) })
	c, err := sleeper.Through(connect.Access{Address: silent.Addr().String()}).Connect(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	<-told
	other, err := s.Take(ctx, "host") // the only slot there is
	if err != nil {
		t.Fatal(err)
	}
	peer, err := silent.Accept()
	if err != nil {
		t.Fatal(err)
	}
	read := make(chan error)
	go func() {
		_, err := c.Read(make([]byte, 1))
		read <- err
	}()
	if _, err := peer.Write([]byte("x")); err != nil {
		t.Fatal(err)
	}
	later := make(chan *Slot)
	go func() { x, _ := s.Take(ctx, "host"); later <- x }()
	for waiting := false; !waiting; {
		s.mu.Lock()
		waiting = len(s.queues[answered]) == 1 && len(s.queues[fresh]) == 1
		s.mu.Unlock()
	}
	other.Leave()
	if err := <-read; err != nil || s.n != 1 || s.silent != 0 {
		t.Fatalf("%v, %d slots in use, %d silent", err, s.n, s.silent)
	}
	sleeper.Leave()
	(<-later).Leave()
	if s.n != 0 {
		t.Errorf("%d slots are still in use", s.n)
	}
}

// A target that has its slot for long gives it to those who wait, and goes on beside them.
func TestTired(t *testing.T) {
	s := NewSlots(1, nil)
	s.tires = 10 * time.Millisecond
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	slow, err := s.Take(ctx, "host")
	if err != nil {
		t.Fatal(err)
	}
	other, err := s.Take(ctx, "host")
	if err != nil {
		t.Fatalf("whoever waits is never served: %v", err)
	}
	if err := slow.Work(ctx); err != nil {
		t.Errorf("the slow one may not go on: %v", err)
	}
	slow.Leave()
	other.Leave()
	if s.n != 0 || s.slow != 0 {
		t.Errorf("%d slots and %d slow targets are left", s.n, s.slow)
	}
}
