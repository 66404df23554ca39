package api

import "time"

// Chains are what comes after what: feeds fill tables, rollups read tables, extracts read tables and write files,
// which feeds take.
type Chains struct {
	Nodes []ChainNode `json:"nodes" nullable:"false" doc:"Those of one chain lie together, the largest chain first"`
	Links []ChainLink `json:"links" nullable:"false"`
	More  int         `json:"more" doc:"How many others there are; ask for what is around one of them"`
}

// ChainNode is a feed, a table, a rollup or an extract.
type ChainNode struct {
	ID       string     `json:"id"`
	Kind     string     `json:"kind" enum:"feed,table,rollup,extract"`
	Name     string     `json:"name"`
	Chain    int        `json:"chain" doc:"Nodes of one chain have the same number"`
	State    string     `json:"state" enum:"good,waiting,needs,failed,paused,quiet" doc:"needs: something of it needs a person; quiet: nothing came lately"`
	Says     string     `json:"says" doc:"Why it does not work, or what it waits for"`
	LoadedAt *time.Time `json:"loaded_at" doc:"When a feed loaded last, or a rollup was computed last"`
	Waiting  int64      `json:"waiting" doc:"Arrivals, or notes of keys, that wait"`
}

// ChainLink says that one comes after another.
type ChainLink struct {
	From string `json:"from"`
	To   string `json:"to"`
	Why  string `json:"why" enum:"fills,read,after,files" doc:"after: its run follows; files: takes its files"`
}
