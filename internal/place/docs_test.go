package place_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/place/placetest"
	"mullein/internal/settings"
)

// TestDocumentedPlaces has the places of the documentation work as they are written there, but for who signs in where. Those of
// object stores are in package objects.
func TestDocumentedPlaces(t *testing.T) {
	t.Parallel()
	of := placetest.Documented(t, "../../docs/places.md")
	_, sftp, far := sshServer(t)
	ftp, volunteers := ftpServer(t, "")
	upper, rain := of["upper-catchment"], of["rain-office"]
	require.True(t, strings.HasPrefix(upper.Address, "sftp://") && strings.HasPrefix(rain.Address, "ftp://"))
	upper.Address, upper.User, upper.KeyFile, upper.HostKeys = sftp.Address, sftp.User, sftp.KeyFile, sftp.HostKeys
	rain.Address, rain.User, rain.Password, rain.PasswordFile, rain.TLS = ftp.Address, ftp.User, ftp.Password, "", ftp.TLS
	p := places(t, map[string]settings.Place{"upper-catchment": upper, "rain-office": rain})
	write(t, far, "buoys/BUOY_B1_20261129.csv", []byte("x\n"))
	write(t, volunteers, "rain.csv", []byte("x\n"))
	for _, name := range []string{"upper-catchment", "rain-office"} {
		steps, err := p.Test(t.Context(), name)
		require.NoError(t, err)
		for _, s := range steps {
			assert.True(t, s.Good, s)
		}
	}
	assert.Equal(t, []string{"BUOY_B1_20261129.csv 2 "}, placetest.Listed(t, placetest.At(t, p, "place:upper-catchment/buoys")))
	assert.Equal(t, []string{"BUOY_B1_20261129.csv 2 "}, placetest.Listed(t, placetest.At(t, p, sftp.Address+"/buoys")), "by its address")
	files, more, err := p.Browse(t.Context(), "rain-office", ".", 10)
	require.NoError(t, err)
	assert.False(t, more)
	assert.Len(t, files, 1)
	ending := p.Ending(upper.EndsOn().AddDate(0, 0, -10), 14*24*3600*1e9)
	assert.Contains(t, ending["place upper-catchment"], "2027-03-31")
	var list []string
	for _, k := range p.List() {
		assert.Positive(t, k.Requests)
		list = append(list, k.Name)
	}
	assert.Equal(t, []string{"rain-office", "upper-catchment"}, list)
}
