package act

import (
	"cmp"
	"maps"
	"slices"
)

// words are what was done, as the record shows it. The line's subject follows.
var words = map[Name]string{
	"add-intakes": "brought intakes", "add-path-book": "brought a path book", "add-presets": "brought presets",
	"add-sign-in": "put a sign-in on the keyring", "add-target": "added the target", "see-certificate": "asked for the certificate at",
	"see-addresses": "asked where this name leads:",
	"add-site-plan": "brought the site plan", "rename-site-plan": "renamed the site plan", "remove-site-plan": "removed the site plan",
	"mark-on-site-plan": "marked on a site plan", "take-off-site-plan": "took off a site plan",
	"agree-for-target": "agreed what may go to the target readable",
	"agree-readable":   "agreed that sign-ins may be sent readable to", "apply-addresses": "gave addresses to",
	"attest": "attested the picture of", "cast-devices": "worked on the multicast of",
	"change-sign-in":  "changed where a sign-in may be tried",
	"change-password": "changed the own password", "change-person": "changed the role or the sites of", "end-session": "ended another session",
	"add-factor": "added a second factor for", "remove-factor": "took a second factor away from",
	"drop-factors": "took all second factors away from", "new-recovery-codes": "made new recovery codes for",
	"require-factors": "said who must have a second factor:", "sign-in-by-provider": "signed in by the provider of single sign-on",
	"take-recovery-code": "used a recovery code", "connect-sign-on": "connected to a provider of single sign-on the account of",
	"disconnect-sign-on": "disconnected from single sign-on the account of",
	"make-backup":        "asked for a backup",
	"put-relay":          "had a stream served on of", "delete-relay": "served on no more a stream of",
	"reveal-relay": "revealed the sign-in of the relay", "take-relay": "took the relay",
	"stop-pushes": "stopped all that is sent to live platforms at", "pause-push": "changed whether it is sent to a live platform:",
	"pair-worker": "paired the worker", "revoke-worker": "revoked the worker", "rotate-site-key": "gave another data key to sign-ins",
	"give-sites": "changed the sites of the worker", "update-worker": "told to update the worker",
	"offer-program": "offered to workers the program of version",
	"make-page":     "made an address for web pages of",
	"rotate-key":    "gave the keyring another key",
	"make-token":    "made an API token", "revoke-token": "revoked the API token",
	"invite-person": "invited", "remove-person": "removed the account of", "reset-person": "made a link for a new password of",
	"take-link": "made an account or a password by a one-time link", "withdraw-link": "withdrew the one-time link for",
	"change-site": "changed the site", "change-target": "changed slots of the target", "claim-devices": "claimed",
	"close-feed": "withdrew the address of the feed", "consent": "agreed to connect to the stray", "create-site": "made the site",
	"delete-intakes": "removed intakes", "delete-path-book": "removed a path book", "delete-plan": "took away the plan",
	"delete-presets": "removed presets", "delete-sign-in": "took a sign-in off the keyring", "delete-site": "removed the site",
	"delete-target": "removed the target", "dismiss-claim": "set a claim aside to be", "end-storms": "set storms of announcements aside at",
	"fill": "filled slots with", "fix-devices": "mended", "send-command": "sent a command to",
	"take-baseline": "agreed on the state of", "set-rounds": "said how to watch",
	"look-now": "had everything looked at that is watched at", "repair-drifts": "put right what was agreed on of",
	"accept-drifts": "accepted as agreed what has changed of", "put-off-drifts": "put off what has changed of",
	"replace-device": "replaced", "put-tell-rule": "said who is told of", "delete-tell-rule": "said that nobody is told any more of",
	"test-telling": "sent a test message of", "set-keeping": "said how long the past is kept:",
	"waive-finding": "waived at the handover of", "withdraw-waiver": "took back what was waived at the handover of",
	"attest-item": "attested at the handover:", "put-checklist": "wrote the handover checklist", "set-firm": "said whose papers these are:",
	"make-handover": "began a handover pack of", "handover-made": "made the handover pack of", "sign-handover": "signed the handover of",
	"open-pack":   "opened the handover pack of",
	"put-outside": "planned the outside ports of", "prove-outside": "had proven from outside",
	"forget-devices": "forgot", "import-address-list": "imported an address list",
	"import-sign-ins": "imported sign-ins", "look-at-targets": "looked at", "mark-devices": "marked",
	"move-placement": "moved to another slot",
	"open-feed":      "made a new address for the feed", "open-latches": "opened latches of", "order-list": "set the order of the list",
	"order-sign-ins": "set the order of the keyring", "place": "placed", "plan-devices": "planned the streams of",
	"put-costs": "said how the site is recorded", "put-plan": "planned the streams", "remove-address-list": "removed the address list",
	"remove-from-target": "took off a target", "rename-device": "renamed the device at", "reveal-sign-in": "revealed the sign-in",
	"reveal-url": "revealed the URL of", "save-preset": "kept a preset", "set-groups": "set the groups of",
	"set-roles": "chose the roles of the streams of",
	"set-rule":  "set when a hub shows", "set-target": "changed the target", "set-target-intake": "said what the target accepts",
	"set-up": "made the first account", "show-on-screen": "showed on a screen", "sign-in": "signed in", "sign-out": "signed out",
	"start-sweep": "swept", "stop-run": "stopped", "take-certificate": "took the certificate of",
	"take-list":  "took a list with passwords for",
	"take-paste": "took a pasted URL at", "take-target-certificate": "took the certificate of the target",
	"tune-devices":     "set the streams of",
	"use-listed-names": "gave listed names to", "name-devices": "named",
	"take-away-stream": "took away a stream of, or put it back:",
	"walk-past":        "walked past", "watch-live": "looked at the live picture of",
	"watch-site":         "changed the listening at",
	"withdraw-agreement": "withdrew the agreement to send sign-ins readable to", "withdraw-consent": "took back the consent to connect to",
	"withdraw-target-agreement": "took back what may go to the target readable",
}

// Words returns what an act of the name does, in the past tense, for its line in the record; the name itself where it has no words.
func (n Name) Words() string {
	if w := words[n]; w != "" {
		return w
	}
	return string(n)
}

// Names returns the names of all acts that have words, in the order of their words.
func Names() []Name {
	return slices.SortedFunc(maps.Keys(words), func(a, b Name) int { return cmp.Or(cmp.Compare(words[a], words[b]), cmp.Compare(a, b)) })
}
