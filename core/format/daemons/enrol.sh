#!/bin/sh
# Gets the certificate of a VPN connection for a key that this device makes itself (EST, RFC 7030),
# and renews it 30 days before it expires. The key never leaves the device.
set -eu
umask 077
key=@KEY@
certificate=@CERT@
enrol=@ENROL@
renew=@RENEW@

left() { [ -s "$certificate" ] && openssl x509 -in "$certificate" -noout -checkend "$1" > /dev/null; }
# Another secret than the last one says that the certificate no longer counts.
secret=$(sha256sum < @CONFIG@)
same() { [ "$(cat -- "$key.enrolled" 2> /dev/null)" = "$secret" ]; }
if [ -s "$key" ] && same && left 2592000; then exit 0; fi

mkdir -p -- "$(dirname -- "$key")" "$(dirname -- "$certificate")"
work=$(mktemp -d)
trap 'rm -rf -- "$work"' EXIT
# The same key is asked for again where an answer was lost.
if [ ! -s "$key.new" ]; then
	@MAKE@ > "$work/key"
	mv -f -- "$work/key" "$key.new"
fi
openssl req -new -key "$key.new" -subj @SUBJECT@ -outform der | openssl base64 -A > "$work/request"

ask() {
	curl --silent --show-error --fail --max-time 60 --retry 3 \
		--header "Content-Type: application/pkcs10" --data-binary "@$work/request" "$@" > "$work/answer"
}
if [ -n "$renew" ] && [ -s "$key" ] && same && left 0; then
	ask --cert "$certificate" --key "$key" "$renew/simplereenroll"
else
	ask --config @CONFIG@ "$enrol/simpleenroll"
fi
openssl base64 -d -A < "$work/answer" | openssl pkcs7 -inform der -print_certs |
	openssl x509 -out "$work/certificate"
openssl x509 -in "$work/certificate" -noout -pubkey > "$work/got"
openssl pkey -in "$key.new" -pubout > "$work/own"
cmp -s -- "$work/got" "$work/own" || { echo "The certificate is for another key." >&2; exit 1; }
chmod 0644 "$work/certificate"
mv -f -- "$key.new" "$key"
mv -f -- "$work/certificate" "$certificate"
echo "$secret" > "$key.enrolled"
@RELOAD@
