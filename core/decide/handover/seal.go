package handover

import (
	"encoding/json"
	"errors"

	"github.com/google/uuid"

	"unlatch/core/ground/sealed"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/wiretext"
)

// A SealedSignIn is a sign-in as it stands in the sealed file, and what it is for.
type SealedSignIn struct {
	ID      uuid.UUID
	Label   string
	User    string
	Secret  signin.Secret
	For     []string // titles and addresses of what it opens, for people
	Devices []uuid.UUID
	Purpose string
}

// sealedLine is a sign-in in the sealed file.
type sealedLine struct {
	ID       uuid.UUID   `json:"id"`
	Label    string      `json:"label"`
	User     string      `json:"user"`
	Password string      `json:"password"`
	For      []string    `json:"for,omitempty"`
	Devices  []uuid.UUID `json:"devices,omitempty"`
	Purpose  string      `json:"purpose,omitempty"`
}

// sealedFile is what is sealed: JSON, which anyone reads with the age tool and an editor.
type sealedFile struct {
	Form    int          `json:"form"`
	Site    string       `json:"site"`
	SignIns []sealedLine `json:"sign_ins"`
}

// Seal seals sign-ins to recipients or to a passphrase (age-encryption.org/v1).
func Seal(site string, list []SealedSignIn, recipients string, passphrase signin.Secret) ([]byte, SealedTo, error) {
	f := sealedFile{Form: Form, Site: site, SignIns: []sealedLine{}}
	for _, s := range list {
		f.SignIns = append(f.SignIns, sealedLine{s.ID, s.Label, s.User, s.Secret.Reveal(), s.For, s.Devices, s.Purpose})
	}
	raw, err := json.MarshalIndent(f, "", " ")
	if err != nil {
		return nil, SealedTo{}, err
	}
	out, to, err := sealed.Seal(raw, recipients, passphrase)
	return out, SealedTo{Recipients: to.Recipients, Passphrase: to.Passphrase, SignIns: len(list)}, err
}

// mostSealed bounds what is sealed, in bytes.
const mostSealed = 16 << 20

// Unseal opens a sealed file with a secret key of age, which begins with AGE-SECRET-KEY-, or with a passphrase.
func Unseal(file []byte, with signin.Secret) ([]SealedSignIn, error) {
	raw, err := sealed.Open(file, with, mostSealed)
	if err != nil {
		return nil, err
	}
	var f sealedFile
	if err := json.Unmarshal(raw, &f); err != nil {
		return nil, errors.New("the sealed sign-ins cannot be read")
	}
	if f.Form > Form {
		return nil, &FormError{f.Form}
	}
	if len(f.SignIns) > MostCameras {
		return nil, errors.New("there are too many sealed sign-ins")
	}
	var out []SealedSignIn
	for _, s := range f.SignIns {
		out = append(out, SealedSignIn{ID: s.ID, Label: wiretext.Line(s.Label, 120), User: wiretext.Line(s.User, 120),
			Secret: signin.NewSecret(s.Password), For: s.For, Devices: s.Devices, Purpose: s.Purpose})
	}
	return out, nil
}
