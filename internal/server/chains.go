package server

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"mullein/internal/api"
	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/table"
)

// chain is what comes after what, by the ids of nodes.
type chain struct {
	nodes map[string]*api.ChainNode
	links []api.ChainLink
}

// add returns a node, which it makes where there is none.
func (c *chain) add(kind, name string) *api.ChainNode {
	id := kind + " " + name
	if kind == "rollup" { // the table that it fills
		id = "table " + name
	}
	n, ok := c.nodes[id]
	if !ok {
		n = &api.ChainNode{ID: id, Kind: kind, Name: name, State: "quiet"}
		c.nodes[id] = n
	}
	if kind == "rollup" {
		n.Kind = kind
	}
	return n
}

func (c *chain) link(from, to *api.ChainNode, why string) {
	c.links = append(c.links, api.ChainLink{From: from.ID, To: to.ID, Why: why})
}

// tableNamed returns the node of a table in the database behind a connection.
func (c *chain) tableNamed(connection, name string) *api.ChainNode {
	if connection != feed.MainConnection {
		name = connection + ": " + name
	}
	return c.add("table", name)
}

// neighbours returns which nodes are linked to which, either way.
func (c *chain) neighbours() map[string][]string {
	out := map[string][]string{}
	for _, l := range c.links {
		out[l.From] = append(out[l.From], l.To)
		out[l.To] = append(out[l.To], l.From)
	}
	return out
}

// number numbers the chains: nodes that hang together have the same number. It returns how many there are of each.
func (c *chain) number() map[int]int {
	next := c.neighbours()
	sizes := map[int]int{}
	for _, id := range sortedIDs(c.nodes) {
		if c.nodes[id].Chain > 0 {
			continue
		}
		number := len(sizes) + 1
		for todo := []string{id}; len(todo) > 0; todo = todo[1:] {
			n := c.nodes[todo[0]]
			if n.Chain > 0 {
				continue
			}
			n.Chain = number
			sizes[number]++
			todo = append(todo, next[n.ID]...)
		}
	}
	return sizes
}

// around returns the ids of what a node comes after, and of what comes after it.
func (c *chain) around(id string) map[string]bool {
	before, after := map[string][]string{}, map[string][]string{}
	for _, l := range c.links {
		before[l.To] = append(before[l.To], l.From)
		after[l.From] = append(after[l.From], l.To)
	}
	out := map[string]bool{}
	for _, next := range []map[string][]string{before, after} {
		seen := map[string]bool{}
		for todo := []string{id}; len(todo) > 0; todo = todo[1:] {
			if !seen[todo[0]] {
				seen[todo[0]], out[todo[0]] = true, true
				todo = append(todo, next[todo[0]]...)
			}
		}
	}
	return out
}

func sortedIDs(nodes map[string]*api.ChainNode) []string {
	out := make([]string, 0, len(nodes))
	for id := range nodes {
		out = append(out, id)
	}
	slices.Sort(out)
	return out
}

// chainNodes is how many nodes are shown at the most.
const chainNodes = 200

func (s *Server) chains(ctx context.Context, in *struct {
	Of string `query:"of" maxLength:"200" doc:"Only what is around this feed, table, rollup or extract, by its name"`
}) (*body[api.Chains], error) {
	c, err := s.chain(ctx)
	if err != nil {
		return nil, answer(err)
	}
	wanted := map[string]bool{}
	if in.Of != "" {
		for _, kind := range []string{"table ", "feed ", "extract "} {
			if _, ok := c.nodes[kind+in.Of]; ok && len(wanted) == 0 {
				wanted = c.around(kind + in.Of)
			}
		}
		if len(wanted) == 0 {
			return nil, answer(fmt.Errorf("a feed, a table, a rollup or an extract %s: %w", in.Of, ledger.ErrNotFound))
		}
	}
	out := api.Chains{Nodes: []api.ChainNode{}, Links: []api.ChainLink{}}
	sizes := c.number()
	ids := sortedIDs(c.nodes)
	slices.SortStableFunc(ids, func(a, b string) int {
		x, y := c.nodes[a].Chain, c.nodes[b].Chain
		return cmp.Or(cmp.Compare(sizes[y], sizes[x]), cmp.Compare(x, y))
	})
	shown := map[string]bool{}
	var feeds []string
	for _, id := range ids {
		switch {
		case in.Of != "" && !wanted[id]:
		case len(shown) == chainNodes:
			out.More++
		default:
			shown[id] = true
			if n := c.nodes[id]; n.Kind == "feed" {
				feeds = append(feeds, n.Name)
			}
		}
	}
	counts, err := s.ledger.Counts(ctx, feeds...)
	if err != nil {
		return nil, answer(err)
	}
	for _, id := range ids {
		if !shown[id] {
			continue
		}
		n := c.nodes[id]
		if f := counts[n.Name]; n.Kind == "feed" && f != nil {
			n.LoadedAt, n.Waiting = f.LastLoaded, f.Waiting
			if n.State == "good" && n.Waiting > 0 {
				n.State = "waiting"
			}
		}
		out.Nodes = append(out.Nodes, *n)
	}
	for _, l := range c.links {
		if shown[l.From] && shown[l.To] {
			out.Links = append(out.Links, l)
		}
	}
	return give(out, nil)
}

// chain returns all that comes after something.
func (s *Server) chain(ctx context.Context) (*chain, error) {
	c := &chain{nodes: map[string]*api.ChainNode{}}
	if err := s.chainFeeds(ctx, c); err != nil {
		return nil, err
	}
	rollups, err := s.target.Rollups(ctx)
	if err != nil {
		return nil, err
	}
	for i := range rollups {
		chainRollup(c, &rollups[i])
	}
	return c, s.chainExtracts(ctx, c)
}

func (s *Server) chainFeeds(ctx context.Context, c *chain) error {
	records, err := s.ledger.Feeds(ctx)
	if err != nil {
		return err
	}
	const hours = 24
	now := time.Now().UTC()
	standings, err := s.standing(ctx, hours, now.Add(-dayBack), now.Add(dayAhead))
	if err != nil {
		return err
	}
	ranks := make(map[string]int, len(standings))
	for _, st := range standings {
		ranks[st.Feed] = st.Rank
	}
	for _, r := range records {
		n := c.add("feed", r.Name)
		n.Says = cmp.Or(r.Problem, r.Waits)
		switch rank := ranks[r.Name]; {
		case r.Problem != "":
			n.State = "failed"
		case r.Paused:
			n.State = "paused"
		case rank == 1:
			n.State = "needs"
		case rank == 2:
			n.State = "good"
		}
		if r.Described == 0 {
			continue // it is not read yet
		}
		c.link(n, c.tableNamed(r.Connection, r.Target), "fills")
		for _, other := range r.ComesAfter {
			c.link(c.add("feed", other), n, "after")
		}
	}
	return nil
}

func chainRollup(c *chain, r *table.RollupState) {
	n := c.add("rollup", r.Table)
	n.LoadedAt, n.Waiting, n.Says = r.ComputedAt, r.Waiting, r.Problem
	switch n.State = "good"; {
	case r.Problem != "":
		n.State = "failed"
	case r.Waiting > 0 || !r.Filled:
		n.State = "waiting"
	}
	for _, source := range r.Sources {
		c.link(c.add("table", source), n, "read")
	}
}

func (s *Server) chainExtracts(ctx context.Context, c *chain) error {
	records, err := s.ledger.Extracts(ctx)
	if err != nil || len(records) == 0 {
		return err
	}
	takers, err := s.takers(ctx, each(records, parsedExtract)...)
	if err != nil {
		return err
	}
	for i := range records {
		x, v := parsedExtract(&records[i]), s.extractOf(&records[i], takers)
		n := c.add("extract", x.Name)
		n.Says = v.Problem
		n.State = map[string]string{"failed": "failed", "again": "needs", "paused": "paused", "working": "waiting"}[v.State]
		if n.State == "" {
			n.State = "good"
		}
		if from := x.Table; from != "" {
			if !strings.Contains(from, ".") {
				from = "public." + from
			}
			c.link(c.tableNamed(x.Connection, from), n, "read")
		}
		for _, other := range slices.Concat(x.When.AfterAll, x.When.AfterAny) {
			c.link(c.add("feed", other), n, "after")
		}
		for _, taker := range v.Feeds {
			c.link(n, c.add("feed", taker), "files")
		}
	}
	return nil
}
