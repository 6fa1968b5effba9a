package portal

import "maps"

// phoneTexts are those about phones that approve sign-ins, by language.
var phoneTexts = map[string]map[string]string{
	"en": {
		"either":  "There are two ways; one is enough.",
		"approve": "Approve sign-ins on your phone",
		"pair": "Take this picture with the camera of your phone, and open the page that it " +
			"shows.",
		"thisphone":    "This is the phone",
		"codes":        "Or: codes from an authenticator app",
		"script":       "Approving sign-ins needs JavaScript.",
		"phone.app":    "Sign-ins",
		"phone.title":  "Your sign-ins",
		"phone.pair":   "Use this phone to approve your sign-ins? Nothing else on it is read.",
		"phone.called": "What this phone is called",
		"phone.label":  "My phone",
		"phone.use":    "Use this phone",
		"phone.paired": "Done, {display}. This phone approves your sign-ins from now on.",
		"phone.recovery": "Keep these recovery codes somewhere safe, on paper for instance. Each is good " +
			"once, if the phone is lost. They are shown only here.",
		"phone.done":         "Go on",
		"phone.where":        "Sign-in at {client}",
		"phone.from":         "From {from}, at {time} ({lane})",
		"phone.when":         "At {time} ({lane})",
		"phone.trial":        "A trial by {trial}",
		"phone.number":       "Number shown at the sign-in",
		"phone.unnumbered":   "No number is shown there. Approve only if you are signing in at this moment.",
		"phone.approve":      "Approve",
		"phone.refuse":       "Refuse",
		"phone.tell":         "Tell me while this page is closed",
		"phone.told":         "This phone will tell you when a sign-in waits.",
		"phone.untold":       "This browser does not allow that. Open this page when you sign in.",
		"push.title":         "A sign-in waits for you",
		"phone.alarm":        "This is not me",
		"phone.digits":       "Enter the two digits shown at the sign-in.",
		"phone.rest":         "Nothing waits for you. Open this page when you sign in.",
		"phone.self":         "{display}, {label}",
		"phone.came-approve": "Approved.",
		"phone.came-refuse":  "Refused.",
		"phone.came-alarm": "The people who run this network are told. Change your password now: somebody " +
			"else knows it.",
		"phone.came-mismatch": "That was not the number. The sign-in is refused; begin it again.",
		"phone.over-ask":      "This sign-in is over.",
		"phone.unpaired":      "This phone is not in use any more. Ask for an invitation to set it up again.",
		"phone.stranger": "This phone is not set up yet. Open the link of your invitation, or ask the " +
			"people who run this network.",
		"phone.offline":  "No connection. Trying again.",
		"phone.insecure": "This page works only by a secure connection (https).",
		"phone.over":     "The time for this is over. Ask for another invitation.",
		"phone.used": "This was used already. If it was not by you, tell the people who run this " +
			"network at once.",
		"phone.unreadable": "This link is not complete. Begin again from the page before.",
		"phone.later":      "This does not work at the moment. Try again later.",
		"phone.clock":      "The clock of this phone is off. Set it right and try again.",
		"phone.lock":       "Approve with a security key alone",
		"phone.lock-why": "Approving a sign-in can take your fingerprint, your face or your PIN, or a key that you " +
			"plug in. Then whoever takes this phone from you approves nothing.",
		"phone.lock-title": "Security key",
		"phone.locked":     "From now on approving takes your security key.",
		"phone.lock-on":    "Approving takes your security key.",
		"phone.unlock":     "Do without the security key",
		"phone.unlocked":   "From now on approving takes no security key.",
		"phone.key":        "Approving takes your security key.",
		"phone.touched":    "The security key was not accepted. Try again.",
		"phone.site":       "Security keys work at the name of this page alone, by https.",
	},
	"de": {
		"either":  "Es gibt zwei Wege; einer genügt.",
		"approve": "Anmeldungen auf dem Telefon bestätigen",
		"pair": "Nehmen Sie dieses Bild mit der Kamera Ihres Telefons auf und öffnen Sie die " +
			"Seite, die es zeigt.",
		"thisphone":   "Dies ist das Telefon",
		"codes":       "Oder: Codes aus einer Authenticator-App",
		"script":      "Zum Bestätigen von Anmeldungen wird JavaScript gebraucht.",
		"phone.app":   "Anmeldungen",
		"phone.title": "Ihre Anmeldungen",
		"phone.pair": "Soll dieses Telefon Ihre Anmeldungen bestätigen? Sonst wird nichts darauf " +
			"gelesen.",
		"phone.called": "Name dieses Telefons",
		"phone.label":  "Mein Telefon",
		"phone.use":    "Dieses Telefon benutzen",
		"phone.paired": "Fertig, {display}. Dieses Telefon bestätigt ab jetzt Ihre Anmeldungen.",
		"phone.recovery": "Heben Sie diese Ersatzcodes gut auf, zum Beispiel auf Papier. Jeder gilt " +
			"einmal, falls das Telefon verloren geht. Sie werden nur hier gezeigt.",
		"phone.done":         "Weiter",
		"phone.where":        "Anmeldung an {client}",
		"phone.from":         "Von {from}, um {time} ({lane})",
		"phone.when":         "Um {time} ({lane})",
		"phone.trial":        "Ein Versuch von {trial}",
		"phone.number":       "Zahl, die bei der Anmeldung steht",
		"phone.unnumbered":   "Dort steht keine Zahl. Bestätigen Sie nur, wenn Sie sich gerade selbst anmelden.",
		"phone.approve":      "Bestätigen",
		"phone.refuse":       "Ablehnen",
		"phone.tell":         "Melden, auch wenn diese Seite zu ist",
		"phone.told":         "Dieses Telefon meldet sich, wenn eine Anmeldung wartet.",
		"phone.untold":       "Dieser Browser erlaubt das nicht. Öffnen Sie diese Seite, wenn Sie sich anmelden.",
		"push.title":         "Eine Anmeldung wartet auf Sie",
		"phone.alarm":        "Das bin ich nicht",
		"phone.digits":       "Geben Sie die zwei Ziffern ein, die bei der Anmeldung stehen.",
		"phone.rest":         "Nichts wartet auf Sie. Öffnen Sie diese Seite, wenn Sie sich anmelden.",
		"phone.self":         "{display}, {label}",
		"phone.came-approve": "Bestätigt.",
		"phone.came-refuse":  "Abgelehnt.",
		"phone.came-alarm": "Die Betreuer dieses Netzes wissen Bescheid. Ändern Sie jetzt Ihr Passwort: " +
			"Jemand anderes kennt es.",
		"phone.came-mismatch": "Das war nicht die Zahl. Die Anmeldung ist abgelehnt; beginnen Sie sie neu.",
		"phone.over-ask":      "Diese Anmeldung ist vorbei.",
		"phone.unpaired": "Dieses Telefon wird nicht mehr benutzt. Bitten Sie um eine Einladung, um es neu " +
			"einzurichten.",
		"phone.stranger": "Dieses Telefon ist noch nicht eingerichtet. Öffnen Sie den Link Ihrer " +
			"Einladung, oder fragen Sie die Betreuer dieses Netzes.",
		"phone.offline":  "Keine Verbindung. Es wird neu versucht.",
		"phone.insecure": "Diese Seite geht nur über eine sichere Verbindung (https).",
		"phone.over":     "Die Zeit dafür ist abgelaufen. Bitten Sie um eine neue Einladung.",
		"phone.used": "Das wurde schon benutzt. Wenn nicht von Ihnen, sagen Sie es sofort den " +
			"Betreuern dieses Netzes.",
		"phone.unreadable": "Dieser Link ist nicht vollständig. Beginnen Sie auf der Seite davor neu.",
		"phone.later":      "Das geht im Moment nicht. Versuchen Sie es später noch einmal.",
		"phone.clock": "Die Uhr dieses Telefons geht falsch. Stellen Sie sie und versuchen Sie es noch " +
			"einmal.",
		"phone.lock": "Nur mit Sicherheitsschlüssel bestätigen",
		"phone.lock-why": "Das Bestätigen einer Anmeldung kann Ihren Fingerabdruck, Ihr Gesicht oder Ihre PIN " +
			"verlangen, oder einen Schlüssel zum Anstecken. Dann bestätigt nichts, wer Ihnen dieses Telefon wegnimmt.",
		"phone.lock-title": "Sicherheitsschlüssel",
		"phone.locked":     "Ab jetzt braucht das Bestätigen Ihren Sicherheitsschlüssel.",
		"phone.lock-on":    "Das Bestätigen braucht Ihren Sicherheitsschlüssel.",
		"phone.unlock":     "Auf den Sicherheitsschlüssel verzichten",
		"phone.unlocked":   "Ab jetzt braucht das Bestätigen keinen Sicherheitsschlüssel.",
		"phone.key":        "Das Bestätigen braucht Ihren Sicherheitsschlüssel.",
		"phone.touched":    "Der Sicherheitsschlüssel wurde nicht angenommen. Versuchen Sie es noch einmal.",
		"phone.site":       "Sicherheitsschlüssel gehen nur unter dem Namen dieser Seite, über https.",
	},
}

func init() {
	for _, more := range []map[string]map[string]string{phoneTexts, mineTexts} {
		for language, list := range more {
			maps.Copy(texts[language], list)
		}
	}
}
