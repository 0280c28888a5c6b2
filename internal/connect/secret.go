package connect

import (
	"fmt"
	"log/slog"
)

// Secret is a value that only a target may see: a password, a private key. It
// prints as (sealed), whatever it is printed with; Reveal is the only way to it.
type Secret struct{ value []byte }

// Seal makes a secret of a value, which the caller gives up.
func Seal(value []byte) Secret { return Secret{value} }

// Reveal is the value. It must go nowhere but to the target.
func (s Secret) Reveal() []byte { return s.value }

// Empty says whether there is no value.
func (s Secret) Empty() bool { return len(s.value) == 0 }

const sealed = "(sealed)"

// Format implements fmt.Formatter: no verb shows the value.
func (Secret) Format(f fmt.State, _ rune) { _, _ = f.Write([]byte(sealed)) }

// LogValue implements slog.LogValuer.
func (Secret) LogValue() slog.Value { return slog.StringValue(sealed) }

// MarshalText keeps the value out of JSON, YAML and the like.
func (Secret) MarshalText() ([]byte, error) { return []byte(sealed), nil }
