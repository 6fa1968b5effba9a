package portal

import (
	"fmt"
	"time"
)

// InvitationSubject is that of the mail with an invitation.
const InvitationSubject = "Set up your second factor / Richten Sie Ihren zweiten Faktor ein"

// InvitationText is the mail with an invitation, in the languages of the pages.
func InvitationText(name, link string, until time.Time) string {
	at := until.Local().Format("2006-01-02 15:04 MST")
	return fmt.Sprintf(`Hello %[1]s,

signing in will ask you for a second factor beside your password. Set yours up here; you need your password and your
phone:

  %[2]s

The link is for you alone, good once, until %[3]s. Nobody will ever ask you for it, or for your password, by mail or on the
telephone.

Guten Tag, %[1]s,

bei der Anmeldung werden Sie künftig nach einem zweiten Faktor neben dem Passwort gefragt. Richten Sie Ihren hier ein; Sie
brauchen Ihr Passwort und Ihr Telefon:

  %[2]s

Der Link ist nur für Sie, gilt einmal und bis %[3]s. Niemand wird Sie je per Mail oder am Telefon danach oder nach Ihrem
Passwort fragen.
`, name, link, at)
}

// ReminderSubject is that of the mail to whoever has no second factor yet.
const ReminderSubject = "Your second factor is missing / Ihr zweiter Faktor fehlt noch"

// ReminderText is the mail to whoever signs in without a second factor for now; until is when that ends.
func ReminderText(name, link string, ends, until time.Time) string {
	day, at := ends.Local().Format(time.DateOnly), until.Local().Format("2006-01-02 15:04 MST")
	return fmt.Sprintf(`Hello %[1]s,

until %[3]s you can sign in without a second factor; after that you cannot. Setting yours up takes two minutes; you need your
password and your phone:

  %[2]s

The link is for you alone, good once, until %[4]s. Nobody will ever ask you for it, or for your password, by mail or on the
telephone.

Guten Tag, %[1]s,

bis zum %[3]s können Sie sich ohne zweiten Faktor anmelden; danach nicht mehr. Ihren einzurichten dauert zwei Minuten; Sie
brauchen Ihr Passwort und Ihr Telefon:

  %[2]s

Der Link ist nur für Sie, gilt einmal und bis %[4]s. Niemand wird Sie je per Mail oder am Telefon danach oder nach Ihrem
Passwort fragen.
`, name, link, day, at)
}

// Change is what became of a person's second factors.
type Change int

// What becomes of them on the pages for people.
const (
	Added Change = iota
	Removed
	Renewed
	Relocked
)

// ChangeSubject is that of the mail about a change.
const ChangeSubject = "Your second factor was changed / Ihr zweiter Faktor wurde geändert"

// ChangeText is the mail to whose second factors were changed.
func ChangeText(name string, what Change, at time.Time) string {
	english := [...]string{"a device was added to your second factor", "a device was removed from your second factor",
		"new recovery codes were made for your second factor",
		"what your phone asks for when you approve a sign-in was changed"}[what]
	german := [...]string{"zu Ihrem zweiten Faktor kam ein Gerät hinzu",
		"von Ihrem zweiten Faktor wurde ein Gerät entfernt",
		"für Ihren zweiten Faktor wurden neue Ersatzcodes gemacht",
		"was Ihr Telefon beim Bestätigen einer Anmeldung verlangt, wurde geändert"}[what]
	return fmt.Sprintf(`Hello %[1]s,

on %[4]s %[2]s. If that was you, there is nothing to do. If not, somebody knows your password: change it,
and tell the people who run this network at once.

Guten Tag, %[1]s,

am %[4]s: %[3]s. Wenn Sie das waren, ist nichts zu tun. Wenn nicht, kennt jemand Ihr Passwort: Ändern Sie es, und sagen Sie
es sofort den Betreuern dieses Netzes.
`, name, english, german, at.Local().Format("2006-01-02 15:04 MST"))
}
