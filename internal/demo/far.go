package demo

import (
	"context"
	"maps"
	"path/filepath"
	"strings"

	"mullein/internal/localssh"
	"mullein/internal/settings"
)

// buoyPlace is the place of the buoys' files, and buoyLanding what it stands for in the feed.
const (
	buoyPlace   = "estuary-buoys"
	buoyLanding = "landing/buoys"
)

// FarSide starts the SFTP server that the buoys leave their profiles at, which serves their folder below root, and keeps its
// keys in a folder of home. It ends with ctx. The settings that it returns name the place.
func FarSide(ctx context.Context, home, root string) (func(settings.Settings) settings.Settings, error) {
	server, err := localssh.Start(ctx, filepath.Join(home, "sftp"))
	if err != nil {
		return nil, err
	}
	context.AfterFunc(ctx, func() { _ = server.Stop() }) // the process ends
	folder, err := filepath.Abs(filepath.Join(root, buoyLanding))
	if err != nil {
		return nil, err
	}
	return func(s settings.Settings) settings.Settings {
		places := maps.Clone(s.Places)
		if places == nil {
			places = map[string]settings.Place{}
		}
		places[buoyPlace] = settings.Place{Address: "sftp://" + server.Address + folder, User: server.User, KeyFile: server.KeyFile,
			HostKeys: []string{server.HostKey}}
		s.Places = places
		return s
	}, nil
}

// atPlaces has a sample feed take its files from the place instead of the folder.
func atPlaces(text string) string {
	return strings.Replace(text, "at: "+buoyLanding+"\n", "at: place:"+buoyPlace+"\n", 1)
}
