// Package address holds the addresses a site may use: its authorised ranges, the scope guard that
// keeps every connection inside them, and what this machine's own interfaces suggest.
//
// A range is kept as a first and a last address and not as prefixes, because a span that a person typed loses its meaning when
// it is cut into prefixes: each of them would have a network and a broadcast address that the span does not have.
package address

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"math"
	"math/bits"
	"net/netip"
	"strings"
)

// LargestUnasked is the number of addresses that a sweep takes on without asking first: a /16.
const LargestUnasked = 1 << 16

// Ranges is a set of addresses, kept as it was typed: a prefix, which has a network and a broadcast address, or a span from a
// first to a last address, which has neither. The zero value contains nothing.
type Ranges struct {
	spans []span
}

// A span is every address from first to last.
type span struct {
	first, last netip.Addr
	prefix      bool // typed as a prefix
}

func (s span) contains(a netip.Addr) bool {
	return a.BitLen() == s.first.BitLen() && !a.Less(s.first) && !s.last.Less(a)
}

// count returns the number of addresses, at most the largest uint64.
func (s span) count() uint64 {
	a, b := s.first.As16(), s.last.As16()
	high := binary.BigEndian.Uint64(b[:8]) - binary.BigEndian.Uint64(a[:8])
	low, borrow := bits.Sub64(binary.BigEndian.Uint64(b[8:]), binary.BigEndian.Uint64(a[8:]), 0)
	if high-borrow != 0 || low == math.MaxUint64 {
		return math.MaxUint64
	}
	return low + 1
}

func (s span) String() string {
	switch {
	case s.first == s.last:
		return s.first.String()
	case s.prefix:
		return s.asPrefix().String()
	}
	return s.first.String() + "-" + s.last.String()
}

// asPrefix returns the prefix that a span was typed as.
func (s span) asPrefix() netip.Prefix { return spanPrefixes(s.first, s.last)[0] }

// A RangeError says which of several typed ranges cannot be used, and what to type instead.
type RangeError struct {
	Input   string
	Problem string
	Fix     string
}

func (e *RangeError) Error() string {
	return fmt.Sprintf("range %q %s; %s", e.Input, e.Problem, e.Fix)
}

// A TooManyError is returned for ranges that hold more addresses than a person usually means.
type TooManyError struct {
	Count uint64
}

func (e *TooManyError) Error() string {
	return fmt.Sprintf("these ranges hold %s addresses; confirm the number, or type a smaller range", Grouped(e.Count))
}

// Parse reads ranges typed by a person. Each item is a CIDR prefix ("192.0.2.0/24"), one address
// ("192.0.2.7"), or a first and last address ("192.0.2.10-192.0.2.40", or short "192.0.2.10-40").
// Items may hold several ranges parted by commas, semicolons or blanks. The first bad one is
// returned as a *RangeError and nothing is dropped silently.
func Parse(items ...string) (Ranges, error) {
	var all []span
	for _, item := range items {
		fields := strings.FieldsFunc(item, func(r rune) bool {
			return r == ',' || r == ';' || r == ' ' || r == '\n' || r == '\t' || r == '\r'
		})
		for _, field := range fields {
			one, err := parseOne(field)
			if err != nil {
				return Ranges{}, err
			}
			all = append(all, one)
		}
	}
	if len(all) > 1024 {
		return Ranges{}, &RangeError{Input: fmt.Sprint(len(all), " ranges"), Problem: "are too many", Fix: "join them into larger ones"}
	}
	return Ranges{spans: all}, nil
}

// MustParse is Parse for ranges known to be good; it panics on a bad one.
func MustParse(items ...string) Ranges {
	r, err := Parse(items...)
	if err != nil {
		panic(err)
	}
	return r
}

func parseOne(field string) (span, error) {
	bad := func(problem, fix string) error {
		return &RangeError{Input: field, Problem: problem, Fix: fix}
	}
	if strings.Contains(field, "/") {
		p, err := netip.ParsePrefix(field)
		if err != nil {
			return span{}, bad("is not an address with a prefix length", `type it like "192.0.2.0/24"`)
		}
		return span{p.Masked().Addr(), lastOf(p), true}, nil
	}
	if low, high, ok := strings.Cut(field, "-"); ok {
		return parseSpan(low, high, bad)
	}
	a, err := netip.ParseAddr(field)
	if err != nil || a.Zone() != "" {
		return span{}, bad("is not an address", `type it like "192.0.2.0/24" or "192.0.2.10-40"`)
	}
	return span{a, a, false}, nil
}

func parseSpan(low, high string, bad func(problem, fix string) error) (span, error) {
	first, err := netip.ParseAddr(low)
	if err != nil {
		return span{}, bad("does not begin with an address", `type it like "192.0.2.10-192.0.2.40"`)
	}
	if !strings.ContainsAny(high, ".:") {
		if dot := strings.LastIndex(low, "."); dot >= 0 {
			high = low[:dot+1] + high
		}
	}
	last, err := netip.ParseAddr(high)
	if err != nil || first.BitLen() != last.BitLen() {
		return span{}, bad("does not end with an address of the same kind", `type it like "192.0.2.10-192.0.2.40"`)
	}
	if last.Less(first) {
		return span{}, bad("runs backwards", "put the lower address first")
	}
	return span{first.WithZone(""), last.WithZone(""), false}, nil
}

// spanPrefixes covers first..last exactly with the fewest prefixes: at each step the largest block
// that begins at first and does not reach past last.
func spanPrefixes(first, last netip.Addr) []netip.Prefix {
	var out []netip.Prefix
	for {
		block := netip.PrefixFrom(first, first.BitLen())
		for bits := first.BitLen() - 1; bits >= 0; bits-- {
			wider := netip.PrefixFrom(first, bits)
			if wider.Masked().Addr() != first || last.Less(lastOf(wider)) {
				break
			}
			block = wider
		}
		out = append(out, block)
		end := lastOf(block)
		if !end.Less(last) {
			return out
		}
		first = end.Next()
	}
}

func lastOf(p netip.Prefix) netip.Addr {
	raw := p.Masked().Addr().AsSlice()
	for bit := p.Bits(); bit < len(raw)*8; bit++ {
		raw[bit/8] |= 1 << (7 - bit%8)
	}
	a, _ := netip.AddrFromSlice(raw)
	return a
}

// Contains reports whether a lies in one of the ranges. IPv4 addresses mapped into IPv6 count as IPv4.
func (r Ranges) Contains(a netip.Addr) bool {
	a = a.Unmap().WithZone("")
	for _, s := range r.spans {
		if s.contains(a) {
			return true
		}
	}
	return false
}

// Empty reports whether r contains nothing.
func (r Ranges) Empty() bool { return len(r.spans) == 0 }

// Prefixes covers the ranges exactly, in the order in which they were typed; a span takes as many prefixes as it needs.
func (r Ranges) Prefixes() (out []netip.Prefix) {
	for _, s := range r.spans {
		out = append(out, spanPrefixes(s.first, s.last)...)
	}
	return out
}

// Count returns the number of addresses in all ranges, counted per range; it is at most the largest uint64.
func (r Ranges) Count() uint64 {
	var sum uint64
	for _, s := range r.spans {
		n := s.count()
		if sum+n < sum {
			return math.MaxUint64
		}
		sum += n
	}
	return sum
}

// Check returns a *TooManyError when the ranges hold more than LargestUnasked addresses.
func (r Ranges) Check() error {
	if n := r.Count(); n > LargestUnasked {
		return &TooManyError{Count: n}
	}
	return nil
}

// Hosts yields every address a device can have, once each, in order. An IPv4 prefix shorter than /31 has a network and a
// broadcast address, which are left out; of a span that was typed from a first to a last address nothing is.
func (r Ranges) Hosts() iter.Seq[netip.Addr] {
	return func(yield func(netip.Addr) bool) {
		for i, s := range r.spans {
			ends := s.prefix && s.first.Is4() && s.asPrefix().Bits() < 31
			for a := s.first; a.IsValid() && s.contains(a); a = a.Next() {
				if ends && (a == s.first || a == s.last) {
					continue
				}
				if (Ranges{r.spans[:i]}).Contains(a) {
					continue
				}
				if !yield(a) {
					return
				}
			}
		}
	}
}

// Strings returns the ranges as text that Parse reads back: prefixes as prefixes, spans as spans.
func (r Ranges) Strings() []string {
	out := make([]string, len(r.spans))
	for i, s := range r.spans {
		out[i] = s.String()
	}
	return out
}

// Spans returns the ranges as people type pools, as few as can be: "192.0.2.100-192.0.2.150".
func (r Ranges) Spans() []string {
	var out []string
	for i := 0; i < len(r.spans); {
		one := span{first: r.spans[i].first, last: r.spans[i].last}
		for i++; i < len(r.spans) && r.spans[i].first == one.last.Next(); i++ {
			one.last = r.spans[i].last
		}
		out = append(out, one.String())
	}
	return out
}

func (r Ranges) String() string { return strings.Join(r.Strings(), ", ") }

// MarshalJSON writes the ranges as a list of strings.
func (r Ranges) MarshalJSON() ([]byte, error) { return json.Marshal(r.Strings()) }

// UnmarshalJSON reads a list of strings.
func (r *Ranges) UnmarshalJSON(b []byte) error {
	var items []string
	if err := json.Unmarshal(b, &items); err != nil {
		return errors.New("ranges are written as a list of strings")
	}
	parsed, err := Parse(items...)
	if err == nil {
		*r = parsed
	}
	return err
}

// Grouped writes n with commas between thousands: 16,777,216.
func Grouped(n uint64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
