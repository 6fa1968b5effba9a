package portal

// texts are what people read, by language.
var texts = map[string]map[string]string{
	"en": {
		"title":    "Your second factor",
		"hello":    "Hello %s.",
		"first":    "First your password, as you sign in with it every day. Then an app on your phone.",
		"name":     "Name",
		"password": "Password",
		"next":     "Next",
		"scan":     "Open an authenticator app on your phone and take this picture with it.",
		"qr":       "QR code for the authenticator app",
		"here":     "On this phone: open the app",
		"typing":   "Or type it in",
		"then":     "The app now shows six digits. Enter them here.",
		"code":     "Code",
		"confirm":  "Confirm",
		"done":     "It is done. From now on you will be asked for a code when you sign in.",
		"recovery": "Keep these recovery codes somewhere safe, on paper for instance. Each is good once, if " +
			"the phone is lost. " +
			"They are shown only here.",
		"kept":  "The recovery codes that you have stay good.",
		"close": "You can close this page.",
		"phone": "phone",
		"help":  "",

		"wrong.lost":       "There is no such page.",
		"wrong.invitation": "Open the link of your invitation. If you have none, ask the people who run this network.",
		"wrong.over":       "The time for this is over. Ask for another invitation.",
		"wrong.used": "This invitation was used. If it was not by you, tell the people who run this " +
			"network at once.",
		"wrong.unreadable": "This link is not complete. Copy all of it, or ask for another invitation.",
		"wrong.slower":     "Too many tries. Wait ten minutes.",
		"wrong.password":   "The name or the password is wrong.",
		"wrong.account":    "You cannot sign in at the moment. Ask the people who run this network.",
		"wrong.later":      "This does not work at the moment. Try again later.",
		"wrong.has":        "You have a second factor already. To replace it, ask for an invitation.",
		"wrong.code": "This is not the code that the app should show. Wait for the next one, and look at " +
			"the clock of the phone.",
	},
	"de": {
		"title":    "Ihr zweiter Faktor",
		"hello":    "Guten Tag, %s.",
		"first":    "Zuerst Ihr Passwort, mit dem Sie sich jeden Tag anmelden. Danach eine App auf Ihrem Telefon.",
		"name":     "Name",
		"password": "Passwort",
		"next":     "Weiter",
		"scan":     "Öffnen Sie auf Ihrem Telefon eine Authenticator-App und nehmen Sie damit dieses Bild auf.",
		"qr":       "QR-Code für die Authenticator-App",
		"here":     "Auf diesem Telefon: die App öffnen",
		"typing":   "Oder eintippen",
		"then":     "Die App zeigt jetzt sechs Ziffern. Geben Sie sie hier ein.",
		"code":     "Code",
		"confirm":  "Bestätigen",
		"done":     "Fertig. Ab jetzt werden Sie beim Anmelden nach einem Code gefragt.",
		"recovery": "Heben Sie diese Ersatzcodes gut auf, zum Beispiel auf Papier. Jeder gilt einmal, falls " +
			"das Telefon verloren " +
			"geht. Sie werden nur hier gezeigt.",
		"kept":  "Ihre bisherigen Ersatzcodes gelten weiter.",
		"close": "Sie können diese Seite schließen.",
		"phone": "Telefon",
		"help":  "",

		"wrong.lost": "Diese Seite gibt es nicht.",
		"wrong.invitation": "Öffnen Sie den Link Ihrer Einladung. Wenn Sie keine haben, fragen Sie die " +
			"Betreuer dieses Netzes.",
		"wrong.over": "Die Zeit dafür ist abgelaufen. Bitten Sie um eine neue Einladung.",
		"wrong.used": "Diese Einladung wurde schon benutzt. Wenn nicht von Ihnen, sagen Sie es sofort den " +
			"Betreuern dieses " +
			"Netzes.",
		"wrong.unreadable": "Dieser Link ist nicht vollständig. Kopieren Sie ihn ganz, oder bitten Sie um eine " +
			"neue Einladung.",
		"wrong.slower":   "Zu viele Versuche. Warten Sie zehn Minuten.",
		"wrong.password": "Der Name oder das Passwort ist falsch.",
		"wrong.account":  "Sie können sich im Moment nicht anmelden. Fragen Sie die Betreuer dieses Netzes.",
		"wrong.later":    "Das geht im Moment nicht. Versuchen Sie es später noch einmal.",
		"wrong.has":      "Sie haben schon einen zweiten Faktor. Bitten Sie um eine Einladung, um ihn zu ersetzen.",
		"wrong.code": "Das ist nicht der Code, den die App zeigen sollte. Warten Sie auf den nächsten, und " +
			"sehen Sie nach der " +
			"Uhr des Telefons.",
	},
}
