package api

// Setting is a setting that holds.
type Setting struct {
	Name   string `json:"name" doc:"Its path in the settings file"`
	Value  string `json:"value" doc:"As YAML; a secret is not shown"`
	Source string `json:"source" doc:"Where it comes from: default, a file with its line, a variable of the environment, or a flag"`
	About  string `json:"about" doc:"What it is"`
}

// SettingList is all settings, in the order of their documentation.
type SettingList struct {
	Items   []Setting `json:"items" nullable:"false"`
	Problem string    `json:"problem" doc:"Why the settings that are there now are not taken, so that the old ones hold; empty where they are"`
}
