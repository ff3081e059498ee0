package handover

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
)

// Names of files of a pack.
const (
	ManifestFile = "manifest.json"
	DataFile     = "handover.json"
	TablesFile   = "handover.xlsx"
	PaperFile    = "handover.pdf"
	LabelsFile   = "labels.pdf"
	SealedFile   = "sign-ins.age"
	SignOffFile  = "sign-off.json"
)

// A Manifest says what a version of a pack is: who made it and when, from what, and the hash of each file. It is never changed.
type Manifest struct {
	Form     int          `json:"form"`
	Site     uuid.UUID    `json:"site"`
	Name     string       `json:"name"` // of the site
	Number   int          `json:"number"`
	By       string       `json:"by"`
	At       time.Time    `json:"at"`
	Program  string       `json:"program"` // version of Unlatch
	Language string       `json:"language"`
	Baseline *AgreedState `json:"baseline,omitempty"`
	Record   Record       `json:"record"`
	Sealed   *SealedTo    `json:"sealed,omitempty"`
	Files    []FileEntry  `json:"files"`   // by path
	Content  string       `json:"content"` // hash of the data files: two packs of one state have the same
	Hash     string       `json:"hash"`    // of this manifest, with Hash empty
}

// An AgreedState is the agreed state that the site had.
type AgreedState struct {
	ID   uuid.UUID `json:"id"`
	Name string    `json:"name"`
	By   string    `json:"by"`
	At   time.Time `json:"at"`
}

// A Record is how far the record went, and the hash of its newest line, which holds all lines before.
type Record struct {
	Number int64  `json:"number"`
	Hash   string `json:"hash"`
}

// SealedTo says who may open the sealed sign-ins.
type SealedTo struct {
	Recipients []string `json:"recipients,omitempty"` // their public keys
	Passphrase bool     `json:"passphrase,omitempty"`
	SignIns    int      `json:"sign_ins"`
}

// A FileEntry is a file of a pack.
type FileEntry struct {
	Path   string `json:"path"`
	Type   string `json:"type"` // media type
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// A File is a file of a pack with its content.
type File struct {
	Path, Type string
	Data       []byte
}

// Entry returns the file's line in the manifest.
func (f File) Entry() FileEntry {
	sum := sha256.Sum256(f.Data)
	return FileEntry{Path: f.Path, Type: f.Type, Bytes: int64(len(f.Data)), SHA256: hex.EncodeToString(sum[:])}
}

// dataFile reports whether a file is made of the state alone, so that two packs of one state have it alike. Papers carry the time at which
// they were made, and what is sealed is sealed anew each time.
func dataFile(path string) bool {
	return path != PaperFile && path != LabelsFile && path != SealedFile
}

// ContentHash returns the SHA-256 of the data files: of their hashes and paths, line by line, in the order of their paths.
func ContentHash(files []FileEntry) string {
	h := sha256.New()
	sorted := slices.SortedFunc(slices.Values(files), func(a, b FileEntry) int { return strings.Compare(a.Path, b.Path) })
	for _, f := range sorted {
		if dataFile(f.Path) {
			fmt.Fprintf(h, "%s  %s\n", f.SHA256, f.Path)
		}
	}
	return hex.EncodeToString(h.Sum(nil))
}

// sum returns the hash of the manifest.
func (m Manifest) sum() string {
	m.Hash = ""
	raw, _ := json.Marshal(m) // texts, numbers and times
	h := sha256.Sum256(raw)
	return hex.EncodeToString(h[:])
}

// Complete sorts the files and fills the hashes in.
func (m *Manifest) Complete() {
	slices.SortFunc(m.Files, func(a, b FileEntry) int { return strings.Compare(a.Path, b.Path) })
	m.Content = ContentHash(m.Files)
	m.Hash = m.sum()
}

// Write returns the manifest as manifest.json.
func (m *Manifest) Write() ([]byte, error) {
	raw, err := json.MarshalIndent(m, "", " ")
	return append(raw, '\n'), err
}

// CheckPath checks the path of a file within a pack: relative, of plain parts, below the pack.
func CheckPath(p string) error {
	switch {
	case p == "" || len(p) > 300:
		return fmt.Errorf("the path of a file is empty or too long")
	case strings.ContainsAny(p, "\\\x00:") || path.IsAbs(p) || path.Clean(p) != p || p == ".." || strings.HasPrefix(p, "../"):
		return fmt.Errorf("the path %q leads out of the pack", p)
	}
	for _, r := range p {
		if r < ' ' || r == 0x7f {
			return fmt.Errorf("the path %q holds a control character", p)
		}
	}
	return nil
}
