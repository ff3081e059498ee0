package signin

import (
	"fmt"
	"math"
	"strings"
	"unicode"
)

// strong is the number of bits from which on a password is out of reach of somebody who guesses at a hash of it: a graphics card tries
// some 2^35 MD5 hashes a second, which makes 2^55 of them two weeks.
const strong = 55

// Weakness says why the password of a sign-in is a finding, or "" where it is none. Digest and token hide a password only from those who do
// not guess at it: whoever answers once, a stranger included, takes a hash away and tries words on it for as long as they like.
func Weakness(in SignIn) string {
	secret := in.Secret.Reveal()
	switch bits := Bits(secret); {
	case secret == "":
		return "it has no password at all"
	case in.User != "" && strings.Contains(strings.ToLower(secret), strings.ToLower(in.User)):
		return "the password holds the user name; whoever answers at a device's address once can guess it from the digest"
	case bits < strong:
		return fmt.Sprintf("the password can be guessed (about %.0f bits; %d are good): whoever answers at a device's address once takes a "+
			"digest away and tries words on it", bits, strong)
	}
	return ""
}

// Bits estimates how many tries a password withstands, as a power of two: its length times what one letter of the kinds that it uses is
// worth, less for letters that repeat or count up.
func Bits(secret string) float64 {
	kinds := 0.0
	for _, k := range []struct {
		is   func(rune) bool
		size float64
	}{{unicode.IsLower, 26}, {unicode.IsUpper, 26}, {unicode.IsDigit, 10}, {func(r rune) bool {
		return !unicode.IsLetter(r) &&
			!unicode.IsDigit(r)
	}, 20}} {
		if strings.ContainsFunc(secret, k.is) {
			kinds += k.size
		}
	}
	length, seen := 0.0, map[rune]int{}
	var last rune
	for _, r := range secret {
		worth := 1.0
		if seen[r]++; seen[r] > 2 {
			worth = 0.5
		}
		if d := r - last; d >= -1 && d <= 1 && last != 0 {
			worth = 0.25 // aaa, 123, cba
		}
		length, last = length+worth, r
	}
	if kinds == 0 {
		return 0
	}
	return length * math.Log2(kinds)
}
