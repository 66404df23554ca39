package cli

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
)

// errNoList says that something cannot be written as CSV.
var errNoList = errors.New("there is no list in this that could be CSV; use -o json")

// writeCSV writes the items of a list, a line each. The columns are the fields of the API; those of
// objects within are called after both, such as balance.read, and lists within stay JSON.
func writeCSV(to io.Writer, list any) error {
	text, err := json.Marshal(list)
	if err != nil {
		return err
	}
	var whole struct {
		Items *[]json.RawMessage `json:"items"`
	}
	if err := json.Unmarshal(text, &whole); err != nil || whole.Items == nil {
		return errNoList
	}
	w := csv.NewWriter(to)
	at := map[string]int{}
	var head []string
	var rows [][]string
	for _, item := range *whole.Items {
		row := make([]string, len(head))
		err := flatten(item, "", func(name, value string) {
			i, known := at[name]
			if !known {
				i, at[name] = len(head), len(head)
				head, row = append(head, name), append(row, "")
			}
			row[i] = value
		})
		if err != nil {
			return err
		}
		rows = append(rows, row)
	}
	if len(head) == 0 {
		return nil
	}
	if err := w.Write(head); err != nil {
		return err
	}
	for _, row := range rows {
		if err := w.Write(append(row, make([]string, len(head)-len(row))...)); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// writeLines writes the items of a list as JSON, a line each, and what is no list in one line.
func writeLines(to io.Writer, v any) error {
	text, err := json.Marshal(v)
	if err != nil {
		return err
	}
	var whole struct {
		Items *[]json.RawMessage `json:"items"`
	}
	lines := []json.RawMessage{text}
	if json.Unmarshal(text, &whole) == nil && whole.Items != nil {
		lines = *whole.Items
	}
	for _, line := range lines {
		if _, err := to.Write(append(line, '\n')); err != nil {
			return err
		}
	}
	return nil
}

// flatten calls f with the fields of a JSON object, in their order.
func flatten(object []byte, before string, f func(name, value string)) error {
	d := json.NewDecoder(bytes.NewReader(object))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return errNoList
	}
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return err
		}
		var value json.RawMessage
		if err := d.Decode(&value); err != nil {
			return err
		}
		name := before + fmt.Sprint(key)
		var text string
		switch {
		case value[0] == '{':
			if err := flatten(value, name+".", f); err != nil {
				return err
			}
		case json.Unmarshal(value, &text) == nil: // null is empty
			f(name, text)
		default:
			f(name, string(value))
		}
	}
	return nil
}
