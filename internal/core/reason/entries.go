package reason

// entries say each reason in words, and what to do about it.
var entries = []Entry{
	{OK, Pass, "Admitted by policy {policy} with pass {pass}", ""},
	{
		NameMissing,
		Name,
		"The request holds no User-Name",
		"{client} sent no name. Check its RADIUS settings; some " +
			"devices send no name until a login method is chosen.",
	},
	{NameInvalid, Name, "The name sent is not readable text", "{client} sent a name that is not UTF-8. Check the " +
		"character set of the device or supplicant."},
	{LaneNone, Lane, "No lane matches this request", "Add a lane for this kind of request (service {service}, " +
		"port type " +
		"{portType}), or end the list with a lane whose condition is always."},
	{MethodMissing, Lane, "The request holds no credential", "{client} sent neither a password nor EAP. Choose a " +
		"login method on the device."},
	{MethodNotAllowed, Lane, "Lane {lane} does not allow {method}",
		"Set the device or supplicant to one of the methods of lane {lane} ({methods}), or allow {method} there."},
	{MethodUnusable, Credential, "{method} cannot be checked for {person}, who is in {store}: {detail}",
		"Use a method that works with {store} ({usable}), or change what is stored there."},
	{EAPNoCommonMethod, Lane, "The device and lane {lane} have no EAP method in common: it asks for {detail}",
		"Set the supplicant to one of the methods of lane {lane} ({methods}), or allow that method there."},
	{EAPAbandoned, Credential, "The device stopped answering {detail}",
		"If it stopped after our certificate, its user was probably asked whether to trust it, or it does not trust " +
			"the authority and stays silent. Otherwise check the radio or cable, and the time-outs of the client."},
	{EAPLost, Credential, "This answer belongs to a conversation that is over or was never begun here",
		"The client answered too late, or sends one conversation to several servers. The device retries by itself; " +
			"if it does not, check the time-outs and server list of the client."},
	{EAPMixed, Credential, "This answer carries the State of another device's conversation",
		"{client} mixed up two conversations, or someone replays packets. Check its software version."},
	{EAPMalformed, Credential, "The device sent an EAP message that cannot be read: {detail}",
		"Look for a newer version of the supplicant. If many devices do this, the client shortens packets: set its " +
			"Framed-MTU lower."},
	{EAPTooLong, Credential, "The device sent more than an EAP conversation may hold: {detail}",
		"A certificate chain this long is a mistake: send only the certificate and what lies between it and the " +
			"authority."},
	{EAPBinding, Credential, "The crypto-binding of the tunnel does not fit: {detail}",
		"There may be an attacker between the device and this server. If it happens with one kind of device only, " +
			"that device computes it incorrectly: make crypto-binding optional in lane {lane}."},
	{
		EAPDeclined,
		Credential,
		"The device broke off: {detail}",
		"Check the log of the supplicant; it did not accept " +
			"the server's proof or result.",
	},
	{TLSNoCertificate, Lane, "Lane {lane} has no server certificate for {method}",
		"Choose a certificate in lane {lane}, or make one under Certificates."},
	{TLSDistrust, Credential, "The device does not trust the server certificate; it answered with the TLS alert " +
		"{detail}",
		"The fault is on the device: install the authority that signed the server certificate there, check the " +
			"server name it expects, and its clock."},
	{TLSNoCommon, Credential, "The device and the server have no TLS version or cipher suite in common: {detail}",
		"Update the device. If that is not possible, lower the TLS minimum of lane {lane}, and accept the risk."},
	{TLSAlert, Credential, "The device ended TLS with the alert {detail}",
		"The fault is on the device: check its log."},
	{TLSFailed, Credential, "TLS failed: {detail}", "If it happens with one device only, look at its supplicant; " +
		"otherwise look at the server certificate of lane {lane}."},
	{TLSMasterSecret, Credential, "The device does not support the extended master secret of TLS",
		"Update the device. If that is not possible, enable no-extended-master-secret in the allowances for older " +
			"peers of lane {lane}."},
	{CertificateMissing, Credential, "The device showed no certificate",
		"Install a client certificate on the device and select it there."},
	{CertificateUntrusted, Credential, "The certificate of the device was not issued by an authority that lane " +
		"{lane} trusts: {detail}", "Issue the device a certificate from one of the authorities of the trust list, or " +
		"add its authority to the list."},
	{
		CertificateExpired,
		Credential,
		"The certificate of the device has expired: {detail}",
		"Renew it on the device.",
	},
	{CertificateEarly, Credential, "The certificate of the device is not valid yet: {detail}",
		"Check the clocks of the device, its authority and this server."},
	{CertificateRevoked, Credential, "The certificate of the device was revoked: {detail}",
		"If the device should keep access, issue a new certificate; a revocation is permanent."},
	{CertificateUnchecked, Credential, "Revocation of the certificate could not be checked: {detail}",
		"Make the list or responder reachable again, or set the trust list to accept certificates if revocation " +
			"cannot be checked."},
	{CertificatePurpose, Credential, "The certificate of the device is not meant for signing in: {detail}",
		"Issue it one with the extended key usage clientAuth."},
	{CertificateNoIdentity, Credential, "The certificate holds no name in the fields that the trust list reads: " +
		"{detail}",
		"Add the name to the certificate, or change the fields that the trust list reads."},
	{DeviceUnknown, Directory, "The device {name} is not among the known devices",
		"If it belongs here, add it under Devices; it is listed there as recently refused."},
	{DeviceExpired, Directory, "The known device {person} has expired",
		"Extend its end date under Devices if it should keep access."},
	{DeviceDisabled, Directory, "The known device {person} is switched off",
		"Switch it on under Devices if it should have access."},
	{DeviceMismatch, Credential, "The name {sent} is a MAC address, but not that of the device",
		"Someone typed a MAC address as a name, or {client} sends another Calling-Station-Id. For MAC bypass, both " +
			"must agree."},
	{
		RealmNone,
		Name,
		"No realm accepts this form of name",
		"Add a form that matches {sent} to one of the realms, or " +
			"ask the person to use a known form: {forms}.",
	},
	{RealmOther, Name, "The name does not belong to realm {realm}, which lane {lane} asks for",
		"Ask the person to use one of its forms ({forms}), or choose another realm for the lane."},
	{PersonUnknown, Directory, "{name} is not found in {stores}", "Check the spelling of the name. If the person " +
		"exists elsewhere, add that store to the lookup order of realm {realm}."},
	{PersonAmbiguous, Directory, "{name} matches more than one person in {store}",
		"Make the name unique in the directory, or ask the person to use the full form of the name."},
	{PersonDisabled, Directory, "The account of {person} is disabled in {store}",
		"Enable the account there if this person should have access."},
	{PersonExpired, Directory, "The account of {person} has expired in {store}",
		"Extend the end date of the account there if this person should keep access."},
	{PersonLocked, Directory, "The account of {person} is locked in {store}",
		"Unlock it there, and find the device that keeps sending an old password."},
	{PersonUnreadable, Directory, "{store} does not show whether the account of {person} is enabled",
		"Let the service account of {store} read the attribute userAccountControl. Nobody is admitted as long as " +
			"this cannot be checked."},
	{PersonHours, Directory, "{person} may not sign in at this hour",
		"Change the logon hours of the account in {store}."},
	{
		PersonStation,
		Directory,
		"{person} may not sign in from here",
		"Change the allowed workstations of the account " +
			"in {store}.",
	},
	{DirectoryUnreachable, Directory, "{store} could not be reached: {detail}",
		"Run the test of directory {store}; it shows which step fails. Realm {realm} refuses when this directory is " +
			"unreachable; choose next to try the next one."},
	{DirectoryBind, Directory, "{store} does not accept the service account: {detail}",
		"Correct the bind name or password of directory {store}; its password may have expired."},
	{DirectoryFailed, Directory, "{store} answered with an error: {detail}",
		"Run the test of directory {store}; it shows which step fails."},
	{PasswordGuarded, Credential, "The password of {person} was not passed on, so that {store} does not lock the " +
		"account: {detail}", "Find the device that keeps sending an old password. Once that is done, release the " +
		"person: `tollgate directory release {store}`, or the page of the directory."},
	{
		PasswordRejected,
		Credential,
		"The password of {person} has expired, and {store} does not accept the new one: " +
			"{detail}",
		"Choose a longer password that was not used before, or set it in the directory.",
	},
	{
		ClockSkew,
		Credential,
		"{store} refuses all requests, because its clock and the clock of this server differ too " +
			"much: {detail}",
		"Synchronize both clocks with the same time server.",
	},
	{
		DomainUnreachable,
		Credential,
		"No domain controller of {store} could check the password of {person}: {detail}",
		"Check the controllers and the network between; port 135 and the Netlogon port must be open to this server.",
	},
	{DomainRefuses, Credential, "The domain of {store} does not check passwords for this server: {detail}",
		"Join the domain again at directory {store}; another server may be using the same machine account."},
	{ProofUnfinished, Credential, "The sign-in of {person} did not finish",
		"Nothing was proven, so nobody is admitted. Ask the person to try again; if it happens with one device only, " +
			"check its supplicant."},
	{PasswordWrong, Credential, "The password of {person} is wrong",
		"Ask the person to type it again. If it is correct, look for an old password saved on the device."},
	{
		PasswordEmpty,
		Credential,
		"The password is empty",
		"The person left the password empty, or the device sends " +
			"none. Empty passwords are never passed on, because many directories treat them as anonymous.",
	},
	{PasswordUnreadable, Credential, "The password came out as unreadable octets",
		"Most likely the shared secret of {client} differs. Enter the same secret on both sides, and enable " +
			"Message-Authenticator on the device, which tells the two cases apart."},
	{PasswordMalformed, Credential, "The device sent a malformed response: {detail}",
		"The shared secret is right. Look for an update of the device, or let it use another method."},
	{PasswordExpired, Credential, "The password of {person} has expired",
		"The person must set a new password in {store}."},
	{PasswordMustChange, Credential, "{person} must change the password before signing in",
		"The person must set a new password in {store}, or while signing in with MS-CHAPv2 in a tunnel, if " +
			"the device asks for it."},
	{FactorNotEnrolled, SecondFactor, "{person} has no second factor, and lane {lane} asks for one",
		"Enrol {person} under Second factors, or with `tollgate factor enrol`."},
	{FactorMissing, SecondFactor, "The password of {person} is right, but no one-time code was given",
		"Ask the person to append the code to the password, or set {client} to use the TACACS+ dialogue, which asks " +
			"for it."},
	{FactorWrong, SecondFactor, "The one-time code of {person} is wrong: {detail}",
		"Ask the person to check the code. If the clock of the device is off, two consecutive codes correct it. A " +
			"lost device is removed under Second factors."},
	{FactorUsed, SecondFactor, "This one-time code of {person} was used already",
		"A code is accepted once: wait for the next. If {person} did not use it, someone else saw it, or {client} " +
			"sent the request twice."},
	{FactorLocked, SecondFactor, "{person} gave too many wrong one-time codes: {detail}",
		"Wait, or release the person under Second factors, once you know who typed them."},
	{FactorUnanswered, SecondFactor, "{person} was asked for the second factor, and no answer came within {detail}",
		"Ask the person what happened. If {client} shows no question, it knows no Access-Challenge: have the lane " +
			"take the code behind the password."},
	{FactorLost, Credential, "This answers a question for the second factor that is over, or was never asked here",
		"Ask the person to sign in again. If it happens often, {client} waits longer than two minutes, or sends the " +
			"answer to another server than the one that asked."},
	{
		FactorMixed,
		Credential,
		"This answers a question for the second factor that was asked of someone else: {detail}",
		"Look at {client}: it mixes up sign-ins, or somebody tries to use the answer of another person.",
	},
	{FactorNoPhone, SecondFactor, "{person} has no phone that approves sign-ins, and lane {lane} asks for that",
		"Invite {person} to set one up: `tollgate factor invite`, or People, Second factors."},
	{FactorRefused, SecondFactor, "{person} refused this sign-in on the phone", "Ask {person} why: whoever signed in " +
		"knows the password."},
	{FactorAlarm, SecondFactor, "{person} says on the phone: this is not me ({detail})",
		"Somebody knows the password of {person}. Have it changed at once, and look who signed in from there."},
	{FactorNumber, SecondFactor, "{person} entered another number on the phone than the one shown at the sign-in",
		"Ask {person} to sign in again. If {person} did not sign in, somebody knows the password: have it changed."},
	{FactorTired, SecondFactor, "{person} is not asked on the phone for now: {detail}",
		"Ask {person} what happened. Releasing under Second factors has the phone asked again."},
	{FactorFailed, SecondFactor, "The one-time code of {person} could not be marked as used: {detail}",
		"Check the disk of this server. A code that cannot be marked is not accepted, because it might be used again."},
	{
		PolicyNone,
		Policy,
		"No policy of lane {lane} matches",
		"Signed in correctly, but {membership}. Change a policy " +
			"of lane {lane} so that it matches this person, or add one.",
	},
	{
		PolicyRefused,
		Policy,
		"Policy {policy} of lane {lane} refuses",
		"This is what the policy says. To admit this " +
			"person, add a matching policy above it.",
	},
	{PassValueMissing, Pass, "Pass {pass} cannot be given to {person}: {detail}",
		"Set the value in the directory, or give a default in the pass after the word or. Nobody is admitted with an " +
			"incomplete pass."},
	{RemoteRefused, Directory, "{remote}, which lane {lane} forwards to, refused: {detail}",
		"The remote server decides who is admitted. Check the log of {remote}."},
	{RemoteUnreachable, Directory, "No remote server of lane {lane} answered: {detail}",
		"Check that {remote} runs and is reachable, and that both sides have the same shared secret: with a wrong " +
			"secret it stays silent, or its answers cannot be verified."},
	{RemoteUnknown, Directory, "Lane {lane} forwards this to {remote}, and its answer is not known",
		"Try it through a client; only the remote server can answer."},
	{RemoteRADIUSOnly, Directory, "Lane {lane} forwards to {remote}, which takes RADIUS only",
		"Narrow the condition of lane {lane} with protocol is radius, so that a lane of this server decides about " +
			"TACACS+."},
	{
		SessionsLimit,
		Pass,
		"{person} has {open} open sessions with pass {pass}, and at most {most} are allowed at once",
		"See which under Sessions, and disconnect one, or allow more in pass {pass}, or have the oldest ended there.",
	},
	{
		PoolExhausted,
		Pass,
		"All addresses of pool {pool} are in use",
		"Add addresses to the pool, make the session " +
			"time-out of pass {pass} shorter, or release addresses of sessions that have ended.",
	},
	{CommandRefused, Pass, "Command list {list} refuses {command}: {line}",
		"This is what the list says. To permit it, add a matching line above that one; try the command beside the " +
			"list to see which line decides."},
	{CommandNone, Pass, "No line of command list {list} matches {command}",
		"Add a line that permits it if {person} is to type it, or set the default of the list to permit."},
	{CommandNoList, Pass, "Pass {pass} names no command list, so {command} is not permitted",
		"Choose a command list in pass {pass}."},
	{LevelTooHigh, Pass, "Privilege level {asked} was asked for, and pass {pass} gives {level}",
		"Raise the privilege level of pass {pass} if {person} is to have it, or have another policy give another " +
			"pass."},
	{ServiceNotGranted, Pass, "Pass {pass} grants nothing for the service {asks}",
		"Add an argument for the service {asks} to pass {pass} if {client} is to grant it."},
	{DialogueAborted, Credential, "The sign-in was broken off: {detail}",
		"The person left, or the device stopped waiting. Nothing was checked."},
	{ArgumentMalformed, Credential, "{client} sent arguments that cannot be read: {detail}",
		"Check the software of {client}, or what was typed there: commands must not hold control characters."},
	{EmergencySealed, Directory, "The emergency account {name} is sealed: {detail}",
		"It works only on the devices it is for, and only while no directory of the realm answers. If a directory is " +
			"down and this still says that it answers, run its test."},
	{Busy, Directory, "Too many attempts were waiting at once: {detail}",
		"The directory answers too slowly. Run its test, and add a server."},
	{PasswordBraked, Credential, "Too many wrong passwords came for {person}: {detail}",
		"Find the device that keeps sending an old password; the attempts of this person show where it is. If nobody " +
			"knows the device, someone is guessing passwords."},
	{ServiceFault, Credential, "This attempt hit a fault in Tollgate Key itself",
		"The device retries by itself. The checkup names the fault; report it together with the log."},
}
