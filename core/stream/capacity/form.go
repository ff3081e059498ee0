package capacity

// A RecordingForm is how a site is recorded, as people type it.
type RecordingForm struct {
	Disks    string  `json:"disks" maxLength:"60" doc:"like 4x4TB, as they are sold"`
	Layout   string  `json:"layout,omitempty" maxLength:"30" doc:"none, mirrored, parity, double parity, or a RAID level"`
	Spares   int     `json:"spares,omitempty" minimum:"0" maximum:"1000"`
	Reserve  float64 `json:"reserve_percent,omitempty" minimum:"0" maximum:"99" doc:"what the file system keeps for itself"`
	Hours    float64 `json:"hours,omitempty" minimum:"0" maximum:"24" doc:"a day; missing for 24"`
	Motion   float64 `json:"motion_percent,omitempty" minimum:"0" maximum:"100" doc:"of those hours, where only motion is recorded"`
	Records  string  `json:"records,omitempty" enum:"main,sub,both"`
	Viewers  int     `json:"viewers,omitempty" minimum:"0" maximum:"100000" doc:"at once over the outside link"`
	LinkMbps float64 `json:"outside_mbps,omitempty" minimum:"0" maximum:"1000000" doc:"what the outside link carries, for comparison"`
	Days     float64 `json:"days,omitempty" minimum:"0" maximum:"36500" doc:"that are wanted; missing for none"`
	Evenly   bool    `json:"evenly,omitempty" doc:"every camera gets the same, in place of its present share"`
}

// UsualRecording is what a site is reckoned with until somebody says otherwise.
var UsualRecording = RecordingForm{Disks: "2x4TB", Records: "main"}

// Read returns the form as it is reckoned with. Its error is an *InputError for what cannot be.
func (b RecordingForm) Read() (r Recording, err error) {
	if r.Disks, err = ParseDisks(b.Disks); err == nil {
		r.Disks.Layout, err = ParseLayout(b.Layout)
	}
	if err != nil {
		return r, err
	}
	r.Disks.Spares, r.Disks.ReservePercent = b.Spares, b.Reserve
	r.Hours, r.Motion, r.Records, r.Viewers = b.Hours, b.Motion/100, b.Records, b.Viewers
	if err := r.Check(); err != nil {
		return r, err
	}
	_, err = r.Disks.UsableBytes()
	return r, err
}
