
# From here on the script is the same for every connection. It reads, and changes nothing.
echo "Wardicon diagnostics 1"
echo "platform: linux $(uname -r)"
echo "time: $(date -u +%Y-%m-%dT%H:%M:%SZ)"
has() { command -v "$1" > /dev/null 2>&1; }
if has timedatectl && [ "$(timedatectl show -p NTPSynchronized --value 2> /dev/null)" = no ]; then echo "clock: unsynchronised"; fi
if [ -r /proc/uptime ]; then echo "running since: $(date -u -d "@$(($(date +%s) - $(cut -d . -f 1 /proc/uptime)))" +%Y-%m-%dT%H:%M:%SZ 2> /dev/null)"; fi
for service in $services; do
	has systemctl || break
	echo "service $service: $(systemctl is-active "$service" 2> /dev/null), $(systemctl is-enabled "$service" 2> /dev/null)"
done
if [ -n "$plugin" ]; then
	if [ -e "/usr/lib/NetworkManager/VPN/$plugin" ] || [ -e "/etc/NetworkManager/VPN/$plugin" ]; then echo "plugin $plugin: present"; else echo "plugin $plugin: missing"; fi
fi
for device in $devices; do
	if [ -e "$device" ]; then echo "tunnel device: $device"; else echo "tunnel device: missing $device"; fi
done
if has nmcli && [ -n "$plugin" ]; then
	if nmcli -t -f NAME connection show 2> /dev/null | grep -Fqx -- "$name"; then echo "connection: present"; else echo "connection: missing"; fi
	if nmcli -t -f NAME connection show --active 2> /dev/null | grep -Fqx -- "$name"; then echo "connected: yes"; else echo "connected: no"; fi
fi
running=""
for daemon in charon charon-systemd xl2tpd pppd pptp sstpc openvpn; do
	if has pgrep && pgrep -x "$daemon" > /dev/null 2>&1; then running="$running $daemon"; fi
done
echo "protocol in use: running${running:- nothing that speaks one}"
addresses=$(getent ahosts "$server" 2> /dev/null | awk '{print $1}' | sort -u | tr '\n' ' ')
echo "name $server: ${addresses:-unresolved}"
if has resolvectl; then echo "resolvers: $(resolvectl dns 2> /dev/null | tr '\n' ' ')"; else echo "resolvers: $(awk '/^nameserver/ {print $2}' /etc/resolv.conf 2> /dev/null | tr '\n' ' ')"; fi
connected=no
if has ip; then
	if ip -o link show 2> /dev/null | grep -Eq '(ppp|tun)[0-9]+:|xfrm|ipsec'; then connected=yes; fi
	echo "tunnel interface: $connected"
	echo "default route: $(ip route show default 2> /dev/null | head -n 1)"
	for route in $routes; do
		if ip route show "$route" 2> /dev/null | grep -q . || ip -6 route show "$route" 2> /dev/null | grep -q .; then echo "internal route $route: present"; elif [ "$connected$split" = yesyes ]; then echo "internal route $route: missing"; fi
	done
fi
if [ -n "$whereami" ] && has curl; then
	seen=$(curl -fsS --max-time 5 -- "$whereami" 2> /dev/null | tr -d '\n' | cut -c 1-400)
	address=$(printf %s "$seen" | sed -n 's/.*"address": *"\([0-9a-fA-F.:]*\)".*/\1/p')
	case $seen in
	*'"match"'*) echo "outside address: $address through the gateway" ;;
	?*) if [ "$connected$split" = yesno ]; then echo "outside address: $address not the gateway"; else echo "outside address: $address"; fi ;;
	esac
fi
if [ "$connected" = yes ]; then
	for host in $hosts; do
		inside=$(getent ahosts "$host" 2> /dev/null | awk '{print $1}' | sort -u | tr '\n' ' ')
		echo "internal name $host: ${inside:-unresolved}"
		if [ -n "$inside" ] && ping -c 1 -W 2 "$host" > /dev/null 2>&1; then echo "internal host $host: answers"; else echo "internal host $host: silent"; fi
	done
fi
echo "end of the diagnostics"
