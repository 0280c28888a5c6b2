package world

import (
	"crypto/rand"
	"net"
	"os"
	"path/filepath"

	"hen-roost/internal/standin/spoken"
)

// Switch is a harbour's switch that runs.
type Switch struct {
	*spoken.Server
	Password string // of Hen Roost's own login
}

// StartSwitch starts one, as it has been since it was delivered and set up by hand, at an address on loopback.
func StartSwitch(dir, ip string) (*Switch, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	s := &Switch{Password: rand.Text()}
	l, err := spoken.NewSkerry(filepath.Join(dir, "state"), spoken.SkerryState{Name: "northquay",
		People: map[string]spoken.Mooring{
			"hen-roost": {Name: "Hen Roost", Class: "master", Hash: spoken.Hashed(s.Password)},
			"install":   {Class: "master", Hash: spoken.Hashed("install"), Seen: "2019044"},
			"odd.strand": {Name: "Odd S.", Class: "mooring", From: []string{"10.20.0.0/16"}, Hash: spoken.Hashed(rand.Text()),
				Seen: "2026327"},
			"rolf.eide": {Name: "Rolf Eide", Class: "master", Hash: spoken.Hashed(rand.Text()), Seen: "2024060"},
		},
		Classes: map[string][]string{"master": {"tell", "lights", "change people", "turn out"},
			"mooring": {"tell", "lights"}, "visitor": {}},
		Parties: map[string][]string{"quayside": {"odd.strand"}}})
	if err != nil {
		return nil, err
	}
	s.Server, err = spoken.Serve(l, net.JoinHostPort(ip, "0"), filepath.Join(dir, "key"))
	return s, err
}
