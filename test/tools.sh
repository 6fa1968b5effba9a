#!/bin/sh
# Installs, as root, the real systems that the tests use as the other side: a browser, a directory server,
# independent RADIUS clients and a protocol decoder. Without root it says what is missing, and those tests skip.
set -eu
missing=""
want() { # program package
	command -v "$1" >/dev/null 2>&1 || [ -e "$1" ] || missing="$missing $2"
}
PATH="$PATH:/usr/sbin:/sbin"
want /usr/lib/chromium/chromium chromium
want slapd slapd
want ldapadd ldap-utils
want pamtester pamtester
want sshd openssh-server
want ssh openssh-client
want samba "samba samba-dsdb-modules samba-vfs-modules samba-ad-provision"
want tshark tshark
want eapol_test eapoltest
want hostapd hostapd
want wpa_supplicant wpasupplicant
want ip iproute2
want gcc gcc
want /usr/include/stdio.h libc6-dev
want swanctl strongswan-swanctl
want /usr/lib/ipsec/charon strongswan-charon
want /usr/lib/ipsec/plugins/libstrongswan-openssl.so libstrongswan-standard-plugins
want /usr/lib/ipsec/plugins/libstrongswan-eap-radius.so libcharon-extra-plugins
want /usr/lib/ipsec/plugins/libstrongswan-eap-mschapv2.so libcharon-extauth-plugins
want ocserv ocserv
want openconnect openconnect
want rsyslogd "rsyslog rsyslog-openssl"
want openssl openssl
want nft nftables
want dbus-daemon dbus-daemon
want /lib/systemd/systemd-logind systemd
want udhcpc udhcpc
want dnsmasq dnsmasq-base
want etcd etcd-server
want /usr/share/perl5/Authen/Radius.pm libauthen-radius-perl
ls /usr/lib/*/perl5/*/Authen/TacacsPlus.pm >/dev/null 2>&1 || missing="$missing libauthen-tacacsplus-perl"
want /usr/lib/python3/dist-packages/scapy/contrib/tacacs.py python3-scapy
ls /lib/*/security/pam_radius_auth.so /usr/lib/*/security/pam_radius_auth.so >/dev/null 2>&1 || missing="$missing libpam-radius-auth"
[ -z "$missing" ] && exit 0
if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then
	echo "installing for the tests:$missing"
	export DEBIAN_FRONTEND=noninteractive
	# A server that a package would start by itself must not run here; the tests start their own.
	[ -e /usr/sbin/policy-rc.d ] || { printf '#!/bin/sh\nexit 101\n' > /usr/sbin/policy-rc.d; chmod +x /usr/sbin/policy-rc.d; }
	apt-get update -qq >/dev/null
	# shellcheck disable=SC2086
	apt-get install -y -qq --no-install-recommends $missing >/dev/null
else
	echo "not installed, so some tests are skipped:$missing (run as root to install them)"
fi
