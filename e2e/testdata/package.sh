# Arguments: a package, a later one, and an empty place for a root. It runs in namespaces of its own.
set -eu
first=$1 later=$2 root=$3
step() { echo "== $*"; }
fail() { echo "FAILED: $*"; exit 1; }
has() { grep -q -- "$2" "$1" || { cat "$1"; fail "$1 does not have: $2"; }; }

ip link set lo up
mkdir -p "$root"
mount -t tmpfs tmpfs "$root"
mkdir "$root/upper" "$root/work" "$root/all"
mount -t overlay overlay -o "lowerdir=/,upperdir=$root/upper,workdir=$root/work" "$root/all"
all=$root/all
mount -t proc proc "$all/proc"
mount --rbind /dev "$all/dev"
mount -t tmpfs tmpfs "$all/tmp"
mkdir "$all/tmp/packages"
cp "$first" "$all/tmp/packages/first.deb"
cp "$later" "$all/tmp/packages/later.deb"
in_root() { chroot "$all" "$@"; }
as() { chroot "$all" runuser -u wardicon -- env HOME=/tmp/home PATH=/usr/bin:/bin "$@"; }

step install
in_root dpkg -i /tmp/packages/first.deb > "$root/out" 2>&1 || { cat "$root/out"; fail install; }
has "$root/out" "service set-up --data /var/lib/wardicon"
in_root getent passwd wardicon | grep -q nologin || fail "the user may sign in"
[ "$(in_root stat -c '%U %a' /var/lib/wardicon)" = "wardicon 700" ] || fail "the data folder is open"
in_root dpkg --verify wardicon

step unit
in_root systemd-analyze verify /usr/lib/systemd/system/wardicon.service > "$root/out" 2>&1 ||
	{ cat "$root/out"; fail "the unit"; }
# The level of exposure in tenths: 0 is wholly closed in, 100 not at all.
in_root systemd-analyze security --offline=yes --threshold=20 \
	/usr/lib/systemd/system/wardicon.service > "$root/out" 2>&1 || { tail -3 "$root/out"; fail exposed; }
tail -1 "$root/out"

step documents
[ -e "$all/usr/share/man/man1/wardicon-serve.1.gz" ] || fail "no manual page"
in_root bash -c '. /usr/share/bash-completion/completions/wardicon' || fail "completion"

step check
mkdir "$all/tmp/home"
in_root chown wardicon /tmp/home
as wardicon serve --settings /etc/wardicon/wardicon.yaml --check > "$root/out" || { cat "$root/out"; fail check; }
has "$root/out" "The service can start."
as wardicon-pkcs11 < /dev/null || fail "what loads the modules of tokens"

step "first operator"
echo "anchor-velvet-52-pepper-rudder" | as wardicon service set-up --data /var/lib/wardicon \
	--owner harbourmaster --password-file - || fail "set-up"

begin() {
	line=$(sed -n 's/^ExecStart=//p' "$all/usr/lib/systemd/system/wardicon.service")
	# shellcheck disable=SC2086 # a line of words
	as $line > "$root/log" 2>&1 &
	for _ in $(seq 600); do
		if in_root curl -fsS http://127.0.0.1:7480/ready > /dev/null 2>&1; then return; fi
		sleep 0.1
	done
	cat "$root/log"
	fail "it is not ready"
}
end() {
	in_root pkill -TERM -u wardicon -x wardicon
	wait || true
}
step start
begin
w() { as wardicon "$@"; }
echo "anchor-velvet-52-pepper-rudder" | w me sign-in --service http://127.0.0.1:7480 \
	--name harbourmaster --password-file - || fail "sign-in"

step "first parcel"
w organisation change --name "Skerry Line" --domain skerryline.example > /dev/null
w new-secret > "$all/tmp/norrvik.psk"
w new-secret > "$all/tmp/ada.secret"
w gateway add Norrvik --address norrvik.skerryline.example --city Norrvik \
	--psk-file /tmp/norrvik.psk --ppp mschapv2 \
	--ike aes256-sha256-modp2048,aes256-sha1-modp2048 --esp aes256-sha256,aes256-sha1 \
	--route 10.20.0.0/16 --dns 10.20.0.53 --domain inside.skerryline.example > /dev/null
w person add "Ada Fjell" --mail ada@skerryline.example > /dev/null
w account add a_fjell --person "Ada Fjell" --password-file /tmp/ada.secret > /dev/null
w device add "Ada's laptop" --person "Ada Fjell" --platform windows --release 11 --encrypted > /dev/null
w profile add "Ada's laptop" --gateway Norrvik > /dev/null
w build "Ada's laptop/Norrvik" --out /tmp/home/parcel > "$root/out" || { cat "$root/out"; fail build; }
ls "$all/tmp/home/parcel" | grep -q ps1 || fail "no script in the parcel"
end

step upgrade
echo "# ours" >> "$all/etc/wardicon/wardicon.yaml"
in_root dpkg -i /tmp/packages/later.deb > "$root/out" 2>&1 || { cat "$root/out"; fail upgrade; }
has "$all/etc/wardicon/wardicon.yaml" "# ours"
in_root dpkg -s wardicon | grep -q "Version: 0.2.1" || fail "the version"
begin
w profile list | grep -q "Ada's laptop" || fail "the profile is gone"
end

step remove
in_root dpkg -r wardicon > "$root/out" 2>&1 || { cat "$root/out"; fail remove; }
[ ! -e "$all/usr/bin/wardicon" ] || fail "the program is left"
[ -e "$all/var/lib/wardicon/wardicon.db" ] || fail "the data is gone"
[ -e "$all/etc/wardicon/wardicon.yaml" ] || fail "the settings are gone"

step purge
in_root dpkg -P wardicon > "$root/out" 2>&1 || { cat "$root/out"; fail purge; }
has "$root/out" "is kept"
[ ! -e "$all/etc/wardicon/wardicon.yaml" ] || fail "the settings are left"
[ -e "$all/var/lib/wardicon/master.key" ] || fail "the master key is gone"
echo "done"
