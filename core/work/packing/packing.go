// Package packing makes the files of a handover pack: pictures first, then what follows from the pack alone, then papers, and the manifest
// last. A pack whose manifest is there is whole.
package packing

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/handover"
	"unlatch/core/decide/handover/paper"
	"unlatch/core/decide/siteplan"
	"unlatch/core/decide/words"
)

// ErrGone is for a picture that is not kept any more.
var ErrGone = errors.New("the picture is gone")

// A Source is where pictures come from. Their errors are ErrGone or end the making.
type Source interface {
	Still(ctx context.Context, id uuid.UUID) ([]byte, error)
	SitePlan(ctx context.Context, id uuid.UUID) (siteplan.Picture, error)
}

// A Making is what one version is made of.
type Making struct {
	Pack     handover.Pack
	Manifest handover.Manifest // without files, hashes and Sealed
	Size     paper.Size
	Base     string // the address of Unlatch, for links to cameras; "" for none
	Firm     string
	Mark     []byte            // the firm's mark, PNG or JPEG; nil for none
	Labels   *paper.LabelSheet // nil for no labels
	Source   Source
	// Seal seals the sign-ins; nil leaves them out.
	Seal func(ctx context.Context) ([]byte, handover.SealedTo, error)
	// BeforePapers is called before the papers are written, which takes more memory than all else; nil for nothing.
	BeforePapers func()
	// Progress is told what is being done, and which part of the whole is done.
	Progress func(doing string, done float64)
}

// Put keeps a file. An error ends the making.
type Put func(ctx context.Context, f handover.File) error

// Make makes all files and gives each to put, the manifest last.
func Make(ctx context.Context, m Making, put Put) (handover.Manifest, error) {
	if m.Progress == nil {
		m.Progress = func(string, float64) {}
	}
	x := &maker{Making: m, put: put, thumbs: map[string]*paper.Picture{}, language: words.In(m.Manifest.Language)}
	for _, step := range []func(context.Context) error{x.pictures, x.plans, x.data, x.seal, x.papers} {
		if err := step(ctx); err != nil {
			return x.Manifest, err
		}
	}
	x.Manifest.Complete()
	raw, err := x.Manifest.Write()
	if err != nil {
		return x.Manifest, err
	}
	return x.Manifest, put(ctx, handover.File{Path: handover.ManifestFile, Type: "application/json", Data: raw})
}

// A maker is one making under way.
type maker struct {
	Making
	put      Put
	language *words.Language
	thumbs   map[string]*paper.Picture // for the paper, by path
}

// keep gives a file on, and notes its hash.
func (x *maker) keep(ctx context.Context, f handover.File) error {
	if err := x.put(ctx, f); err != nil {
		return fmt.Errorf("keeping %s: %w", f.Path, err)
	}
	x.Manifest.Files = append(x.Manifest.Files, f.Entry())
	return nil
}

// Parts of the whole that the steps take, as they were measured with 200 cameras.
const (
	afterPictures = 0.6
	afterData     = 0.7
	afterSeal     = 0.75
)

// pictures makes the cameras' pictures and those of targets.
func (x *maker) pictures(ctx context.Context) error {
	thumb := thumbWidth(len(x.Pack.Cameras))
	for i := range x.Pack.Cameras {
		if err := ctx.Err(); err != nil {
			return err
		}
		c := &x.Pack.Cameras[i]
		x.Progress("Pictures: "+c.Title, afterPictures*float64(i)/float64(len(x.Pack.Cameras)))
		if c.Still != uuid.Nil {
			var err error
			path := fmt.Sprintf("pictures/cameras/%s.jpg", c.ID)
			if c.Picture, c.PictureWhy, err = x.picture(ctx, c.Still, path, pictureWidth, thumb); err != nil {
				return err
			}
		}
		for n := range c.Placements {
			p := &c.Placements[n]
			if p.Still == uuid.Nil {
				continue
			}
			path := fmt.Sprintf("pictures/targets/%s/%s.jpg", p.Target, c.ID)
			var err error
			if p.Picture, _, err = x.picture(ctx, p.Still, path, targetWidth, targetWidth); err != nil {
				return err
			}
		}
	}
	return nil
}

// picture keeps a still under a path with a width, and one for the paper. It returns "" and why where the still is gone or cannot be read.
func (x *maker) picture(ctx context.Context, still uuid.UUID, path string, width, thumb int) (at, why string, err error) {
	raw, err := x.Source.Still(ctx, still)
	if errors.Is(err, ErrGone) {
		return "", "no_picture_kept", nil
	} else if err != nil {
		return "", "", err
	}
	img, err := decode(raw)
	if err != nil {
		return "", "picture_broken", nil
	}
	small := shrink(img, width)
	data := jpegOf(small, pictureQuality)
	if err := x.keep(ctx, handover.File{Path: path, Type: "image/jpeg", Data: data}); err != nil {
		return "", "", err
	}
	if thumb < width {
		small = shrink(small, thumb)
		data = jpegOf(small, thumbQuality)
	}
	x.thumbs[path] = &paper.Picture{Name: path, Data: data, Width: small.Bounds().Dx(), Height: small.Bounds().Dy()}
	return path, "", nil
}

// plans keeps the pictures of the site plans.
func (x *maker) plans(ctx context.Context) error {
	for i := range x.Pack.SitePlans {
		p := &x.Pack.SitePlans[i]
		pic, err := x.Source.SitePlan(ctx, p.ID)
		if errors.Is(err, ErrGone) {
			p.Picture = ""
			continue
		} else if err != nil {
			return err
		}
		p.Picture = fmt.Sprintf("pictures/plans/%s.%s", p.ID, map[string]string{"image/png": "png"}[pic.Type])
		if pic.Type != "image/png" {
			p.Picture += "jpg"
		}
		if err := x.keep(ctx, handover.File{Path: p.Picture, Type: pic.Type, Data: pic.Data}); err != nil {
			return err
		}
		if img, err := decode(pic.Data); err == nil {
			small := shrink(img, planWidth)
			x.thumbs[p.Picture] = &paper.Picture{Name: p.Picture, Data: jpegOf(small, 88), Width: small.Bounds().Dx(), Height: small.Bounds().Dy()}
		}
	}
	return nil
}

// data makes what follows from the pack alone.
func (x *maker) data(ctx context.Context) error {
	x.Progress("Tables and lists", afterPictures)
	files, err := handover.DataFiles(ctx, &x.Pack, x.language)
	if err != nil {
		return err
	}
	for _, f := range files {
		if err := x.keep(ctx, f); err != nil {
			return err
		}
	}
	x.Manifest.Content = handover.ContentHash(x.Manifest.Files)
	return nil
}

// papers writes the handover and the labels.
func (x *maker) papers(ctx context.Context) error {
	x.Progress("Papers", afterSeal)
	if x.BeforePapers != nil {
		x.BeforePapers()
	}
	p := paper.Paper{Pack: &x.Pack, Manifest: x.Manifest, Firm: paper.Firm{Name: x.Firm, Mark: markOf(x.Mark)}, Size: x.Size,
		Language: x.language, Base: x.Base, Pictures: x.thumbs}
	var b exact
	if err := p.Write(&b); err != nil {
		return err
	}
	if err := x.keep(ctx, handover.File{Path: handover.PaperFile, Type: "application/pdf", Data: b}); err != nil {
		return err
	}
	x.thumbs, p.Pictures = nil, nil
	if x.Labels == nil {
		return nil
	}
	var labels bytes.Buffer
	if err := p.WriteLabels(&labels, *x.Labels); err != nil {
		return err
	}
	return x.keep(ctx, handover.File{Path: handover.LabelsFile, Type: "application/pdf", Data: labels.Bytes()})
}

// exact holds what is written in as many bytes as that takes: a paper comes in one piece, of some ten MB.
type exact []byte

// Write implements io.Writer.
func (e *exact) Write(p []byte) (int, error) {
	*e = append(*e, p...)
	return len(p), nil
}

// seal seals the sign-ins.
func (x *maker) seal(ctx context.Context) error {
	if x.Seal == nil {
		return nil
	}
	x.Progress("Sealed sign-ins", afterData)
	raw, how, err := x.Seal(ctx)
	if err != nil {
		return err
	}
	x.Manifest.Sealed = &how
	return x.keep(ctx, handover.File{Path: handover.SealedFile, Type: "application/octet-stream", Data: raw})
}

// Now returns when a version is made, as its manifest has it.
func Now(t time.Time) time.Time { return t.UTC().Truncate(time.Second) }
