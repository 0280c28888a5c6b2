package world

import (
	"crypto/rand"
	"net"
	"os"
	"path/filepath"

	"hen-roost/internal/standin/spoken"
)

// Spoken is a made-up system that is run by typing at it, and runs.
type Spoken struct {
	*spoken.Server
	Password string // of Hen Roost's own login
}

// startSpoken starts one at an address on loopback, over SSH or plainly. made makes what it understands, with its state in a file,
// and a login of Hen Roost's own.
func startSpoken(dir, ip string, plain bool, made func(file, hash string) (spoken.Language, error)) (*Spoken, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	s := &Spoken{Password: rand.Text()}
	l, err := made(filepath.Join(dir, "state"), spoken.Hashed(s.Password))
	if err != nil {
		return nil, err
	}
	key := filepath.Join(dir, "key")
	if plain {
		key = ""
	}
	s.Server, err = spoken.Serve(l, net.JoinHostPort(ip, "0"), key)
	return s, err
}

// nobodys is a password that nobody knows.
func nobodys() string { return spoken.Hashed(rand.Text()) }

// StartSwitch starts a harbour's switch, as it has been since it was delivered and set up by hand.
func StartSwitch(dir, ip string) (*Spoken, error) {
	return startSpoken(dir, ip, false, func(file, ours string) (spoken.Language, error) {
		return spoken.NewSkerry(file, spoken.SkerryState{Name: "northquay",
			People: map[string]spoken.Mooring{
				"hen-roost":  {Name: "Hen Roost", Class: "master", Hash: ours},
				"install":    {Class: "master", Hash: spoken.Hashed("install"), Seen: "2019044"},
				"odd.strand": {Name: "Odd S.", Class: "mooring", From: []string{"10.20.0.0/16"}, Hash: nobodys(), Seen: "2026327"},
				"rolf.eide":  {Name: "Rolf Eide", Class: "master", Hash: nobodys(), Seen: "2024060"},
			},
			Classes: map[string][]string{"master": {"tell", "lights", "change people", "turn out"}, "mooring": {"tell", "lights"},
				"visitor": {}},
			Parties: map[string][]string{"quayside": {"odd.strand"}}})
	})
}

// StartRouter starts the old bridge's router, with the login that it was delivered with open.
func StartRouter(dir, ip string) (*Spoken, error) {
	return startSpoken(dir, ip, true, func(file, ours string) (spoken.Language, error) {
		return spoken.NewBollard(file, spoken.BollardState{Users: map[string]spoken.Hand{
			"roost":     {Level: 9, Hash: ours},
			"service":   {Level: 9, Hash: spoken.Hashed("service")},
			"odd":       {Full: "Odd Strand", Level: 9, Hash: nobodys(), Last: 2458164},
			"rolf.eide": {Full: "Rolf Eide, who minded the bridge and its lamps until the new one was built", Level: 1, Hash: nobodys()},
		}})
	})
}

// StartCrewing starts the crewing office's batch system, with some of the crew entered by hand.
func StartCrewing(dir, ip string) (*Spoken, error) {
	return startSpoken(dir, ip, false, func(file, ours string) (spoken.Language, error) {
		return spoken.NewManning(file, spoken.ManningState{Groups: map[string]spoken.Watch{"deck": {In: []string{"marit.fell",
			"anders.moe"}}},
			People: map[string]spoken.Berth{
				"hen-roost":  {Full: "Hen Roost", Office: true, Hash: ours},
				"marit.fell": {Full: "M. Fell", Number: 1001, Group: "deck", Entered: "2459000", Hash: nobodys()},
				"sean":       {Full: "Seán O'Neill", Number: 1003, Group: "deck", Entered: "2459001", Hash: nobodys()},
				"anders.moe": {Full: "Anders Moe", Number: 997, Group: "deck", Entered: "2457755", Hash: nobodys()},
			}})
	})
}

// StartTimetables starts the application in which timetables are published.
func StartTimetables(dir, ip string) (*Spoken, error) {
	return startSpoken(dir, ip, false, func(file, ours string) (spoken.Language, error) {
		return spoken.NewFolio(file, spoken.FolioState{Admin: "press", Hash: ours,
			Roles: map[string]string{"author": "writes timetables", "editor": "has them printed"},
			People: map[string]spoken.Author{
				"helene.roux": {ID: 100, Name: "Hélène Roux", Mail: "helene.roux@ternsound.example", Roles: []string{"author", "editor"}},
				"rolf.eide":   {ID: 101, Name: "Rolf Eide", Mail: "rolf@ternsound.example", Roles: []string{"editor"}},
			}})
	})
}
