package daemons

import (
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/shell"
	"wardicon/core/vpn"
)

// fetchScript is what a gateway runs by a timer. ROOT, where it is set, stands before every path.
const fetchScript = `#!/bin/sh
# Fetches the configuration of this gateway where it differs from what runs here, puts each changed
# file into place whole or not at all, and reloads the daemons. Run it as root by a timer, such as
# every five minutes; it needs curl. It holds a token: nobody else may read it.
set -eu
umask 077
url=URL
token=TOKEN
reload=RELOAD
root=${ROOT-}
state=$root/var/lib/wardicon-gateway
mkdir -p "$state"
runs=$(cat "$state/version" 2> /dev/null || true)
work=$(mktemp -d "$state/new.XXXXXX")
trap 'rm -rf "$work"' EXIT
# ask VERSION: the answer's status; the service notes which version runs here
ask() {
	printf 'header = "Authorization: Bearer %s"\n' "$token" |
		curl --config - --silent --show-error --max-time 60 --header "If-None-Match: \"$1\"" \
			--dump-header "$work/head" --output "$work/files.tgz" --write-out '%{http_code}' "$url"
}
status=$(ask "$runs")
case $status in
304) exit 0 ;;
200) ;;
*) echo "The configuration was not fetched: $url answers $status." >&2; exit 1 ;;
esac
version=$(sed -n 's/^[Ee][Tt][Aa][Gg]: *"\([0-9a-f]*\)".*/\1/p' "$work/head")
[ -n "$version" ] || { echo "The answer of $url has no version." >&2; exit 1; }
mkdir "$work/files"
tar -xzf "$work/files.tgz" -C "$work/files"
changed=
renewed=
# put FILE FOLDER MODE
put() {
	to=$root$2/${1##*/}
	! cmp -s "$1" "$to" || return 0
	mkdir -p "$root$2"
	cp "$1" "$to.new"
	chmod "$3" "$to.new"
	mv "$to.new" "$to"
	case $to in
	*.crl|*-crl.pem) renewed=yes ;; # daemons take these up without a restart
	*) changed="$changed ${1##*/}" ;;
	esac
}
for file in "$work/files"/*; do
	case ${file##*/} in
	NAME.conf|NAME-users.conf) put "$file" /etc/swanctl/conf.d 0600 ;;
	NAME*clients-ca*.crl) put "$file" /etc/swanctl/x509crl 0644 ;;
	NAME-clients-crl.pem) put "$file" /etc/openvpn/server 0644 ;;
	NAME*clients-ca*.pem) put "$file" /etc/swanctl/x509ca 0644 ;;
	NAME-check|NAME-route) put "$file" /etc/openvpn/server 0755 ;;
	NAME-*.conf|NAME-clients.pem|NAME-control.key|NAME-users|NAME-sites)
		put "$file" /etc/openvpn/server 0600 ;;
	xl2tpd.conf) put "$file" /etc/xl2tpd 0600 ;;
	options.*|chap-secrets|pap-secrets) put "$file" /etc/ppp 0600 ;;
	pptpd.conf) put "$file" /etc 0644 ;;
	*) put "$file" /var/lib/wardicon-gateway 0600 ;;
	esac
done
# What is no longer there goes.
tunnels=$root/etc/openvpn/server
for file in "$tunnels/NAME"-udp-*.conf "$tunnels/NAME"-tcp-*.conf; do
	if [ -e "$file" ] && [ ! -e "$work/files/${file##*/}" ]; then
		rm "$file"
		changed="$changed ${file##*/}"
	fi
done
if [ -n "$renewed" ] && command -v swanctl > /dev/null; then
	swanctl --load-creds --noprompt > /dev/null || true
fi
if [ -n "$changed" ]; then
	: > "$state/changed" # until the daemons have taken it up
	echo "Changed:$changed"
fi
if [ -e "$state/changed" ]; then
	[ -z "$reload" ] || sh -c "$reload" || {
		echo "The daemons were not reloaded: $reload" >&2
		exit 1
	}
	rm "$state/changed"
fi
printf '%s\n' "$version" > "$state/version.new"
mv "$state/version.new" "$state/version"
ask "$version" > /dev/null || true
`

// FetchScript is a script (sh) that fetches the configuration of a gateway by a token, puts changed
// files into place and reloads its daemons.
func FetchScript(g vpn.Gateway, url, token, reload string) string {
	return strings.NewReplacer(
		"URL", shell.Quote(url), "TOKEN", shell.Quote(token), "RELOAD", shell.Quote(reload),
		"NAME", format.FileName(g.Name, ""),
	).Replace(fetchScript)
}

// RevocationList tells whether a file of a configuration is a list of revoked certificates.
func RevocationList(name string) bool {
	return strings.HasSuffix(name, ".crl") || strings.HasSuffix(name, "-crl.pem")
}
