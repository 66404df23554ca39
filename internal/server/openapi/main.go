// Command openapi prints the API's OpenAPI document, from which the console's
// client is generated. It needs no service.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"

	"mullein/internal/engine"
	"mullein/internal/load"
	"mullein/internal/server"
	"mullein/internal/table"
)

func main() {
	document, err := server.New(nil, engine.New(engine.Options{Env: &load.Env{Databases: table.NewConnections(nil)}}), server.Identity{}, nil,
		slog.New(slog.DiscardHandler)).OpenAPI()
	var pretty bytes.Buffer
	if err == nil {
		err = json.Indent(&pretty, document, "", "  ")
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Println(pretty.String())
}
