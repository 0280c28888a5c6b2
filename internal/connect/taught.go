package connect

import "context"

// Lesson is the file that taught a kind of target, and the conversations that were recorded beside it.
type Lesson struct {
	File       string
	Text       string
	Recordings []Recorded
	Faults     []string // what is wrong with them, as they were tried when they were read
	Turns      int      // of recordings, that were tried
	Attacks    int      // hostile values that were
	SignsIn    string   // how it comes to a target and where it types our secret: two that say the same type it in the same places
}

// Recorded is one recording.
type Recorded struct{ File, Text string }

// SignsInBySSH is what a dialect says of itself whose secret SSH alone is told.
const SignsInBySSH = "ssh"

// Pupil is a connector that is taught by a file, to be tried before anybody relies on it.
type Pupil interface {
	Connector
	// Record looks at a target, changes nothing, and returns the conversation as a recording, with our secret struck out. Where
	// an answer was not understood the error says which line of what.
	Record(ctx context.Context, a Access) ([]byte, error)
}

// Teach makes a connector of a file; what is wrong with the file is its error.
type Teach func(name string, text []byte) (Pupil, error)
