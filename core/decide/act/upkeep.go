package act

// MakeBackup has the server that makes backups by itself make one now.
type MakeBackup struct {
	// To is the folder of its schedule; "" where no server has one.
	To string
}

// About implements Act.
func (a MakeBackup) About() About { return About{Name: "make-backup", Right: Administer} }

// Decide implements Act.
func (a MakeBackup) Decide(Facts) (Outcome, error) {
	if a.To == "" {
		return Outcome{}, refuse("no_schedule", "No server knows where to make backups.", "Set backup-to in its settings, and start it anew.")
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: "in " + a.To}}, nil
}
