package api

// Nudged is what was taken of a message that something new may lie at some paths.
type Nudged struct {
	Taken   int      `json:"taken" doc:"How many paths are looked at sooner, of feeds whose landings they are in"`
	Unknown []string `json:"unknown" nullable:"false" doc:"What is about nothing that is known"`
}

// RecordsTaken is how many rows were taken of a sender without files.
type RecordsTaken struct {
	Feed  string `json:"feed"`
	Taken int    `json:"taken" doc:"They are on the disk, and will be in a file of the landing"`
}
