package portal

// mineTexts are those of the page of one's own devices, by language.
var mineTexts = map[string]map[string]string{
	"en": {
		"mine.title": "Your devices",
		"mine.link":  "Your devices and recovery codes",
		"mine.enter": "Sign in to look after your devices. If you lost the one that you have, give a recovery code; " +
			"without one, ask the people who run this network.",
		"mine.code":     "Code, or a recovery code",
		"mine.used":     "used last %s",
		"mine.unused":   "not used yet",
		"mine.remove":   "Remove %s",
		"mine.add":      "Add a device",
		"mine.recovery": "Recovery codes",
		"mine.left":     "%d are left.",
		"mine.renew":    "Make new ones",
		"mine.leave":    "Sign out",
		"mine.renewed": "These are your recovery codes from now on; those from before are good no more. Keep them " +
			"somewhere safe. They are shown only here.",
		"mine.bykey": "Use a security key",
		"mine.key": "With a security key you reach your devices without a code. Sign-ins elsewhere ask for the " +
			"others.",
		"mine.keylabel": "What the key is called",
		"mine.addkey":   "Add a security key",
		"mine.added":    "The security key is added.",
		"wrong.touched": "The security key was not accepted. Try again.",
		"wrong.site":    "Security keys work at the name of this page alone, by https.",
		"mine.back":     "Back to your devices",
		"kind.code":     "Makes codes",
		"kind.phone":    "Approves your sign-ins",
		"kind.keyed":    "Approves your sign-ins, with a security key alone",
		"kind.key":      "Security key",
		"wrong.mine": "Something of this is wrong, or you have no second factor yet. After several wrong codes none " +
			"is looked at for a while.",
		"wrong.again": "Sign in again: ten minutes are over, or your devices were changed.",
		"wrong.last":  "This is your last device. Add another one before you remove it.",
		"wrong.many":  "You have as many devices as there can be. Remove one first.",
	},
	"de": {
		"mine.title": "Ihre Geräte",
		"mine.link":  "Ihre Geräte und Ersatzcodes",
		"mine.enter": "Melden Sie sich an, um Ihre Geräte zu verwalten. Wenn Ihr Gerät verloren ist, geben Sie einen " +
			"Ersatzcode ein; ohne einen solchen fragen Sie die Betreuer dieses Netzes.",
		"mine.code":     "Code oder Ersatzcode",
		"mine.used":     "zuletzt benutzt %s",
		"mine.unused":   "noch nicht benutzt",
		"mine.remove":   "%s entfernen",
		"mine.add":      "Ein Gerät hinzufügen",
		"mine.recovery": "Ersatzcodes",
		"mine.left":     "Noch %d.",
		"mine.renew":    "Neue machen",
		"mine.leave":    "Abmelden",
		"mine.renewed": "Ab jetzt gelten diese Ersatzcodes; die bisherigen gelten nicht mehr. Heben Sie sie gut auf. " +
			"Sie werden nur hier gezeigt.",
		"mine.bykey": "Sicherheitsschlüssel benutzen",
		"mine.key": "Mit einem Sicherheitsschlüssel kommen Sie ohne Code zu Ihren Geräten. Anmeldungen anderswo " +
			"fragen nach den anderen Geräten.",
		"mine.keylabel": "Name des Schlüssels",
		"mine.addkey":   "Einen Sicherheitsschlüssel hinzufügen",
		"mine.added":    "Der Sicherheitsschlüssel ist hinzugefügt.",
		"wrong.touched": "Der Sicherheitsschlüssel wurde nicht angenommen. Versuchen Sie es noch einmal.",
		"wrong.site":    "Sicherheitsschlüssel gehen nur unter dem Namen dieser Seite, über https.",
		"mine.back":     "Zurück zu Ihren Geräten",
		"kind.code":     "Zeigt Codes",
		"kind.phone":    "Bestätigt Ihre Anmeldungen",
		"kind.keyed":    "Bestätigt Ihre Anmeldungen, nur mit Sicherheitsschlüssel",
		"kind.key":      "Sicherheitsschlüssel",
		"wrong.mine": "Etwas davon ist falsch, oder Sie haben noch keinen zweiten Faktor. Nach mehreren falschen " +
			"Codes wird eine Weile keiner angesehen.",
		"wrong.again": "Melden Sie sich neu an: Zehn Minuten sind vorbei, oder Ihre Geräte haben sich geändert.",
		"wrong.last":  "Das ist Ihr letztes Gerät. Fügen Sie ein anderes hinzu, bevor Sie es entfernen.",
		"wrong.many":  "Sie haben so viele Geräte, wie es geben kann. Entfernen Sie zuerst eines.",
	},
}
