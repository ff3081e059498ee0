package telling

import (
	"unlatch/core/decide/doctor"
)

// IllNews returns what of an installation's findings is news for a rule: those that are ill and that it was not told of, and the keys of
// those that it was told of and that are ill no more. told holds the keys of what it was told of.
func IllNews(found []doctor.ServerFinding, told map[string]string) (began []doctor.ServerFinding, over []string) {
	ill := map[string]bool{}
	for _, f := range found {
		if f.State != doctor.Ill {
			continue
		}
		ill[f.Key()] = true
		if _, known := told[f.Key()]; !known {
			began = append(began, f)
		}
	}
	for key := range told {
		if !ill[key] {
			over = append(over, key)
		}
	}
	return began, over
}

// OfIll returns the message of a finding of the installation.
func OfIll(f doctor.ServerFinding, a About) Message {
	return Message{Kind: Unwell, Site: a.Site, SiteName: line(a.Name), At: a.At, Severity: "urgent", Cause: f.Cause,
		Headline: line("Unlatch: " + f.Says), Do: line(f.Do), Link: a.Link}
}

// OfIllOver returns the message that what was told is no longer so.
func OfIllOver(said string, a About) Message {
	return Message{Kind: Over, Site: a.Site, SiteName: line(a.Name), At: a.At, Headline: line("Over: Unlatch: " + said), Link: a.Link}
}
