package hls

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var day = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

// feed takes n pictures of 25 a second, with a key frame every gop of them.
func feed(s *Stream, from, n, gop int) {
	for i := from; i < from+n; i++ {
		s.Picture([]byte(fmt.Sprintf("<%d>", i)), i%gop == 0, 40*time.Millisecond, day.Add(time.Duration(i)*40*time.Millisecond))
	}
}

func TestAStreamIsCutIntoPartsAndSegments(t *testing.T) {
	t.Parallel()
	s := New()
	s.Init([]byte("init"))
	feed(s, 0, 76, 25)
	s.Sound([]byte("~"))
	list := s.Playlist()
	assert.Contains(t, list, "#EXT-X-TARGETDURATION:4\n#EXT-X-PART-INF:PART-TARGET=0.250\n")
	assert.Contains(t, list, "#EXT-X-MAP:URI=\"init0.mp4\"\n#EXT-X-PROGRAM-DATE-TIME:2026-03-01T12:00:00.000Z\n")
	assert.Contains(t, list, "#EXT-X-PART:DURATION=0.24000,URI=\"part1.0.m4s\",INDEPENDENT=YES\n"+
		"#EXT-X-PART:DURATION=0.24000,URI=\"part1.1.m4s\"\n")
	assert.Contains(t, list, "#EXTINF:1.00000,\nsegment2.m4s\n")
	assert.True(t, strings.HasSuffix(list, "#EXT-X-PRELOAD-HINT:TYPE=PART,URI=\"part3.0.m4s\"\n"), list)

	whole, err := s.Segment(1)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(whole), "<25><26>") && strings.HasSuffix(string(whole), "<49>"), string(whole))
	_, err = s.Segment(3)
	assert.ErrorIs(t, err, ErrGone, "it is under way")
	one, err := s.Part(t.Context(), 1, 1)
	require.NoError(t, err)
	assert.Equal(t, "<31><32><33><34><35><36>", string(one))
	init, err := s.Initial(0)
	require.NoError(t, err)
	assert.Equal(t, "init", string(init))

	feed(s, 76, 400, 25)
	_, err = s.Segment(0)
	assert.ErrorIs(t, err, ErrGone)
	assert.NotContains(t, s.Playlist(), "part15.0", "parts of older segments are not named")
	assert.Equal(t, kept, len(s.list))
}

// A group that is longer than a segment may be is cut within, and so are pictures that come seldom.
func TestLongGroupsAndSlowPictures(t *testing.T) {
	t.Parallel()
	s := New()
	s.Init(nil)
	feed(s, 0, 250, 250)
	assert.Contains(t, s.Playlist(), "#EXTINF:4.00000,\nsegment0.m4s\n")
	assert.NotContains(t, s.Playlist(), "part2.0.m4s\",INDEPENDENT")
	slow := New()
	slow.Init(nil)
	for i := range 8 {
		slow.Picture([]byte("x"), true, 3*time.Second, day.Add(time.Duration(i)*3*time.Second))
	}
	assert.Contains(t, slow.Playlist(), "#EXTINF:3.00000,\nsegment6.m4s\n")
}

// Another size of the picture is a discontinuity, with an initialisation segment of its own.
func TestAnotherInitialisationSegment(t *testing.T) {
	t.Parallel()
	s := New()
	s.Init([]byte("a"))
	feed(s, 0, 30, 25)
	s.Init([]byte("b"))
	feed(s, 50, 30, 25)
	assert.Contains(t, s.Playlist(), "segment1.m4s\n#EXT-X-DISCONTINUITY\n#EXT-X-MAP:URI=\"init1.mp4\"\n")
	feed(s, 100, 500, 25)
	assert.Contains(t, s.Playlist(), "#EXT-X-DISCONTINUITY-SEQUENCE:1\n")
	_, err := s.Initial(0)
	assert.ErrorIs(t, err, ErrGone)
	s.End()
	assert.True(t, strings.HasSuffix(s.Playlist(), "#EXT-X-ENDLIST\n"))
}

// Whoever asks for what is to come next waits for it, and not for what lies far ahead.
func TestWaitingForWhatComesNext(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := New()
		s.Init(nil)
		feed(s, 0, 26, 25)
		got := make(chan string)
		go func() {
			b, err := s.Part(t.Context(), 1, 0)
			got <- fmt.Sprint(string(b), err)
		}()
		synctest.Wait()
		select {
		case x := <-got:
			t.Fatal("it did not wait: " + x)
		default:
		}
		feed(s, 26, 7, 25)
		assert.Equal(t, "<25><26><27><28><29><30><nil>", <-got)
		assert.ErrorIs(t, s.Wait(t.Context(), 40, 0), ErrFuture)
		require.NoError(t, s.Wait(t.Context(), 0, -1))
		ctx, done := context.WithTimeout(t.Context(), time.Second)
		defer done()
		assert.ErrorIs(t, s.Wait(ctx, 1, -1), context.DeadlineExceeded)
	})
}

func TestNames(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]Name{"segment12.m4s": {12, -1, -1}, "part3.0.m4s": {3, 0, -1}, "init1.mp4": {-1, -1, 1}} {
		n, ok := ParseName(text)
		assert.True(t, ok, text)
		assert.Equal(t, want, n)
	}
	for _, text := range []string{"", "segment.m4s", "segment-1.m4s", "segment01.m4s", "part1.m4s", "part1.2.3.m4s", "init1.m4s",
		"init99999999999.mp4"} {
		_, ok := ParseName(text)
		assert.False(t, ok, text)
	}
}

func Example() {
	s := New()
	s.Init([]byte("ftyp, moov"))
	for i := range 26 {
		s.Picture([]byte("moof, mdat"), i%25 == 0, 40*time.Millisecond, time.Now())
	}
	whole, err := s.Segment(0)
	fmt.Println(len(whole), err)
	// Output: 250 <nil>
}
