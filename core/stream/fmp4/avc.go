package fmp4

import (
	"fmt"

	"unlatch/core/stream/media"
)

// avc is H.264 in MP4 (ISO/IEC 14496-15 §5).
type avc struct {
	sps, pps []byte
	pic      *media.Picture
}

func (c *avc) set(nal []byte, key bool) (taken, changed bool) {
	switch nal[0] & 0x1f {
	case 7:
		if key && string(nal) != string(c.sps) {
			pic, err := media.ParseSPS(nal)
			if err != nil {
				return true, false
			}
			c.sps, c.pic = append([]byte(nil), nal...), pic
			return true, true
		}
	case 8:
		if key && string(nal) != string(c.pps) {
			c.pps = append([]byte(nil), nal...)
			return true, true
		}
	case 9: // an access unit delimiter says nothing in MP4
	default:
		return false, false
	}
	return true, false
}

func (c *avc) picture() *media.Picture {
	if c.pps == nil {
		return nil
	}
	return c.pic
}

func (c *avc) mime() string {
	return fmt.Sprintf(`video/mp4; codecs="avc1.%02X%02X%02X"`, c.sps[1], c.sps[2], c.sps[3])
}

func (c *avc) entry(b []byte) []byte {
	b, avc1 := open(b, "avc1") // §5.4.2
	b = visual(b, c.pic)
	b, at := open(b, "avcC") // §5.3.3.1
	b = append(b, 1, c.sps[1], c.sps[2], c.sps[3], 0xff, 0xe1)
	b = append(u16(b, uint16(len(c.sps))), c.sps...)
	b = append(b, 1)
	b = append(u16(b, uint16(len(c.pps))), c.pps...)
	return shut(shut(b, at), avc1)
}
