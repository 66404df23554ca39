package api

import "time"

// Place is a named location outside of this machine where files lie.
type Place struct {
	Name     string     `json:"place"`
	Kind     string     `json:"kind" enum:"sftp,ftp,ftps,http,https,s3,azblob,gs"`
	Address  string     `json:"address"`
	User     string     `json:"user" doc:"Who signs in; empty for nobody, or whom the vendor's usual variables and files name"`
	Feeds    int        `json:"feeds" doc:"How many feeds have their landing there"`
	Requests int64      `json:"requests" doc:"That this service made of it since it began"`
	Until    *time.Time `json:"until" doc:"When its credential ends, as far as the settings say it"`
	Problem  string     `json:"problem" doc:"What this service asked of it last failed with; empty where it was good"`
}

// PlaceList is all places.
type PlaceList struct {
	Items []Place `json:"items" nullable:"false"`
}

// Queue is a queue of messages that say that something new may lie somewhere, as a service reads it.
type Queue struct {
	Name     string     `json:"queue"`
	URL      string     `json:"url"`
	Messages int64      `json:"messages" doc:"That came to this service since it began"`
	Unknown  int64      `json:"unknown" doc:"Of them, those that are of nothing that is known"`
	LastAt   *time.Time `json:"last_at" doc:"When the last message came"`
	LastSaid string     `json:"last_said" doc:"Of the last message of nothing that is known: why"`
	Problem  string     `json:"problem" doc:"Why it is not read now; empty where it is"`
}

// QueueList is all queues.
type QueueList struct {
	Items []Queue `json:"items" nullable:"false"`
}

// PlaceTest is what came of trying a place.
type PlaceTest struct {
	Place string      `json:"place"`
	Good  bool        `json:"good"`
	Steps []PlaceStep `json:"steps" nullable:"false"`
}

// PlaceStep is one thing that was tried.
type PlaceStep struct {
	What string `json:"what"`
	Good bool   `json:"good"`
	Said string `json:"said" doc:"What came of it, or what to do"`
}

// PlaceFile is a file at a place.
type PlaceFile struct {
	Path     string    `json:"path" doc:"Below the folder that was asked for"`
	Size     int64     `json:"size" doc:"Bytes"`
	Modified time.Time `json:"modified"`
	Problem  string    `json:"problem" doc:"Why it cannot be read as a file; empty when it can"`
}

// PlaceFiles is files of a folder of a place, and below it.
type PlaceFiles struct {
	Items []PlaceFile `json:"items" nullable:"false"`
	More  bool        `json:"more" doc:"There are others"`
}
