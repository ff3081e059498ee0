// Package rtmp is what is needed of RTMP 1.0 to send a picture to a live platform and to take one in: the plain handshake, the chunk
// stream, AMF0 commands, and H.264 with AAC in FLV tags. It is small on purpose: play, shared objects and encryption are not here.
package rtmp

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
)

// AMF0 markers (Action Message Format 0 §2.1).
const (
	markNumber  = 0
	markBoolean = 1
	markString  = 2
	markObject  = 3
	markNull    = 5
	markUndef   = 6
	markMap     = 8
	markEnd     = 9
	markArray   = 10
)

// Limits on a command.
const (
	maxAMFDepth  = 8
	maxAMFFields = 256
)

var errAMF = errors.New("a command that cannot be read (AMF0)")

// An Object is an AMF0 object; its values are float64, bool, string, Object, []any or nil.
type Object map[string]any

// appendAMF appends values in AMF0. The keys of an object are written in the order of keys, those that are left out not at all.
func appendAMF(b []byte, values ...any) []byte {
	for _, v := range values {
		switch v := v.(type) {
		case float64:
			b = binary.BigEndian.AppendUint64(append(b, markNumber), math.Float64bits(v))
		case int:
			b = binary.BigEndian.AppendUint64(append(b, markNumber), math.Float64bits(float64(v)))
		case bool:
			b = append(b, markBoolean, map[bool]byte{true: 1}[v])
		case string:
			b = appendText(append(b, markString), v)
		case Object:
			b = append(b, markObject)
			for _, k := range sortedKeys(v) {
				b = appendAMF(appendText(b, k), v[k])
			}
			b = append(b, 0, 0, markEnd)
		default:
			b = append(b, markNull)
		}
	}
	return b
}

func appendText(b []byte, s string) []byte {
	s = s[:min(len(s), math.MaxUint16)]
	return append(binary.BigEndian.AppendUint16(b, uint16(len(s))), s...)
}

// readAMF reads all values of a command; more than maxAMFFields of them, or deeper than maxAMFDepth, is an error.
func readAMF(b []byte) (out []any, err error) {
	left := maxAMFFields
	for len(b) > 0 {
		var v any
		if v, b, err = amfValue(b, 0, &left); err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

func amfText(b []byte) (string, []byte, error) {
	if len(b) < 2 {
		return "", nil, errAMF
	}
	n := int(binary.BigEndian.Uint16(b))
	if len(b) < 2+n {
		return "", nil, errAMF
	}
	return string(b[2 : 2+n]), b[2+n:], nil
}

func amfValue(b []byte, depth int, left *int) (any, []byte, error) {
	if *left--; len(b) == 0 || depth > maxAMFDepth || *left < 0 {
		return nil, nil, errAMF
	}
	mark, b := b[0], b[1:]
	switch mark {
	case markNumber:
		if len(b) < 8 {
			return nil, nil, errAMF
		}
		return math.Float64frombits(binary.BigEndian.Uint64(b)), b[8:], nil
	case markBoolean:
		if len(b) < 1 {
			return nil, nil, errAMF
		}
		return b[0] != 0, b[1:], nil
	case markString:
		return wrap(amfText(b))
	case markNull, markUndef:
		return nil, b, nil
	case markMap, markArray:
		if len(b) < 4 {
			return nil, nil, errAMF
		}
		n := binary.BigEndian.Uint32(b)
		if mark == markMap {
			return amfObject(b[4:], depth, left)
		}
		b = b[4:]
		var list []any
		for range n {
			var v any
			var err error
			if v, b, err = amfValue(b, depth+1, left); err != nil {
				return nil, nil, err
			}
			list = append(list, v)
		}
		return list, b, nil
	case markObject:
		return amfObject(b, depth, left)
	}
	return nil, nil, fmt.Errorf("%w: marker %d", errAMF, mark)
}

func wrap(s string, b []byte, err error) (any, []byte, error) { return s, b, err }

func amfObject(b []byte, depth int, left *int) (any, []byte, error) {
	out := Object{}
	for {
		k, rest, err := amfText(b)
		if err != nil {
			return nil, nil, err
		}
		if k == "" && len(rest) > 0 && rest[0] == markEnd {
			return out, rest[1:], nil
		}
		if out[k], b, err = amfValue(rest, depth+1, left); err != nil {
			return nil, nil, err
		}
	}
}
