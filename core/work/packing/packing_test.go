package packing_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"testing"
	"testing/fstest"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/handover"
	"unlatch/core/decide/handover/packtest"
	"unlatch/core/decide/handover/paper"
	"unlatch/core/decide/siteplan"
	"unlatch/core/work/packing"
)

// shelf is a source of pictures.
type shelf map[uuid.UUID][]byte

func (s shelf) Still(_ context.Context, id uuid.UUID) ([]byte, error) {
	raw, ok := s[id]
	if !ok {
		return nil, packing.ErrGone
	}
	return raw, nil
}

func (s shelf) SitePlan(context.Context, uuid.UUID) (siteplan.Picture, error) {
	return siteplan.Picture{Data: packtest.PNG(800, 500), Type: "image/png", Width: 800, Height: 500}, nil
}

// making is a pack of n cameras with pictures; the still of the second is gone, and that of the third is none.
func making(n int) packing.Making {
	m := packing.Making{Pack: packtest.Sample(n), Size: paper.A4, Firm: "Tarnside Signals", Mark: packtest.PNG(300, 100),
		Base: "https://unlatch.tarnside.example", Labels: &paper.LabelSheets[0],
		Manifest: handover.Manifest{Form: handover.Form, Name: "Tarn Ferry", Number: 1, By: "Rowan", At: packtest.At, Language: "en"}}
	s := shelf{}
	for i := range m.Pack.Cameras {
		c := &m.Pack.Cameras[i]
		c.Picture = ""
		if c.Kind != "camera" {
			continue
		}
		c.Still = packtest.ID(fmt.Sprint("still", i))
		s[c.Still] = packtest.JPEG(i, 1280, 720)
		c.Placements[0].Picture, c.Placements[0].Still = "", c.Still
	}
	delete(s, packtest.ID("still1"))
	s[packtest.ID("still2")] = []byte("\xff\xd8 no picture")
	m.Source = s
	return m
}

func made(t *testing.T, m packing.Making) (handover.Manifest, fstest.MapFS) {
	files := fstest.MapFS{}
	man, err := packing.Make(context.Background(), m, func(_ context.Context, f handover.File) error {
		require.NotContains(t, files, f.Path)
		files[f.Path] = &fstest.MapFile{Data: f.Data}
		return nil
	})
	require.NoError(t, err)
	return man, files
}

func TestAPackIsMadeAndHolds(t *testing.T) {
	var told []float64
	m := making(4)
	m.Progress = func(_ string, done float64) { told = append(told, done) }
	man, files := made(t, m)
	assert.IsIncreasing(t, told)
	again, pack, err := handover.Open(context.Background(), files)
	require.NoError(t, err)
	assert.Equal(t, man.Hash, again.Hash)
	assert.NotEmpty(t, pack.Cameras[0].Picture)
	// A still that is gone, and one that cannot be read, spoil nothing but their own picture.
	assert.Equal(t, "no_picture_kept", pack.Cameras[1].PictureWhy)
	assert.Equal(t, "picture_broken", pack.Cameras[2].PictureWhy)
	assert.NotEmpty(t, pack.Cameras[3].Picture)
	for _, path := range []string{handover.PaperFile, handover.LabelsFile, handover.TablesFile, "lists/main.m3u", "tables/cameras.csv",
		pack.SitePlans[0].Picture} {
		assert.Contains(t, files, path)
	}
	assert.NotContains(t, files, handover.SealedFile)
}

func TestAPackIsMadeTheSameTwice(t *testing.T) {
	_, first := made(t, making(5))
	_, second := made(t, making(5))
	require.Len(t, second, len(first))
	for path := range first {
		assert.True(t, bytes.Equal(first[path].Data, second[path].Data), path)
	}
}

// Where a file cannot be kept, as on a full disk, the making ends with that error and without a manifest: what is there is no pack.
func TestAMakingThatIsCutShortLeavesNoManifest(t *testing.T) {
	full := errors.New("no space left on device")
	_, whole := made(t, making(2))
	for stop := range len(whole) {
		n, kept := 0, []string{}
		_, err := packing.Make(context.Background(), making(2), func(_ context.Context, f handover.File) error {
			if n++; n > stop {
				return full
			}
			kept = append(kept, f.Path)
			return nil
		})
		require.ErrorIs(t, err, full)
		assert.NotContains(t, kept, handover.ManifestFile)
	}
}

func TestWhatIsSealedStandsInTheManifest(t *testing.T) {
	m := making(1)
	m.Seal = func(context.Context) ([]byte, handover.SealedTo, error) {
		return []byte("sealed"), handover.SealedTo{Recipients: []string{"age1one"}, SignIns: 2}, nil
	}
	man, files := made(t, m)
	assert.Equal(t, "sealed", string(files[handover.SealedFile].Data))
	assert.Equal(t, []string{"age1one"}, man.Sealed.Recipients)
	unsealed, _ := made(t, making(1))
	assert.Equal(t, unsealed.Content, man.Content, "the same state, sealed or not")
}

func ExampleMake() {
	m := making(1)
	n := 0
	man, err := packing.Make(context.Background(), m, func(context.Context, handover.File) error { n++; return nil })
	fmt.Println(n == len(man.Files)+1, err)
	// Output: true <nil>
}
