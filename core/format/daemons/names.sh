#!/bin/sh
# Sets the name servers of the connection NAME while its tunnel is up. The client of the
# tunnel runs it, and tells the options of file and gateway in foreign_option_1 and on.
set -u
keep=/run/NAME.resolv
servers= domains= i=1
while :; do
	eval "option=\${foreign_option_$i:-}"
	[ -n "$option" ] || break
	value=${option##* }
	case $option in
	"dhcp-option DNS "* | "dhcp-option DNS6 "*)
		case $value in *[!0-9A-Fa-f.:]*) ;; *) servers="$servers $value" ;; esac
		;;
	"dhcp-option DOMAIN "* | "dhcp-option DOMAIN-SEARCH "*)
		case $value in *[!0-9A-Za-z.-]*) ;; *) domains="$domains $value" ;; esac
		;;
	esac
	i=$((i + 1))
done
case $1 in
up)
	[ -n "$servers$domains" ] || exit 0
	if [ -d /run/systemd/resolve ] && command -v resolvectl > /dev/null; then
		# shellcheck disable=SC2086 # words on purpose
		{ resolvectl dns "$dev" $servers && resolvectl domain "$dev" $domains; } || exit 1
	elif command -v resolvconf > /dev/null; then
		{
			for v in $servers; do echo "nameserver $v"; done
			[ -z "$domains" ] || echo "search$domains"
		} | resolvconf -a "$dev.openvpn"
	else
		[ -e "$keep" ] || cp -p /etc/resolv.conf "$keep"
		{
			for v in $servers; do echo "nameserver $v"; done
			[ -z "$domains" ] || echo "search$domains"
			cat "$keep"
		} > /etc/resolv.conf.new && cat /etc/resolv.conf.new > /etc/resolv.conf && rm -f /etc/resolv.conf.new
	fi
	;;
down)
	if [ -d /run/systemd/resolve ] && command -v resolvectl > /dev/null; then
		resolvectl revert "$dev" || true
	elif command -v resolvconf > /dev/null; then
		resolvconf -d "$dev.openvpn" || true
	elif [ -e "$keep" ]; then
		cat "$keep" > /etc/resolv.conf && rm -f "$keep"
	fi
	;;
esac
exit 0
