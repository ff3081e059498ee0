package handover

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"math"
	"time"

	"unlatch/core/ground/wiretext"
)

// A SignOff is that somebody signs a version of the pack. It stands beside the manifest, which it names by its hash.
type SignOff struct {
	Pack    string    `json:"pack"` // hash of the manifest
	Name    string    `json:"name"`
	At      time.Time `json:"at"`
	Account string    `json:"account"` // under which it was signed
	Strokes []Stroke  `json:"strokes"` // the drawn signature
	Hash    string    `json:"hash"`    // of this sign-off, with Hash empty
}

// A Stroke is one movement of the pen: x and y in turn, from 0 to 1 of the field.
type Stroke []float64

// Bounds of a signature.
const (
	mostStrokes = 200
	mostPoints  = 5000
	longestSign = 120
)

// ErrNoSignature is for a field in which nothing was drawn.
var ErrNoSignature = errors.New("nothing was drawn into the field for the signature")

// Sign makes a sign-off of a pack.
func Sign(pack, name, account string, at time.Time, strokes []Stroke) (SignOff, error) {
	s := SignOff{Pack: pack, Name: wiretext.Line(name, longestSign), Account: account, At: at.UTC().Truncate(time.Second), Strokes: strokes}
	if s.Name == "" {
		return s, errors.New("the name is missing")
	}
	points := 0
	for _, x := range strokes {
		if len(x)%2 != 0 {
			return s, errors.New("a stroke has an x without a y")
		}
		points += len(x) / 2
		for i, v := range x {
			if math.IsNaN(v) || v < 0 || v > 1 {
				return s, errors.New("a stroke leaves the field")
			}
			x[i] = math.Round(v*1e4) / 1e4
		}
	}
	if points < 2 {
		return s, ErrNoSignature
	}
	if len(strokes) > mostStrokes || points > mostPoints {
		return s, errors.New("the signature is too long")
	}
	s.Hash = s.sum()
	return s, nil
}

func (s SignOff) sum() string {
	s.Hash = ""
	raw, _ := json.Marshal(s)
	h := sha256.Sum256(raw)
	return hex.EncodeToString(h[:])
}

// Write returns the sign-off as sign-off.json.
func (s *SignOff) Write() ([]byte, error) {
	raw, err := json.MarshalIndent(s, "", " ")
	return append(raw, '\n'), err
}

// ReadSignOff reads a sign-off of the pack whose manifest has a hash.
func ReadSignOff(raw []byte, pack string) (s SignOff, err error) {
	d := json.NewDecoder(bytes.NewReader(raw))
	d.DisallowUnknownFields()
	if err := d.Decode(&s); err != nil {
		return s, errors.New("it does not have the form of a sign-off")
	}
	if s.sum() != s.Hash {
		return s, errors.New("it was changed after it was signed")
	}
	if s.Pack != pack {
		return s, errors.New("another version of the pack was signed")
	}
	return s, nil
}
