package fmp4

import (
	"fmt"
	"math/bits"
	"strings"

	"unlatch/core/stream/media"
)

// hevc is H.265 in MP4 (ISO/IEC 14496-15 §8).
type hevc struct {
	sets [3][]byte // VPS, SPS, PPS
	pic  *media.Picture
	ptl  [12]byte // profile, tier and level as the SPS has them (ITU-T H.265 §7.3.3)
}

// NAL unit types (ITU-T H.265 table 7-1).
const (
	hevcVPS       = 32
	hevcSPS       = 33
	hevcDelimiter = 35
)

func (c *hevc) set(nal []byte, key bool) (taken, changed bool) {
	kind := int(nal[0] >> 1 & 0x3f)
	if kind == hevcDelimiter {
		return true, false
	}
	i := kind - hevcVPS
	if i < 0 || i > 2 {
		return false, false
	}
	if !key || string(nal) == string(c.sets[i]) {
		return true, false
	}
	if kind == hevcSPS {
		pic, ptl, err := media.ParseSPS265(nal)
		if err != nil {
			return true, false
		}
		c.pic, c.ptl = pic, ptl
	}
	c.sets[i] = append([]byte(nil), nal...)
	return true, true
}

func (c *hevc) picture() *media.Picture {
	if c.sets[0] == nil || c.sets[2] == nil {
		return nil
	}
	return c.pic
}

// mime spells profile, compatibility, tier, level and constraints (§E.3).
func (c *hevc) mime() string {
	space := []string{"", "A", "B", "C"}[c.ptl[0]>>6]
	compatible := bits.Reverse32(uint32(c.ptl[1])<<24 | uint32(c.ptl[2])<<16 | uint32(c.ptl[3])<<8 | uint32(c.ptl[4]))
	tier := "L"
	if c.ptl[0]>>5&1 == 1 {
		tier = "H"
	}
	var out strings.Builder
	fmt.Fprintf(&out, `video/mp4; codecs="hvc1.%s%d.%X.%s%d`, space, c.ptl[0]&0x1f, compatible, tier, c.ptl[11])
	last := len(c.ptl) - 2 // zero bytes at the end are left out
	for last > 4 && c.ptl[last] == 0 {
		last--
	}
	for _, b := range c.ptl[5 : last+1] {
		fmt.Fprintf(&out, ".%X", b)
	}
	return out.String() + `"`
}

func (c *hevc) entry(b []byte) []byte {
	b, hvc1 := open(b, "hvc1") // §8.4.1
	b = visual(b, c.pic)
	b, at := open(b, "hvcC") // §8.3.3.1
	b = append(b, 1)
	b = append(b, c.ptl[:]...)
	// No segmentation is promised; 4:2:0 with 8 bits, where a decoder looks at this at all, since the parameter sets say it; lengths of 4
	// bytes.
	b = append(b, 0xf0, 0, 0xfc, 0xfd, 0xf8, 0xf8, 0, 0, 0x0f, 3)
	for i, set := range c.sets {
		b = append(b, 0x80|byte(hevcVPS+i), 0, 1)
		b = append(u16(b, uint16(len(set))), set...)
	}
	return shut(shut(b, at), hvc1)
}
