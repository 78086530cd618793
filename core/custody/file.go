package custody

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"iter"

	"wraithology/core/fault"
)

// Format is that of an exported record.
const Format = "wraith-custody-1"

// Header is the first line of an exported record. Key is that which signed the head (PKIX, DER).
type Header struct {
	Format string `json:"format"`
	Head   Head   `json:"head"`
	Key    []byte `json:"key"`
}

// Public returns the key that signed the head.
func (h Header) Public() (ed25519.PublicKey, error) { return parsePublic(h.Key) }

func parsePublic(der []byte) (ed25519.PublicKey, error) {
	any, err := x509.ParsePKIXPublicKey(der)
	key, ok := any.(ed25519.PublicKey)
	if err != nil || !ok {
		return nil, fault.InvalidCustody.New("", "the key is not a public Ed25519 key")
	}
	return key, nil
}

// PublicPEM returns a public key as a file has it.
func PublicPEM(key ed25519.PublicKey) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: PublicDER(key)})
}

// PublicDER returns a public key as a header has it.
func PublicDER(key ed25519.PublicKey) []byte {
	der, err := x509.MarshalPKIXPublicKey(key)
	if err != nil {
		panic(err) // only for kinds of keys that it does not know
	}
	return der
}

// ParsePublicPEM reads a public key of a file.
func ParsePublicPEM(text []byte) (ed25519.PublicKey, error) {
	block, _ := pem.Decode(text)
	if block == nil || block.Type != "PUBLIC KEY" {
		return nil, fault.InvalidCustody.New("use the file that wraithd custody key prints", "the file is not a public key in PEM")
	}
	return parsePublic(block.Bytes)
}

// Write writes a record as JSON Lines: the header, then the entries, oldest first.
func Write(w io.Writer, h Header, entries iter.Seq2[Entry, error]) error {
	h.Format = Format
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	if err := out.Encode(h); err != nil {
		return fmt.Errorf("write the record: %w", err)
	}
	for e, err := range entries {
		if err == nil {
			err = out.Encode(e)
		}
		if err != nil {
			return fmt.Errorf("write the record: %w", err)
		}
	}
	return nil
}

// longestLine limits a line of an exported record, in bytes.
const longestLine = 1 << 20

// Verify reads an exported record and checks that it is whole and signed by the key, or by that in the file if it is nil. It returns the header, and how
// many entries were changes. The error wraps fault.InvalidCustody.
func Verify(r io.Reader, key ed25519.PublicKey) (h Header, changes int64, err error) {
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, longestLine)
	if !lines.Scan() || unmarshal(lines.Bytes(), &h) != nil || h.Format != Format {
		return h, 0, errors.Join(lines.Err(), fault.InvalidCustody.New("use a file that wraith case custody --output wrote", "the file is not an exported record: its first line is not a header of %s", Format))
	}
	public, err := h.Public()
	if err != nil {
		return h, 0, err
	}
	if key != nil && !key.Equal(public) {
		return h, 0, fault.InvalidCustody.New("get the key of the service that exported it from whoever operates that", "the record is signed by another key")
	}
	if err := h.Head.Check(public); err != nil {
		return h, 0, err
	}
	chain := Chain{Record: h.Head.Record, Signed: map[int64]Head{h.Head.Number: h.Head}}
	for lines.Scan() {
		var e Entry
		if err := unmarshal(lines.Bytes(), &e); err != nil {
			return h, changes, fault.InvalidCustody.New("", "line after entry %d: %w", chain.Number, err)
		}
		if err := chain.Add(e); err != nil {
			return h, changes, err
		}
		if !e.IsRead {
			changes++
		}
	}
	if err := lines.Err(); err != nil {
		return h, changes, fault.InvalidCustody.New("", "line after entry %d, at most %d bytes: %w", chain.Number, longestLine, err)
	}
	if chain.Number > h.Head.Number {
		return h, changes, fault.InvalidCustody.New("", "entry %d comes after the signed end, entry %d", chain.Number, h.Head.Number)
	}
	return h, changes, chain.End()
}

// unmarshal reads a line, with the fields that it should have and no others.
func unmarshal(line []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(line))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return err
	}
	if rest, err := io.ReadAll(d.Buffered()); err != nil || len(bytes.TrimSpace(rest)) > 0 {
		return errors.Join(err, errors.New("more than one value on a line"))
	}
	return nil
}
