package all_test

// lost lists what each format leaves off of a connection with something in every field.
const lost = `
apple ikev2: ikev2.ike ikev2.no_fragmentation ipv6 routes
apple l2tp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ipv6 l2tp.behind_nat l2tp.esp l2tp.ike l2tp.ppp reconnect routes unmetered
apple pptp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ipv6 pptp.ppp pptp.stateful reconnect routes unmetered
keyfile ikev2: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ikev2.child_lifetime ikev2.dpd ikev2.ike_lifetime ikev2.no_fragmentation ikev2.no_mobike proxy.bypass unmetered
keyfile tls: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes proxy.bypass unmetered
keyfile sstp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes proxy.bypass sstp.server_name unmetered
keyfile l2tp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes l2tp.behind_nat proxy.bypass unmetered
keyfile pptp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes proxy.bypass unmetered
powershell ikev2: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ikev2.child_lifetime ikev2.dpd ikev2.ike ikev2.ike_lifetime ikev2.local_id ikev2.no_fragmentation ikev2.no_mobike ikev2.remote_id ipv6 proxy.bypass reconnect unmetered
powershell sstp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ipv6 proxy.bypass reconnect sstp.server_name unmetered
powershell l2tp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ipv6 proxy.bypass reconnect unmetered
powershell pptp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ipv6 pptp.stateful proxy.bypass reconnect unmetered
windows-xml ikev2: authority demand.interface demand.networks demand.probe ikev2.child_lifetime ikev2.dpd ikev2.ike ikev2.ike_lifetime ikev2.local_id ikev2.no_fragmentation ikev2.no_mobike ikev2.remote_id ipv6 keep login password proxy.bypass reconnect scope unmetered
windows-xml l2tp: demand.interface demand.networks demand.probe ipv6 keep l2tp.behind_nat login password proxy.bypass reconnect scope unmetered
windows-xml pptp: demand.interface demand.networks demand.probe ipv6 keep login password pptp.mppe pptp.stateful proxy.bypass reconnect scope unmetered
onc ikev2: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ikev2.child_lifetime ikev2.dpd ikev2.esp ikev2.ike ikev2.ike_lifetime ikev2.no_fragmentation ikev2.no_mobike ipv6 reconnect routes scope tunnel unmetered
onc tls: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ipv6 reconnect routes scope tls.ciphers tls.keepalive tls.min_tls tls.remotes tunnel unmetered
onc l2tp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ipv6 l2tp.behind_nat l2tp.esp l2tp.ike l2tp.ppp reconnect routes scope tunnel unmetered
sswan ikev2: authority connect demand.domains demand.interface demand.networks demand.probe demand.suffixes domains ikev2.child_lifetime ikev2.dpd ikev2.ike ikev2.ike_lifetime ikev2.no_fragmentation ikev2.no_mobike ipv6 keep password proxy.bypass proxy.script reconnect scope unmetered
phone-book ikev2: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ikev2.child_lifetime ikev2.dpd ikev2.esp ikev2.ike ikev2.ike_lifetime ikev2.local_id ikev2.no_fragmentation ikev2.remote_id ipv6 keep login password proxy.bypass proxy.script routes scope unmetered
phone-book sstp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ipv6 keep login password proxy.bypass proxy.script routes scope sstp.server_name unmetered
phone-book l2tp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ipv6 keep l2tp.esp l2tp.ike login password proxy.bypass proxy.script routes scope unmetered
phone-book pptp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ipv6 keep login password pptp.stateful proxy.bypass proxy.script routes scope unmetered
uci tls: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ipv6 proxy.bypass proxy.script unmetered
uci sstp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes proxy.bypass proxy.script reconnect sstp.server_name unmetered
uci l2tp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes l2tp.behind_nat proxy.bypass proxy.script reconnect unmetered
uci pptp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes proxy.bypass proxy.script reconnect unmetered
daemons ikev2: demand.domains demand.interface demand.networks demand.probe demand.suffixes dns domains proxy.bypass proxy.script unmetered
daemons sstp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes dns domains ipv6 proxy.bypass proxy.script sstp.server_name unmetered
daemons l2tp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes dns domains ipv6 l2tp.behind_nat proxy.bypass proxy.script unmetered
daemons tls: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ipv6 proxy.bypass proxy.script unmetered
daemons pptp: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes dns domains ipv6 proxy.bypass proxy.script unmetered
ovpn tls: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ipv6 proxy.bypass proxy.script scope unmetered
ovpn-folder tls: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ipv6 proxy.bypass proxy.script scope unmetered
ovpn-phone tls: connect demand.domains demand.interface demand.networks demand.probe demand.suffixes ipv6 proxy.bypass proxy.script scope unmetered
`
