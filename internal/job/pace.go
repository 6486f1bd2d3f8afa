package job

// Pace is how fast a work went. All times are in seconds since its beginning.
type Pace struct {
	Samples []Sample  `json:"samples"`
	Phases  []PhaseAt `json:"phases"`
	Pauses  []Pause   `json:"pauses,omitempty"`
	Missed  []Miss    `json:"missed,omitempty"`
}

// Sample is the rate up to a moment, in bytes per second.
type Sample struct {
	At   float64 `json:"seconds"`
	Rate float64 `json:"rate"`
}

// PhaseAt is when a phase began.
type PhaseAt struct {
	Phase string  `json:"phase"`
	At    float64 `json:"seconds"`
}

// Pause is when the work was paused and when it went on; To is 0 where it didn't go on.
type Pause struct {
	From float64 `json:"from_seconds"`
	To   float64 `json:"to_seconds,omitempty"`
}

// Miss is when some bytes couldn't be read or written.
type Miss struct {
	At    float64 `json:"seconds"`
	Bytes int64   `json:"bytes"`
}
