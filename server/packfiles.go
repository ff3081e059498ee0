package server

import (
	"archive/zip"
	"context"
	"fmt"
	"io"
	"mime"
	"net/http"
	"path"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/handover"
	"unlatch/core/decide/handover/paper"
	"unlatch/core/decide/words"
	"unlatch/store"
)

// versionOf returns the version that the path of a request names.
func (s handovers) versionOf(r *http.Request) (site uuid.UUID, v store.HandoverVersion, err error) {
	site, err = uuid.Parse(chi.URLParam(r, "site"))
	id, verr := uuid.Parse(chi.URLParam(r, "version"))
	if err != nil || verr != nil {
		return site, v, store.ErrNotFound
	}
	v, err = s.madeVersion(r.Context(), site, id)
	return site, v, err
}

// madeVersion returns a version that is complete; one that is being made, or that failed, is not found.
func (s handovers) madeVersion(ctx context.Context, site, id uuid.UUID) (v store.HandoverVersion, err error) {
	v, err = s.store.Handovers.Get(ctx, site, id)
	if err == nil && !v.Made {
		err = store.ErrNotFound
	}
	return v, err
}

// file sends one file of a version. Who may look and no more is sent the papers.
func (s handovers) file(w http.ResponseWriter, r *http.Request) {
	site, v, err := s.versionOf(r)
	if err != nil {
		s.fail(w, err)
		return
	}
	name := r.URL.Query().Get("path")
	if name != handover.PaperFile && name != handover.SignOffFile && s.mayRead(r.Context(), act.See) != nil {
		s.fail(w, store.ErrNotFound)
		return
	}
	f, err := s.store.Handovers.File(r.Context(), site, v.ID, name)
	if err != nil {
		s.fail(w, err)
		return
	}
	how := "attachment"
	if f.Type == "application/pdf" || f.Type == "image/jpeg" {
		how = "inline"
	}
	h := w.Header()
	h.Set("Content-Type", f.Type)
	h.Set("Content-Disposition", mime.FormatMediaType(how, map[string]string{"filename": fileName(path.Base(f.Path))}))
	h.Set("Cache-Control", "private, max-age=31536000, immutable") // a version is never changed
	if name == handover.SignOffFile {
		h.Set("Cache-Control", "no-cache")
	}
	w.Write(f.Data)
}

// zip sends a version as one zip file, a file at a time.
func (s handovers) zip(w http.ResponseWriter, r *http.Request) {
	site, v, err := s.versionOf(r)
	if err != nil {
		s.fail(w, err)
		return
	}
	name := fmt.Sprintf("handover-%d.zip", v.Number)
	w.Header().Set("Content-Type", "application/zip")
	w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name}))
	if err := s.writeZip(r.Context(), w, site, v); err != nil {
		s.log.Warn("a handover pack was not sent whole", "version", v.ID, "err", err)
		panic(http.ErrAbortHandler) // so that the browser sees that it is cut short
	}
}

func (s handovers) writeZip(ctx context.Context, w io.Writer, site uuid.UUID, v store.HandoverVersion) error {
	z := zip.NewWriter(w)
	paths := []string{handover.ManifestFile}
	for _, e := range v.Files {
		paths = append(paths, e.Path)
	}
	if v.SignOff != nil {
		paths = append(paths, handover.SignOffFile)
	}
	for _, p := range paths {
		f, err := s.store.Handovers.File(ctx, site, v.ID, p)
		if err != nil {
			return err
		}
		h := &zip.FileHeader{Name: p, Method: zip.Deflate, Modified: v.At.UTC()}
		switch f.Type {
		case "image/jpeg", "image/png", "application/pdf", "application/octet-stream":
			h.Method = zip.Store
		}
		into, err := z.CreateHeader(h)
		if err != nil {
			return err
		}
		if _, err := into.Write(f.Data); err != nil {
			return err
		}
	}
	return z.Close()
}

// mark sends the firm's mark.
func (s handovers) mark(w http.ResponseWriter, r *http.Request) {
	raw, err := s.store.Handovers.Mark(r.Context())
	if err != nil {
		s.fail(w, err)
		return
	}
	w.Header().Set("Content-Type", http.DetectContentType(raw))
	w.Header().Set("Cache-Control", "no-cache")
	w.Write(raw)
}

// changes sends what changed between two versions, or between one and now, as a zip file.
func (s handovers) changesFile(w http.ResponseWriter, r *http.Request) {
	site, v, err := s.versionOf(r)
	if err != nil {
		s.fail(w, err)
		return
	}
	var to uuid.UUID
	if text := r.URL.Query().Get("to"); text != "" {
		if to, err = uuid.Parse(text); err != nil {
			s.fail(w, store.ErrNotFound)
			return
		}
	}
	c, err := s.compare(r.Context(), site, v, to)
	if err != nil {
		s.fail(w, err)
		return
	}
	files, err := handover.ChangeFiles(&c)
	if err == nil {
		var paperFile handover.File
		paperFile, err = paper.Changes(&c, words.In(v.Language))
		files = append(files, paperFile)
	}
	if err != nil {
		s.fail(w, err)
		return
	}
	w.Header().Set("Content-Type", "application/zip")
	w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{
		"filename": fmt.Sprintf("changes-since-%d.zip", v.Number)}))
	z := zip.NewWriter(w)
	for _, f := range files {
		into, err := z.CreateHeader(&zip.FileHeader{Name: f.Path, Method: zip.Deflate, Modified: time.Time{}})
		if err == nil {
			_, err = into.Write(f.Data)
		}
		if err != nil {
			panic(http.ErrAbortHandler)
		}
	}
	z.Close()
}

// compare returns how a later version, or the site as it is now where to is the nil UUID, differs from a version, with what the record says
// of it.
func (s handovers) compare(ctx context.Context, site uuid.UUID, v store.HandoverVersion, to uuid.UUID) (handover.Changes, error) {
	out := handover.Changes{Form: handover.Form, From: handover.PackPoint{Number: v.Number, At: v.At, Hash: v.Hash}}
	was, err := s.store.Handovers.Pack(ctx, site, v.ID)
	if err != nil {
		return out, err
	}
	out.Site, out.Name = was.Site.ID, was.Site.Name
	var is handover.Pack
	if to == uuid.Nil {
		facts, err := s.factsNow(ctx, site)
		if err != nil {
			return out, err
		}
		is, out.To = handover.Of(facts), handover.PackPoint{At: s.now().UTC()}
	} else {
		later, err := s.store.Handovers.Get(ctx, site, to)
		if err != nil {
			return out, err
		}
		if is, err = s.store.Handovers.Pack(ctx, site, to); err != nil {
			return out, err
		}
		out.To = handover.PackPoint{Number: later.Number, At: later.At, Hash: later.Hash}
	}
	out.Changes = handover.Compare(&was, &is)
	return out, s.addReasons(ctx, site, &out)
}

// factsNow returns what a pack of a site would be made of now.
func (s handovers) factsNow(ctx context.Context, site uuid.UUID) (handover.Facts, error) {
	devices, err := s.lineUp.all(ctx, site)
	if err != nil {
		return handover.Facts{}, err
	}
	return s.store.HandoverFacts(ctx, site, devices, s.now())
}

// mostReasons is how many lines of the record are given for each change.
const mostReasons = 5

// addReasons adds what the record says was done to what has changed.
func (s handovers) addReasons(ctx context.Context, site uuid.UUID, c *handover.Changes) error {
	for i := range c.Changes {
		x := &c.Changes[i]
		f := store.LineFilter{Site: site, From: c.From.At, To: c.To.At.Add(time.Second), Limit: mostReasons}
		if !x.Target {
			f.Device = x.ID
		}
		lines, err := s.store.Record.List(ctx, f)
		if err != nil {
			return err
		}
		for _, l := range lines {
			if x.Target && (l.TargetID == nil || *l.TargetID != x.ID) {
				continue
			}
			x.Reasons = append(x.Reasons, handover.RecordLine{At: l.At.UTC(), By: l.Person, Action: l.Action, Before: l.Before, After: l.After})
		}
	}
	return nil
}
