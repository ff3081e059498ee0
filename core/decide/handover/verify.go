package handover

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
)

// Bounds of what is opened.
const (
	mostManifest = 8 << 20
	mostFiles    = 20_000
	mostFile     = 128 << 20 // bytes of one file
	mostAll      = 2 << 30   // of all files
)

// A Fault is something that is wrong with a pack.
type Fault struct {
	Path    string `json:"path"` // of the file; "" for the pack itself
	Problem string `json:"problem"`
}

func (f Fault) String() string {
	if f.Path == "" {
		return f.Problem
	}
	return f.Path + ": " + f.Problem
}

// A DamagedError says what is wrong with a pack.
type DamagedError struct{ Faults []Fault }

func (e *DamagedError) Error() string {
	text := e.Faults[0].String()
	if n := len(e.Faults) - 1; n > 0 {
		text += fmt.Sprintf(", and %d more", n)
	}
	return text
}

// ReadManifest reads manifest.json and checks that it holds in itself.
func ReadManifest(raw []byte) (m Manifest, err error) {
	if len(raw) > mostManifest {
		return m, &DamagedError{[]Fault{{ManifestFile, "it is too large"}}}
	}
	var head struct {
		Form int `json:"form"`
	}
	if err := json.Unmarshal(raw, &head); err != nil {
		return m, &DamagedError{[]Fault{{ManifestFile, "it is no JSON, or is cut short"}}}
	}
	if head.Form > Form {
		return m, &FormError{head.Form}
	}
	d := json.NewDecoder(bytes.NewReader(raw))
	d.DisallowUnknownFields()
	if err := d.Decode(&m); err != nil {
		return m, &DamagedError{[]Fault{{ManifestFile, "it does not have the form of a manifest"}}}
	}
	if len(m.Files) > mostFiles {
		return m, &DamagedError{[]Fault{{ManifestFile, "it names too many files"}}}
	}
	if m.sum() != m.Hash {
		return m, &DamagedError{[]Fault{{ManifestFile, "it was changed after it was made"}}}
	}
	return m, nil
}

// Verify checks a pack that lies in a folder: each file's hash, that none is missing and none was added, the form of handover.json, and the
// hashes of the manifest. The faults are in the order of the paths; none where all holds. An error means that the manifest cannot be read.
func Verify(ctx context.Context, pack fs.FS) (m Manifest, faults []Fault, err error) {
	raw, err := readBounded(pack, ManifestFile, mostManifest)
	if err != nil {
		return m, nil, &DamagedError{[]Fault{{ManifestFile, "it is not there, or cannot be read"}}}
	}
	if m, err = ReadManifest(raw); err != nil {
		return m, nil, err
	}
	known := map[string]bool{ManifestFile: true, SignOffFile: true}
	var all int64
	for _, e := range m.Files {
		if err := ctx.Err(); err != nil {
			return m, nil, err
		}
		known[e.Path] = true
		if all += e.Bytes; all > mostAll {
			return m, nil, &DamagedError{[]Fault{{"", "it is too large"}}}
		}
		if f := verifyFile(pack, e); f != nil {
			faults = append(faults, *f)
		}
	}
	if c := ContentHash(m.Files); c != m.Content {
		faults = append(faults, Fault{ManifestFile, "the hash of the data files is not theirs"})
	}
	if err := fs.WalkDir(pack, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if !d.IsDir() && !known[path] {
			faults = append(faults, Fault{path, "it was added to the pack"})
		}
		return nil
	}); err != nil {
		return m, nil, err
	}
	if raw, err := readBounded(pack, SignOffFile, mostManifest); err == nil {
		if _, err := ReadSignOff(raw, m.Hash); err != nil {
			faults = append(faults, Fault{SignOffFile, err.Error()})
		}
	}
	slices.SortFunc(faults, func(a, b Fault) int { return strings.Compare(a.Path, b.Path) })
	return m, faults, nil
}

// verifyFile checks one file; nil where it is as it was made.
func verifyFile(pack fs.FS, e FileEntry) *Fault {
	if err := CheckPath(e.Path); err != nil {
		return &Fault{"", err.Error()}
	}
	if e.Bytes > mostFile || e.Bytes < 0 {
		return &Fault{e.Path, "it is too large"}
	}
	data, err := readBounded(pack, e.Path, e.Bytes)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return &Fault{e.Path, "it is missing"}
	case errors.Is(err, errTooLarge):
		return &Fault{e.Path, "it was changed: it is longer than it was"}
	case err != nil:
		return &Fault{e.Path, "it cannot be read"}
	}
	is := File{Path: e.Path, Type: e.Type, Data: data}.Entry()
	if is.SHA256 != e.SHA256 {
		return &Fault{e.Path, "it was changed after it was made"}
	}
	if e.Path == DataFile {
		if _, err := ReadPack(data); err != nil {
			return &Fault{e.Path, err.Error()}
		}
	}
	return nil
}

var errTooLarge = errors.New("too large")

// readBounded reads a file of at most some bytes.
func readBounded(pack fs.FS, path string, most int64) ([]byte, error) {
	f, err := pack.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(raw)) > most {
		return nil, errTooLarge
	}
	return raw, err
}

// Open reads a pack that came as a zip file, or lies in a folder: its manifest, what is known of the site, and any file by its path. A pack
// that was tampered with, cut short, or leads out of itself is a *DamagedError; one of a newer program a *FormError.
func Open(ctx context.Context, pack fs.FS) (Manifest, Pack, error) {
	m, faults, err := Verify(ctx, pack)
	if err != nil {
		return m, Pack{}, err
	}
	if len(faults) > 0 {
		return m, Pack{}, &DamagedError{faults}
	}
	raw, err := readBounded(pack, DataFile, MostJSON)
	if err != nil {
		return m, Pack{}, &DamagedError{[]Fault{{DataFile, "it is missing"}}}
	}
	p, err := ReadPack(raw)
	return m, p, err
}

// Zip reads a pack out of a zip file. Files that lead out of it, are links, or are larger than they may be are a *DamagedError, before
// anything is unpacked; how large they say that they are is checked again when they are read.
func Zip(r io.ReaderAt, size int64) (fs.FS, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, &DamagedError{[]Fault{{"", "it is no zip file, or is cut short"}}}
	}
	if len(z.File) > mostFiles {
		return nil, &DamagedError{[]Fault{{"", "it holds too many files"}}}
	}
	var all uint64
	seen := map[string]bool{}
	for _, f := range z.File {
		if strings.HasSuffix(f.Name, "/") && f.UncompressedSize64 == 0 {
			continue
		}
		if err := CheckPath(f.Name); err != nil {
			return nil, &DamagedError{[]Fault{{"", err.Error()}}}
		}
		if !f.Mode().IsRegular() {
			return nil, &DamagedError{[]Fault{{f.Name, "it is no plain file"}}}
		}
		if seen[f.Name] {
			return nil, &DamagedError{[]Fault{{f.Name, "it is there twice"}}}
		}
		seen[f.Name] = true
		if all += f.UncompressedSize64; f.UncompressedSize64 > mostFile || all > mostAll {
			return nil, &DamagedError{[]Fault{{f.Name, "it is too large"}}}
		}
	}
	return z, nil
}
