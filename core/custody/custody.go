// Package custody proves that the record of who did what is whole: each entry has the hash of the entry before it in its own hash, and the last hash is
// signed. Entries that were changed, left out, added or put in another order are noticed, and so is an end that was cut off.
package custody

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"

	"wraithology/core/fault"
)

// Entry is what somebody did, or read.
type Entry struct {
	Number int64     `json:"number"` // 1 for the first of a record
	At     time.Time `json:"at"`     // to the microsecond; of what was read, the minute
	By     string    `json:"by"`     // the name at that time
	What   string    `json:"what"`
	IsRead bool      `json:"read,omitempty"`
	Hash   Hash      `json:"hash"`
}

// Hash is a SHA-256, in hexadecimal digits as text.
type Hash []byte

// MarshalText implements encoding.TextMarshaler.
func (h Hash) MarshalText() ([]byte, error) { return []byte(h.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (h *Hash) UnmarshalText(text []byte) error {
	b, err := hex.DecodeString(string(text))
	if err != nil || len(b) > sha256.Size {
		return fault.InvalidCustody.New("", "invalid hash %.80q: expected hexadecimal digits", text)
	}
	*h = b
	return nil
}

func (h Hash) String() string { return hex.EncodeToString(h) }

// Sum returns the hash of an entry of a record after the hash of the entry before it, which is empty for the first one. It is the SHA-256 of lines:
// a version, the record, the number, microseconds since 1970, whether it was read, the hash before, and the name with its length; the rest is what was
// done. docs/formats/custody.md describes it; migration 00018 computes the same in SQL.
func (e Entry) Sum(record int64, before Hash) Hash {
	var b bytes.Buffer
	kind := "change"
	if e.IsRead {
		kind = "read"
	}
	fmt.Fprintf(&b, "wraith-custody-1\n%d\n%d\n%d\n%s\n%s\n%d:%s\n%s", record, e.Number, e.At.UnixMicro(), kind, before, len(e.By), e.By, e.What)
	sum := sha256.Sum256(b.Bytes())
	return sum[:]
}

// Head is the end of a record at a time: the number of its last entry, 0 for none, and the hash of that.
type Head struct {
	Service string    `json:"service"` // identity of the service
	Record  int64     `json:"record"`  // of a case of the service; 0 is the service's own
	Case    string    `json:"case"`    // name of the case; empty if it is not known
	Number  int64     `json:"number"`
	Hash    Hash      `json:"hash"`
	At      time.Time `json:"at"` // when it was signed, to the microsecond
	// Signature is Ed25519 (RFC 8032) of what signed returns.
	Signature []byte `json:"signature"`
}

func (h Head) signed() []byte {
	return []byte(fmt.Sprintf("wraith-custody-head-1\n%q\n%d\n%q\n%d\n%s\n%d", h.Service, h.Record, h.Case, h.Number, h.Hash, h.At.UnixMicro()))
}

// Sign signs a head.
func (h Head) Sign(key ed25519.PrivateKey) Head {
	h.Signature = ed25519.Sign(key, h.signed())
	return h
}

// Check returns an error if a head is not signed by a key.
func (h Head) Check(key ed25519.PublicKey) error {
	if len(key) != ed25519.PublicKeySize || !ed25519.Verify(key, h.signed(), h.Signature) {
		return fault.InvalidCustody.New("", "the head of the record, entry %d, is not signed by the key", h.Number)
	}
	return nil
}

// Chain follows the entries of a record, oldest first.
type Chain struct {
	Record int64
	// Signed are heads that the record must have had, by their number.
	Signed map[int64]Head
	Number int64 // of the last entry
	Hash   Hash
}

// Add checks the next entry.
func (c *Chain) Add(e Entry) error {
	switch {
	case e.Number != c.Number+1:
		return fault.InvalidCustody.New("", "entry %d comes after entry %d: entries are missing, or in another order", e.Number, c.Number)
	case !bytes.Equal(e.Sum(c.Record, c.Hash), e.Hash):
		return fault.InvalidCustody.New("", "entry %d was changed, or comes from another record", e.Number)
	}
	c.Number, c.Hash = e.Number, e.Hash
	if h, ok := c.Signed[e.Number]; ok && !bytes.Equal(h.Hash, e.Hash) {
		return fault.InvalidCustody.New("", "entry %d is not the one that was signed on %s: the record was made again", e.Number, h.At.UTC().Format(time.RFC3339))
	}
	return nil
}

// End checks that no signed head is after the last entry.
func (c *Chain) End() error {
	for number, h := range c.Signed {
		if number > c.Number {
			return fault.InvalidCustody.New("", "the record ends with entry %d; on %s it had %d: entries were removed", c.Number, h.At.UTC().Format(time.RFC3339), number)
		}
	}
	return nil
}
