package reach

import (
	"crypto/sha256"
	"encoding/binary"
	"time"
)

// VisitPath is where the tool visits the server by the address that people use from outside.
const VisitPath = "/visit/"

// What a visit is sent.
const (
	VisitSize     = 1 << 20 // bytes
	VisitEvents   = 4
	VisitPause    = 250 * time.Millisecond // between two events
	VisitPatience = 75 * time.Second       // until the answer comes that takes long
)

// VisitData is what a visit is sent: bytes that follow from its token, and cannot be compressed.
func VisitData(token string) []byte {
	out := make([]byte, 0, VisitSize)
	for n := uint64(0); len(out) < VisitSize; n++ {
		sum := sha256.Sum256(binary.BigEndian.AppendUint64([]byte(token), n))
		out = append(out, sum[:]...)
	}
	return out
}
