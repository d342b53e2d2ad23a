// Package wire reads and writes the data types of RFC 4251 section 5 of which keys are made.
package wire

import (
	"encoding/binary"
	"errors"
	"math/big"
)

// ErrShort is what a Reader keeps where the data ends too early.
var ErrShort = errors.New("the key data ends too early")

// Reader reads from Rest and keeps the first error.
type Reader struct {
	Rest []byte
	Err  error
}

// Str reads a string: a length of four bytes, and so many bytes.
func (r *Reader) Str() []byte {
	n := r.Uint32()
	if r.Err == nil && uint64(n) > uint64(len(r.Rest)) {
		r.Err = ErrShort
	}
	if r.Err != nil {
		return nil
	}
	s := r.Rest[:n]
	r.Rest = r.Rest[n:]
	return s
}

// Mpint reads a positive number in its one shortest form.
func (r *Reader) Mpint() *big.Int {
	b := r.Str()
	if r.Err != nil {
		return nil
	}
	if len(b) == 0 || b[0]&0x80 != 0 || b[0] == 0 && (len(b) == 1 || b[1]&0x80 == 0) {
		r.Err = errors.New("a number in the key is not positive and in its shortest form")
		return nil
	}
	return new(big.Int).SetBytes(b)
}

// Uint32 reads a number of four bytes.
func (r *Reader) Uint32() uint32 {
	if r.Err != nil {
		return 0
	}
	if len(r.Rest) < 4 {
		r.Err = ErrShort
		return 0
	}
	v := binary.BigEndian.Uint32(r.Rest)
	r.Rest = r.Rest[4:]
	return v
}

// Writer writes to Bytes.
type Writer struct{ Bytes []byte }

// Str writes a string with its length.
func (w *Writer) Str(s []byte) {
	w.Bytes = binary.BigEndian.AppendUint32(w.Bytes, uint32(len(s)))
	w.Bytes = append(w.Bytes, s...)
}

// Mpint writes a positive number in its shortest form.
func (w *Writer) Mpint(n *big.Int) {
	b := n.Bytes()
	if len(b) > 0 && b[0]&0x80 != 0 {
		b = append([]byte{0}, b...)
	}
	w.Str(b)
}
