package evidence

import (
	"encoding/json"
	"errors"
	"fmt"
)

// version is the form in which bodies are written. A record without a version was written before there were versions and has the form
// of version 1. A change of a body that makes old ones unreadable, or read them wrongly, raises it and adds a step to upgrades; the
// files in testdata hold bodies of every version and are never changed.
const version = 2

// upgrades[n] brings the body of a kind from version n to n+1. A kind that is not listed has the same form in both.
var upgrades = map[int]map[Kind]func(json.RawMessage) (json.RawMessage, error){
	1: {KindLocated: locatedFrom1, KindChannels: channelsFrom1, KindPlaced: placedFrom1, KindConfirmed: confirmedFrom1},
}

// An Unreadable is the error for a record whose body this program cannot read. Nothing is lost: the record stays as it is.
type Unreadable struct {
	Kind Kind
	Err  error
}

func (e *Unreadable) Error() string {
	return fmt.Sprintf("a record of the kind %q cannot be read: %v", e.Kind, e.Err)
}

func (e *Unreadable) Unwrap() error { return e.Err }

// ErrNewer is for a record that a later version of Unlatch has written.
var ErrNewer = errors.New("a newer version of Unlatch has written it")

var errKind = errors.New("there is no such kind")

// Encode writes a body with its version: a JSON object whose member v is the version.
func Encode(b Body) (json.RawMessage, error) {
	raw, err := json.Marshal(b)
	if err != nil {
		return nil, err
	}
	out := fmt.Appendf(nil, `{"v":%d`, version)
	if len(raw) > len("{}") {
		out = append(out, ',')
	}
	return append(out, raw[1:]...), nil
}

// Decode reads the body of a record. The error is an *Unreadable.
func Decode[T Body](r Record) (T, error) {
	var out T
	if out.kind() != r.Kind {
		return out, &Unreadable{r.Kind, fmt.Errorf("it was read as %q", out.kind())}
	}
	raw, err := current(r)
	if err == nil {
		err = json.Unmarshal(raw, &out)
	}
	if err != nil {
		var zero T
		return zero, &Unreadable{r.Kind, err}
	}
	return out, nil
}

// current returns the record's body in the form of this version.
func current(r Record) (json.RawMessage, error) {
	var at struct {
		V int `json:"v"`
	}
	if err := json.Unmarshal(r.Body, &at); err != nil {
		return nil, err
	}
	if at.V > version {
		return nil, fmt.Errorf("%w (form %d; this one reads up to %d)", ErrNewer, at.V, version)
	}
	raw := r.Body
	for v := max(at.V, 1); v < version; v++ {
		if step := upgrades[v][r.Kind]; step != nil {
			var err error
			if raw, err = step(raw); err != nil {
				return nil, fmt.Errorf("from form %d to %d: %w", v, v+1, err)
			}
		}
	}
	return raw, nil
}

// Read reads the body of a record of any kind. The error is an *Unreadable.
func (r Record) Read() (Body, error) {
	read, ok := readers[r.Kind]
	if !ok {
		return nil, &Unreadable{r.Kind, errKind}
	}
	return read(r)
}

var readers = map[Kind]func(Record) (Body, error){
	KindHeard:     reader[Heard],
	KindLeft:      reader[Left],
	KindReached:   reader[Reached],
	KindSignedIn:  reader[SignedIn],
	KindLocated:   reader[Located],
	KindProof:     reader[Proof],
	KindPlaced:    reader[Placed],
	KindConfirmed: reader[Confirmed],
	KindAddressed: reader[Addressed],
	KindChannels:  reader[Channels],
	KindStreamKey: reader[StreamKey],
	KindPicture:   reader[Picture],
	KindWeb:       reader[Web],
	KindPin:       reader[Pin],
	KindFix:       reader[Fix],
	KindScheme:    reader[Scheme],
	KindClaimed:   reader[Claimed],
	KindTuned:     reader[Tuned],
	KindOffers:    reader[Offers],
	KindMarked:    reader[Marked],
	KindWalked:    reader[Walked],
	KindByHand:    reader[StreamByHand],
	KindInPack:    reader[InPack],
	KindOutside:   reader[Outside],
	KindView:      reader[View],
	KindCommanded: reader[Commanded],
	KindMulticast: reader[Multicast],

	KindOpenedUnder: reader[OpenedUnder],
}

func reader[T Body](r Record) (Body, error) { return Decode[T](r) }

// Rewrite passes the encoded body through f, which takes secrets out of it, and reads it again.
func Rewrite(b Body, f func([]byte) []byte) (Body, error) {
	raw, err := Encode(b)
	if err != nil {
		return nil, err
	}
	return Record{Kind: b.kind(), Body: f(raw)}.Read()
}
