package notice

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"mullein/internal/core/feed"
	"mullein/internal/core/news"
	"mullein/internal/core/tabular"
	"mullein/internal/ledger"
	"mullein/internal/settings"
)

// What follows is written as OpenLineage says in its specification, version 2-0-2: a run event at the
// beginning and at the end of each attempt to load an arrival. A feed is a job; a file goes in, and
// a table comes out.
const (
	lineageSpec   = "https://openlineage.io/spec/2-0-2/OpenLineage.json#/$defs/RunEvent"
	lineageFacets = "https://openlineage.io/spec/facets/"
	lineageOf     = "urn:mullein"
	// lineageNamespace is that of jobs where an outlet names no other.
	lineageNamespace = "mullein"
)

// runEvent is a run event.
type runEvent struct {
	EventType string        `json:"eventType"`
	EventTime time.Time     `json:"eventTime"`
	Run       lineageRun    `json:"run"`
	Job       lineageThing  `json:"job"`
	Inputs    []lineageData `json:"inputs"`
	Outputs   []lineageData `json:"outputs"`
	Producer  string        `json:"producer"`
	SchemaURL string        `json:"schemaURL"`
}

type lineageRun struct {
	ID     string         `json:"runId"`
	Facets map[string]any `json:"facets"`
}

type lineageThing struct {
	Namespace string         `json:"namespace"`
	Name      string         `json:"name"`
	Facets    map[string]any `json:"facets"`
}

type lineageData struct {
	lineageThing
	In  map[string]any `json:"inputFacets,omitempty"`
	Out map[string]any `json:"outputFacets,omitempty"`
}

// facet returns a facet with what every facet says, and the names and values that follow.
func facet(schema string, of ...any) map[string]any {
	name, _, _ := strings.Cut(schema[strings.LastIndexByte(schema, '/')+1:], ".")
	out := map[string]any{"_producer": lineageOf, "_schemaURL": lineageFacets + schema + "#/$defs/" + name}
	for i := 0; i < len(of); i += 2 {
		out[of[i].(string)] = of[i+1]
	}
	return out
}

// typesOfLineage are the types of events, by the state that an arrival is in then.
var typesOfLineage = map[string]string{string(ledger.Loading): "START", "load": "COMPLETE", string(ledger.Refused): "FAIL",
	string(ledger.Failed): "FAIL", string(ledger.Skipped): "ABORT", string(ledger.Held): "ABORT", string(ledger.Gone): "ABORT"}

// typeOfLineage returns the type of the run event that an event is told by; "" for none.
func typeOfLineage(e *ledger.Event) string {
	switch {
	case e.Run == 0 && e.Kind != "load":
		return ""
	case e.Kind == "load":
		return typesOfLineage["load"]
	case e.Kind == "arrival":
		return typesOfLineage[e.State]
	}
	return ""
}

// lineage writes the notices for outlets that take lineage.
func (t *Teller) lineage(ctx context.Context, s *settings.Settings, events []ledger.Event, feeds map[string]reader, out *[]ledger.Notice) error {
	to := map[string][]string{} // outlets, by feed
	var numbers, ended []int64
	for i := range events {
		e := &events[i]
		f, there := feeds[e.Feed]
		if !there || typeOfLineage(e) == "" {
			continue
		}
		if _, known := to[e.Feed]; !known {
			to[e.Feed] = nil
			for at := range routesOf(s, news.Loaded, e.Feed, f) {
				if s.Outlets[at.outlet].Lineage != "" {
					to[e.Feed] = append(to[e.Feed], at.outlet)
				}
			}
			slices.Sort(to[e.Feed])
		}
		if len(to[e.Feed]) > 0 {
			numbers = append(numbers, e.Arrival)
			if typeOfLineage(e) == "ABORT" {
				ended = append(ended, e.ID)
			}
		}
	}
	if len(numbers) == 0 {
		return nil
	}
	arrivals, err := t.Ledger.ByNumber(ctx, numbers)
	if err != nil {
		return err
	}
	// What people decide later ends no run.
	begun := map[int64]bool{}
	if len(ended) > 0 {
		if begun, err = t.Ledger.WereLoading(ctx, ended); err != nil {
			return err
		}
	}
	names := []string{}
	for name, outlets := range to {
		if len(outlets) > 0 {
			names = append(names, name)
		}
	}
	definitions, err := t.about.look(ctx, names)
	if err != nil {
		return err
	}
	for i := range events {
		e := &events[i]
		a, there := arrivals[e.Arrival]
		f := definitions[e.Feed]
		if kind := typeOfLineage(e); kind != "" && there && f != nil && (kind != "ABORT" || begun[e.ID]) {
			for _, outlet := range to[e.Feed] {
				n, err := t.runNotice(outlet, s, e, &a, f, kind)
				if err != nil {
					return err
				}
				*out = append(*out, n)
			}
		}
	}
	return nil
}

func (t *Teller) runNotice(outlet string, s *settings.Settings, e *ledger.Event, a *ledger.Arrival, f *feed.Feed, kind string) (
	n ledger.Notice, err error) {
	event, err := json.Marshal(t.runEvent(namespaceOf(s.Outlets[outlet]), e, a, f, kind))
	if err != nil {
		return n, err
	}
	n = ledger.Notice{Outlet: outlet, Kind: news.Loaded, Occasion: ledger.Happened, Feed: e.Feed, State: ledger.NoticeWaiting,
		Subject: oneLine(fmt.Sprintf("%s: %s of %s", e.Feed, kind, a.Path))}
	n.Message, err = json.Marshal(stored{Text: n.Subject, Event: event})
	return n, err
}

// runEvent tells of the beginning or the end of an attempt.
func (t *Teller) runEvent(namespace string, e *ledger.Event, a *ledger.Arrival, f *feed.Feed, kind string) runEvent {
	run := e.Run
	if run == 0 && a.RunID != nil { // a load's event names its arrival only
		run = *a.RunID
	}
	id := uuid.NewSHA1(uuid.NameSpaceURL, []byte("urn:mullein:arrival:"+strconv.FormatInt(a.ID, 10)+":run:"+strconv.FormatInt(run, 10)))
	out := runEvent{EventType: kind, EventTime: e.At.UTC(), Producer: lineageOf, SchemaURL: lineageSpec,
		Run: lineageRun{id.String(), map[string]any{}},
		Job: lineageThing{namespace, f.Name, map[string]any{"jobType": facet("2-0-3/JobTypeJobFacet.json", "processingType", "BATCH",
			"integration", "MULLEIN", "jobType", "FEED")}}}
	if a.Slot != nil {
		out.Run.Facets["nominalTime"] = facet("1-0-1/NominalTimeRunFacet.json", "nominalStartTime", a.Slot.UTC())
	}
	if kind == "FAIL" {
		out.Run.Facets["errorMessage"] = facet("1-0-1/ErrorMessageRunFacet.json", "message", cmp.Or(a.Reason, string(a.State)),
			"programmingLanguage", "Go")
	}
	if f.About != "" {
		out.Job.Facets["documentation"] = facet("1-0-1/DocumentationJobFacet.json", "description", f.About)
	}
	if f.Owner != "" {
		out.Job.Facets["ownership"] = facet("1-0-1/OwnershipJobFacet.json", "owners", []map[string]any{{"name": f.Owner}})
	}
	in := lineageData{lineageThing: lineageThing{"file", path.Join(f.Landing.At, a.Path), map[string]any{
		"storage": facet("1-0-1/StorageDatasetFacet.json", "storageLayer", "file", "fileFormat", string(f.Format)),
		"schema":  schemaFacet(fileFields(f)),
	}}}
	if a.SHA256 != "" {
		in.Facets["version"] = facet("1-0-1/DatasetVersionDatasetFacet.json", "datasetVersion", a.SHA256)
	}
	address, name := "", ""
	if t.Database != nil {
		address, name = t.Database(f.Target.Connection)
	}
	table := lineageData{lineageThing: lineageThing{"postgres://" + address, strings.TrimPrefix(name+"."+f.Target.Schema+"."+f.Target.Table, "."),
		map[string]any{"schema": schemaFacet(tableFields(f)), "columnLineage": columnFacet(f, &in)}}}
	if kind == "COMPLETE" {
		in.In = map[string]any{"inputStatistics": facet("1-0-0/InputStatisticsInputDatasetFacet.json", "rowCount", a.Balance.Read,
			"size", a.Size, "fileCount", 1)}
		table.Out = map[string]any{"outputStatistics": facet("1-0-2/OutputStatisticsOutputDatasetFacet.json", "rowCount",
			a.Balance.Inserted+a.Balance.Updated)}
	}
	out.Inputs, out.Outputs = []lineageData{in}, []lineageData{table}
	return out
}

// namespaceOf returns the namespace of the jobs of an outlet.
func namespaceOf(o settings.Outlet) string { return cmp.Or(o.Namespace, lineageNamespace) }

// testRun is a run event of nothing, which says that events arrive.
func testRun(namespace string) runEvent {
	return runEvent{EventType: "OTHER", EventTime: time.Now().UTC(), Producer: lineageOf, SchemaURL: lineageSpec,
		Run: lineageRun{uuid.NewString(), map[string]any{}}, Job: lineageThing{namespace, "test-of-the-outlet", map[string]any{}},
		Inputs: []lineageData{}, Outputs: []lineageData{}}
}

type lineageField struct {
	Name string `json:"name"`
	Type string `json:"type,omitempty"`
	Say  string `json:"description,omitempty"`
}

func schemaFacet(fields []lineageField) map[string]any {
	return facet("1-1-1/SchemaDatasetFacet.json", "fields", fields)
}

// fileFields are the columns that a feed takes from its files.
func fileFields(f *feed.Feed) []lineageField {
	out := []lineageField{}
	for i := range f.Schema.Fields {
		of := &f.Schema.Fields[i]
		out = append(out, lineageField{Name: sourceOf(of), Type: of.Type})
	}
	return out
}

func sourceOf(f *tabular.Field) string { return cmp.Or(f.Source, f.Name) }

// tableFields are the columns that a feed fills.
func tableFields(f *feed.Feed) []lineageField {
	out := []lineageField{}
	for i := range f.Schema.Fields {
		if of := &f.Schema.Fields[i]; !of.Unstored {
			out = append(out, lineageField{of.Name, of.Type, of.Description})
		}
	}
	for _, d := range f.Derive {
		out = append(out, lineageField{Name: d.Name})
	}
	return out
}

// columnFacet says from which columns of a file those of the table come.
func columnFacet(f *feed.Feed, in *lineageData) map[string]any {
	fields := map[string]any{}
	from := func(name, kind, how string, sources ...string) {
		list := []map[string]any{}
		for _, source := range sources {
			list = append(list, map[string]any{"namespace": in.Namespace, "name": in.Name, "field": source,
				"transformations": []map[string]any{{"type": "DIRECT", "subtype": kind, "description": how, "masking": false}}})
		}
		fields[name] = map[string]any{"inputFields": list}
	}
	source := map[string]string{}
	for i := range f.Schema.Fields {
		of := &f.Schema.Fields[i]
		source[of.Name] = sourceOf(of)
		if !of.Unstored {
			from(of.Name, "IDENTITY", "", sourceOf(of))
		}
	}
	for _, d := range f.Derive {
		var sources []string
		for _, name := range d.Reads {
			if of, is := source[strings.TrimPrefix(name, "row.")]; is && strings.HasPrefix(name, "row.") {
				sources = append(sources, of)
			}
		}
		from(d.Name, "TRANSFORMATION", d.Expression, sources...)
	}
	return facet("1-2-0/ColumnLineageDatasetFacet.json", "fields", fields)
}

// sendLineage posts a run event, or writes it behind the others of a file, a line each.
func sendLineage(ctx context.Context, o settings.Outlet, m *Message) (string, error) {
	if path.IsAbs(o.Lineage) {
		file, err := os.OpenFile(o.Lineage, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o640)
		if err != nil {
			return "", err
		}
		_, err = file.Write(append(bytes.Clone(m.Event), '\n'))
		if closed := file.Close(); err == nil {
			err = closed
		}
		return "written", err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, o.Lineage, bytes.NewReader(m.Event))
	if err != nil {
		return "", err
	}
	request.Header.Set("Content-Type", "application/json")
	secret, err := secretOf(o.Secret, o.SecretFile)
	if err != nil {
		return "", err
	}
	if secret != "" {
		request.Header.Set("Authorization", "Bearer "+secret)
	}
	return handOver(request)
}
