package store

// Tellings are who is told what, and how that goes.
type Tellings struct{ *database }
