// Package address holds the addresses a site may use: its authorised ranges, the scope guard that
// keeps every connection inside them, and what this machine's own interfaces suggest.
//
// A range is kept as netip prefixes rather than as pairs of addresses, because prefixes compare,
// merge and contain without arithmetic on bytes, and because that is how networks are configured.
package address

import (
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"math"
	"net/netip"
	"strings"
)

// LargestUnasked is the number of addresses that a sweep takes on without asking first: a /16.
const LargestUnasked = 1 << 16

// Ranges is a set of addresses, written as CIDR prefixes. The zero value contains nothing.
type Ranges struct {
	prefixes []netip.Prefix
}

// A RangeError says which of several typed ranges cannot be used, and what to type instead.
type RangeError struct {
	Input   string
	Problem string
	Remedy  string
}

func (e *RangeError) Error() string {
	return fmt.Sprintf("range %q %s; %s", e.Input, e.Problem, e.Remedy)
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
	var all []netip.Prefix
	for _, item := range items {
		fields := strings.FieldsFunc(item, func(r rune) bool {
			return r == ',' || r == ';' || r == ' ' || r == '\n' || r == '\t' || r == '\r'
		})
		for _, field := range fields {
			prefixes, err := parseOne(field)
			if err != nil {
				return Ranges{}, err
			}
			all = append(all, prefixes...)
		}
	}
	if len(all) > 1024 {
		return Ranges{}, &RangeError{Input: fmt.Sprint(len(all), " ranges"), Problem: "are too many", Remedy: "join them into larger ones"}
	}
	return Ranges{prefixes: all}, nil
}

// MustParse is Parse for ranges known to be good; it panics on a bad one.
func MustParse(items ...string) Ranges {
	r, err := Parse(items...)
	if err != nil {
		panic(err)
	}
	return r
}

func parseOne(field string) ([]netip.Prefix, error) {
	bad := func(problem, remedy string) error {
		return &RangeError{Input: field, Problem: problem, Remedy: remedy}
	}
	if strings.Contains(field, "/") {
		p, err := netip.ParsePrefix(field)
		if err != nil {
			return nil, bad("is not an address with a prefix length", `type it like "192.0.2.0/24"`)
		}
		return []netip.Prefix{p.Masked()}, nil
	}
	if low, high, ok := strings.Cut(field, "-"); ok {
		return parseSpan(low, high, bad)
	}
	a, err := netip.ParseAddr(field)
	if err != nil || a.Zone() != "" {
		return nil, bad("is not an address", `type it like "192.0.2.0/24" or "192.0.2.10-40"`)
	}
	return []netip.Prefix{netip.PrefixFrom(a, a.BitLen())}, nil
}

func parseSpan(low, high string, bad func(problem, remedy string) error) ([]netip.Prefix, error) {
	first, err := netip.ParseAddr(low)
	if err != nil {
		return nil, bad("does not begin with an address", `type it like "192.0.2.10-192.0.2.40"`)
	}
	if !strings.ContainsAny(high, ".:") {
		if dot := strings.LastIndex(low, "."); dot >= 0 {
			high = low[:dot+1] + high
		}
	}
	last, err := netip.ParseAddr(high)
	if err != nil || first.BitLen() != last.BitLen() {
		return nil, bad("does not end with an address of the same kind", `type it like "192.0.2.10-192.0.2.40"`)
	}
	if last.Less(first) {
		return nil, bad("runs backwards", "put the lower address first")
	}
	return spanPrefixes(first, last), nil
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
	for _, p := range r.prefixes {
		if p.Contains(a) {
			return true
		}
	}
	return false
}

// Empty reports whether r contains nothing.
func (r Ranges) Empty() bool { return len(r.prefixes) == 0 }

// Prefixes returns the ranges in the order in which they were typed.
func (r Ranges) Prefixes() []netip.Prefix { return append([]netip.Prefix(nil), r.prefixes...) }

// Count is the number of addresses in all ranges, counted per range and capped at the largest uint64.
func (r Ranges) Count() uint64 {
	var sum uint64
	for _, p := range r.prefixes {
		host := p.Addr().BitLen() - p.Bits()
		if host >= 63 {
			return math.MaxUint64
		}
		sum += 1 << host
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

// Hosts yields every address a device can have, once each, in order: for IPv4 ranges shorter than /31 the
// network and the broadcast address are left out.
func (r Ranges) Hosts() iter.Seq[netip.Addr] {
	return func(yield func(netip.Addr) bool) {
		for i, p := range r.prefixes {
			last := lastOf(p)
			ends := p.Addr().Is4() && p.Bits() < 31
			for a := p.Addr(); a.IsValid() && p.Contains(a); a = a.Next() {
				if ends && (a == p.Addr() || a == last) {
					continue
				}
				if (Ranges{r.prefixes[:i]}).Contains(a) {
					continue
				}
				if !yield(a) {
					return
				}
			}
		}
	}
}

// Strings returns the ranges as text that Parse reads back.
func (r Ranges) Strings() []string {
	out := make([]string, len(r.prefixes))
	for i, p := range r.prefixes {
		out[i] = p.String()
		if p.IsSingleIP() {
			out[i] = p.Addr().String()
		}
	}
	return out
}

// Spans returns the ranges as people type pools, as few as can be: "192.0.2.100-192.0.2.150".
func (r Ranges) Spans() []string {
	var out []string
	for i := 0; i < len(r.prefixes); {
		first, last := r.prefixes[i].Addr(), lastOf(r.prefixes[i])
		for i++; i < len(r.prefixes) && r.prefixes[i].Addr() == last.Next(); i++ {
			last = lastOf(r.prefixes[i])
		}
		if first == last {
			out = append(out, first.String())
		} else {
			out = append(out, first.String()+"-"+last.String())
		}
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
