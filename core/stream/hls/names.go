package hls

import (
	"fmt"
	"strconv"
	"strings"
)

// SegmentName returns the name of a segment in the playlist.
func SegmentName(number int) string { return fmt.Sprintf("segment%d.m4s", number) }

// PartName returns the name of a part of a segment.
func PartName(number, part int) string { return fmt.Sprintf("part%d.%d.m4s", number, part) }

// InitName returns the name of an initialisation segment.
func InitName(n int) string { return fmt.Sprintf("init%d.mp4", n) }

// A Name is what a request asks for. Of Segment, Part and Init those that it does not name are -1.
type Name struct{ Segment, Part, Init int }

// ParseName reads the name of a segment, a part or an initialisation segment.
func ParseName(text string) (n Name, ok bool) {
	n = Name{-1, -1, -1}
	if body, is := cut(text, "init", ".mp4"); is {
		n.Init, ok = number(body)
		return n, ok
	}
	if body, is := cut(text, "segment", ".m4s"); is {
		n.Segment, ok = number(body)
		return n, ok
	}
	body, is := cut(text, "part", ".m4s")
	a, b, both := strings.Cut(body, ".")
	if !is || !both {
		return n, false
	}
	if n.Segment, ok = number(a); ok {
		n.Part, ok = number(b)
	}
	return n, ok
}

func cut(text, before, after string) (string, bool) {
	text, a := strings.CutPrefix(text, before)
	text, b := strings.CutSuffix(text, after)
	return text, a && b
}

// number reads decimal digits alone.
func number(text string) (int, bool) {
	n, err := strconv.ParseUint(text, 10, 31)
	return int(n), err == nil && strconv.FormatUint(n, 10) == text
}
