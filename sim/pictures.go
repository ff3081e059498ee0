package sim

import (
	"context"
	"fmt"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"strconv"
	"sync"
	"time"

	"unlatch/core/stream/media"
	"unlatch/core/wire/onvif"
	"unlatch/sim/scene"
)

// snapshotPath and motionPath are where a feed's still picture and its motion JPEG are to be had.
func (d *device) snapshotPath(f feed) string {
	return fmt.Sprintf("%s/%d/%d.jpg", d.maker.pictures, f.channel, f.tier)
}

func (d *device) motionPath(f feed) string {
	return fmt.Sprintf("%s/%d/%d.mjpg", d.maker.pictures, f.channel, f.tier)
}

func (d *device) snapshotURI(o operation) (string, *fault) {
	var i int
	if _, err := fmt.Sscanf(o.arg("ProfileToken"), "prof_%d", &i); err != nil || i < 0 || i >= len(d.sending()) || d.Defects.NoSnapshot {
		return "", invalid("ter:NoProfile", "There is no such snapshot")
	}
	return onvif.Escape(d.base() + d.snapshotPath(d.sending()[i])), nil
}

// servePictures answers snapshots and motion JPEG, signed in as the maker's web side is.
func (d *device) servePictures(mux *http.ServeMux) {
	if d.maker.pictures == "" || d.Defects.NoSnapshot {
		return
	}
	for _, f := range d.sending() {
		mux.HandleFunc(d.snapshotPath(f), func(w http.ResponseWriter, r *http.Request) {
			if !d.webSignedIn(w, r) {
				return
			}
			jpeg, err := jpegOf(r.Context(), f.clip, 0)
			if err != nil {
				http.Error(w, "no picture", http.StatusServiceUnavailable)
				return
			}
			w.Header().Set("Content-Type", "image/jpeg")
			w.Write(d.plate(jpeg))
		})
		mux.HandleFunc(d.motionPath(f), func(w http.ResponseWriter, r *http.Request) {
			if d.webSignedIn(w, r) {
				d.sendMotion(w, r, f.clip)
			}
		})
	}
}

// sendMotion sends pictures five times a second until the viewer goes (RFC 2046 §5.1, x-mixed-replace): of the clip's key frames, each for
// as long as there is none newer.
func (d *device) sendMotion(w http.ResponseWriter, r *http.Request, c *scene.Clip) {
	if _, err := jpegOf(r.Context(), c, 0); err != nil {
		http.Error(w, "no picture", http.StatusServiceUnavailable)
		return
	}
	parts := multipart.NewWriter(w)
	w.Header().Set("Content-Type", "multipart/x-mixed-replace; boundary="+parts.Boundary())
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for began := time.Now(); ; {
		newest := int(time.Since(began).Seconds()*float64(c.FPS)) % len(c.Frames)
		for !c.Frames[newest].Key { // the first is one
			newest--
		}
		jpeg, err := jpegOf(r.Context(), c, newest)
		if err != nil {
			return
		}
		jpeg = d.plate(jpeg)
		part, err := parts.CreatePart(textproto.MIMEHeader{"Content-Type": {"image/jpeg"}, "Content-Length": {strconv.Itoa(len(jpeg))}})
		if err != nil {
			return
		}
		if _, err := part.Write(jpeg); err != nil || http.NewResponseController(w).Flush() != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-tick.C:
		}
	}
}

// webSignedIn checks the sign-in of the web side: by HTTP authentication, also where the device service wants its tokens.
func (d *device) webSignedIn(w http.ResponseWriter, r *http.Request) bool {
	if len(d.accounts()) == 0 {
		return true
	}
	schemes := d.maker.httpAuth
	if len(schemes) == 0 {
		schemes = d.maker.streamAuth
	}
	if d.httpSigned(w, r, schemes) {
		return true
	}
	w.WriteHeader(http.StatusUnauthorized)
	return false
}

var (
	jpegMu sync.Mutex
	jpegs  = map[keyframe][]byte{}
)

// A keyframe is one of a clip, by its place among the frames.
type keyframe struct {
	clip *scene.Clip
	n    int
}

// jpegOf returns the picture of one of a clip's key frames, decoded once.
func jpegOf(ctx context.Context, c *scene.Clip, n int) ([]byte, error) {
	jpegMu.Lock()
	defer jpegMu.Unlock()
	if b := jpegs[keyframe{c, n}]; b != nil {
		return b, nil
	}
	b, err := media.Still(ctx, keyframeOf(c, n))
	if err == nil {
		jpegs[keyframe{c, n}] = b
	}
	return b, err
}

// keyframeOf returns a key frame of a clip as a decoder takes it.
func keyframeOf(c *scene.Clip, n int) media.Keyframe {
	first := c.Frames[n].NALs
	switch c.Codec {
	case scene.JPEG:
		return media.Keyframe{Decoder: "mjpeg", Data: first[0]}
	case scene.MPEG4:
		return media.Keyframe{Decoder: "m4v", Data: first[0]}
	}
	var annexB []byte
	for _, nal := range append([][]byte{c.VPS, c.SPS, c.PPS}, first...) {
		if len(nal) > 0 {
			annexB = append(append(annexB, 0, 0, 0, 1), nal...)
		}
	}
	return media.Keyframe{Decoder: map[bool]string{true: "hevc", false: "h264"}[c.Codec == scene.H265], Data: annexB}
}
