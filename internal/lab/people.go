// Package lab holds the simulated devices and services that ship with Tollgate Key, and the invented ferry operator
// Lantern Ferries that they belong to.
package lab

import (
	"fmt"
	"strings"
	"time"
)

// The names of the invented operator.
const (
	Domain  = "lanternferries.example"
	NetBIOS = "LANTERN"
	BaseDN  = "DC=lanternferries,DC=example"
	// ServiceName and ServicePassword are the account with which Tollgate Key reads the directory.
	ServiceName     = "svc-tollgate"
	ServicePassword = "beacon-and-buoy"
)

// Condition is why a person of the directory may not sign in; "" for most.
type Condition string

const (
	Disabled        Condition = "disabled"
	Expired         Condition = "expired"
	Locked          Condition = "locked"
	MustChange      Condition = "must-change"
	PasswordExpired Condition = "password-expired"
)

// Person is one of the people in the stand-in directory.
type Person struct {
	User, First, Last string
	Site              string
	Groups            []string
	Condition         Condition
	number            int
}

// Password is what the person signs in with.
func (p *Person) Password() string { return "harbour-" + p.User }

// Display is the full name.
func (p *Person) Display() string { return p.First + " " + p.Last }

// DN is where the person is in the directory.
func (p *Person) DN() string {
	return fmt.Sprintf("CN=%s,OU=%s,OU=People,%s", p.Display(), p.Site, BaseDN)
}

// MAC is the address of the person's computer, from a range kept for documentation (RFC 7042 section 2.1.2).
func (p *Person) MAC() string { return fmt.Sprintf("00-00-5E-00-53-%02X", p.number) }

var firstNames = strings.Fields(`Sunniva Tobia Wessel Ingrid Calder Maren Odile Brannoch Petra Lorcan Signe Anselm
	Yara Corwin Helka Dorian Frauke Emrys Noor Stellan Ruta Kester Alda Joris Merete Silvan Thora Evander Liv Ambrose
	Kaia Roderic Ilse Tamsin Osric Vesna Hollis Greta Fenwick Salome Birger Nerys Casimir Runa Lowen Edda Marek Isolde
	Torben Wilma Pascoe Anneke Denzil Freya Gorran Hedda Jory Katla Leif Mina`)

var lastNames = strings.Fields(`Lodge Marchetti Achterberg Solvang Penrose Haukland Vasseur Tulloch Kormann Fearon
	Bjerke Waldeck Sayegh Trevane Lehtola Ashdown Brinkema Prydderch Haddad Nyberg Kalnina Oakes Fairlie Molenaar
	Skagen Orsini Eide Lykos Strand Pell Rosvold Thane Eberlin Carlyon Whitlock Horvat Marsh Lindqvist Garth Benami
	Dahl Pryce Wolski Ravn Trembath Holm Zelenka Faramond Krag Ostrova Nance Dekker Roskilly Aune Chenoweth Moberg
	Kernow Fjeld Astrup Ferrant`)

var departments = []string{"Ticketing", "Deck Officers", "Engine Room", "Port Operations", "Ticketing",
	"Harbour Office", "Contractors", "Port Operations", "Ticketing", "Engine Room"}

var sites = []string{"North Pier", "South Pier", "MV Heron"}

var conditions = map[int]Condition{7: Disabled, 13: Expired, 22: Locked, 29: MustChange, 38: PasswordExpired,
	55: Disabled}

// People are everybody in the directory, the same at every start.
func People() []Person {
	out := make([]Person, len(firstNames))
	for i := range firstNames {
		p := Person{First: firstNames[i], Last: lastNames[i], Site: sites[i%len(sites)],
			Groups: []string{departments[i%len(departments)]}, Condition: conditions[i], number: i}
		p.User = strings.ToLower(p.First[:1] + "." + p.Last)
		switch {
		case i == 0: // in two departments, which order has to settle
			p.Groups = append(p.Groups, "Harbour Office")
		case i%19 == 3:
			p.Groups = []string{"Network Team"}
		case i == 41: // in no department
			p.Groups = nil
		}
		out[i] = p
	}
	return out
}

// nested are groups that hold groups.
var nested = map[string][]string{
	"Shore Staff":     {"Ticketing", "Port Operations", "Harbour Office"},
	"All Crew":        {"Deck Officers", "Engine Room"},
	"Lantern Ferries": {"Shore Staff", "All Crew", "Network Team"},
}

var groupNames = []string{"Deck Officers", "Engine Room", "Ticketing", "Port Operations", "Network Team",
	"Contractors", "Harbour Office", "Shore Staff", "All Crew", "Lantern Ferries", computersGroup}

func groupDN(name string) string { return fmt.Sprintf("CN=%s,OU=Groups,%s", name, BaseDN) }

// fileTime writes a moment as the directory does: 100-nanosecond steps since 1601.
func fileTime(at time.Time) string { return fmt.Sprint((at.Unix() + 11_644_473_600) * 10_000_000) }
