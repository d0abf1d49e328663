// Package shell writes the scripts for POSIX shells that put files into their places on
// Linux and OpenWrt, and the scripts that take them away again.
package shell

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/digests"
)

// Placement is where a file of a parcel belongs.
type Placement struct {
	File string // its name in the parcel
	Path string
	Mode string // such as 0600

	// Merge names a part of a file that others use too. The part begins with the line
	// "; begin NAME" and ends with "; end NAME"; Sign is the sign of a comment there, a
	// semicolon where it is empty.
	Merge, Sign string
}

// Ask is a password that is in no file of the parcel and that nothing on the device would
// ask for later: the install script asks for it, on the terminal or in the file that
// PASSWORD_FILE names.
type Ask struct {
	Prompt string
	Path   string // of the file that it is written to, mode 0600; empty where a command takes it
	Before string // what stands in the file before it
	After  string // and after it
	Quote  Quoting
}

// Quoting says how a password is quoted where it is written.
type Quoting string

// The ways of quoting.
const (
	Raw Quoting = ""
	// within double quotes, a backslash before quotes and backslashes
	Backslashed Quoting = "backslashed"
	// within single quotes, each quote inside closed, escaped and opened again
	Single Quoting = "single"
)

// Job is what the scripts do beside placing files. Commands run in the shell as they
// are: nothing in them may come from outside. They run only where ROOT is not set.
type Job struct {
	Connection string
	ID         string // the connection's UUID; what was placed is listed under it
	Programs   []Program
	Placements []Placement
	Ask        *Ask
	Units      []string // of the system's service manager, started with the system
	Apply      []string // after placing
	Revoke     []string // before taking away
	Gone       []string // after that
	Done       string   // what to say at the end
}

// Program is one that the connection needs, with the packages that bring it.
type Program struct{ Name, Packages string }

const installHead = `#!/bin/sh
# Sets up a VPN connection. Safe to run twice. Run it as root; the files stand beside it.
# With ROOT set, everything is placed below that folder and nothing is started.
set -eu
umask 077
here=$(CDPATH= cd -- "$(dirname -- "$0")" && pwd)
root=${ROOT:-}
if [ -z "$root" ] && [ "$(id -u)" != 0 ]; then echo "Run this script as root." >&2; exit 1; fi

# sound FILE DIGEST: holds that a file is the one that was built (SHA-256).
sound() {
	is=$(sha256sum < "$here/$1" | cut -d " " -f 1) || is=missing
	[ "$is" = "$2" ] || {
		echo "$1 is not the file that was built: it is missing, or it was changed on the way." \
			"Nothing was set up; get the files again." >&2
		exit 1
	}
}

# program NAME PACKAGES: holds that a program is there.
program() {
	[ -n "$root" ] || PATH=$PATH:/usr/sbin:/sbin command -v "$1" > /dev/null || {
		echo "$1 is missing. Install it first: $2. Nothing was set up." >&2
		exit 1
	}
}

# place FILE PATH MODE: puts a file into its place whole, and reads it back.
place() {
	mkdir -p -- "$(dirname -- "$root$2")"
	cp -- "$here/$1" "$root$2.new"
	chmod "$3" "$root$2.new"
	mv -f -- "$root$2.new" "$root$2"
	cmp -s -- "$here/$1" "$root$2" || { echo "$2 is not as it should be." >&2; exit 1; }
	echo "file $2" >> "$list.new"
}

# merge FILE PATH MODE SIGN NAME: puts a part into a file that others use too, in the
# place of the part of that name.
merge() {
	mkdir -p -- "$(dirname -- "$root$2")"
	[ -e "$root$2" ] || : > "$root$2"
	sed "/^$4 begin $5\$/,/^$4 end $5\$/d" "$root$2" > "$root$2.new"
	cat -- "$here/$1" >> "$root$2.new"
	chmod "$3" "$root$2.new"
	mv -f -- "$root$2.new" "$root$2"
	grep -qx "$4 begin $5" "$root$2" || { echo "$2 is not as it should be." >&2; exit 1; }
	echo "part $4 $5 $2" >> "$list.new"
}

`

// askFunction reads a password into $password.
const askFunction = `# ask PROMPT: reads a password without showing it, or the first line of
# PASSWORD_FILE.
ask() {
	password=
	if [ -n "${PASSWORD_FILE:-}" ]; then
		IFS= read -r password < "$PASSWORD_FILE" || :
	elif [ -t 0 ]; then
		printf "%s: " "$1" >&2
		trap "stty echo" EXIT INT TERM
		stty -echo
		IFS= read -r password || :
		stty echo
		trap - EXIT INT TERM
		echo >&2
	fi
	[ -n "$password" ] || {
		echo "A password is needed: run the script on a terminal, or let PASSWORD_FILE name" \
			"a file with it. Nothing was set up." >&2
		exit 1
	}
	case $password in
	*[[:cntrl:]]*)
		echo "The password holds a control character. Nothing was set up." >&2
		exit 1
		;;
	esac
}

`

// forget takes away what is on a list of what was placed. It is in both scripts.
const forget = `# forget LIST: takes away what stands on a list of what was placed, but what this
# script has placed too.
forget() {
	[ -e "$1" ] || return 0
	while IFS= read -r line; do
		if [ -e "$list.new" ] && grep -qxF -- "$line" "$list.new"; then continue; fi
		rest=${line#* }
		case $line in
		"file "*) rm -f -- "$root$rest" ;;
		"unit "*)
			[ -n "$root" ] || [ ! -d /run/systemd/system ] ||
				systemctl disable --now "$rest" > /dev/null 2>&1 || true
			;;
		"part "*)
			sign=${rest%% *} rest=${rest#* }
			name=${rest%% *} rest=${rest#* }
			[ -e "$root$rest" ] || continue
			sed -i "/^$sign begin $name\$/,/^$sign end $name\$/d" "$root$rest"
			[ -s "$root$rest" ] || rm -f -- "$root$rest"
			;;
		esac
	done < "$1"
}

`

const removeHead = `#!/bin/sh
# Removes a VPN connection and all that its install script made. Run it as root.
set -eu
root=${ROOT:-}
if [ -z "$root" ] && [ "$(id -u)" != 0 ]; then echo "Run this script as root." >&2; exit 1; fi

`

// lists is the folder on a device in which it is listed what stands for a connection, by
// the connection's identifier: one that was renamed leaves nothing of its old name behind.
const lists = "/etc/vpn-parcels/"

// escapes are the commands that quote what stands in $password.
var escapes = map[Quoting]string{
	Backslashed: `password=$(printf "%s" "$password" | sed 's/[\\"]/\\&/g')`,
	Single:      `password=$(printf "%s" "$password" | sed "s/'/'\\\\''/g")`,
}

// Scripts makes the install and the removal script. The first one has the digests of the files that
// stand beside it, and sets nothing up where one differs.
func Scripts(job Job, files []format.File) []format.File {
	var in, out strings.Builder
	line := func(b *strings.Builder, format string,
		args ...any) {
		fmt.Fprintf(b, format+"\n", args...)
	}
	list := lists + strings.ToLower(job.ID)
	in.WriteString(installHead)
	if job.Ask != nil {
		in.WriteString(askFunction)
	}
	in.WriteString(forget)
	for _, f := range files {
		line(&in, "sound %s %s", Quote(f.Name), digests.Of(f.Content))
	}
	for _, p := range job.Programs {
		line(&in, "program %s %s", Quote(p.Name), Quote(p.Packages))
	}
	if job.Ask != nil {
		line(&in, "ask %s", Quote(job.Ask.Prompt))
		if escape := escapes[job.Ask.Quote]; escape != "" {
			line(&in, "%s", escape)
		}
	}
	line(&in, "list=$root%s\nmkdir -p -- \"$root%s\"\n: > \"$list.new\"", Quote(list), lists)
	for _, p := range job.Placements {
		if p.Merge != "" {
			line(
				&in,
				"merge %s %s %s %s %s",
				Quote(p.File),
				Quote(p.Path),
				p.Mode,
				Quote(p.sign()),
				Quote(p.Merge),
			)
			continue
		}
		line(&in, "place %s %s %s", Quote(p.File), Quote(p.Path), p.Mode)
	}
	if a := job.Ask; a != nil && a.Path != "" {
		path := "\"$root\"" + Quote(a.Path)
		line(&in, "mkdir -p -- \"$(dirname -- %s)\"", path)
		line(
			&in,
			`{ printf "%%s" %s; printf "%%s" "$password"; printf "%%s" %s; } > %s.new`,
			Quote(a.Before),
			Quote(a.After),
			path,
		)
		line(&in, "mv -f -- %s.new %s", path, path)
		line(&in, "echo %s >> \"$list.new\"", Quote("file "+a.Path))
	}
	for _, u := range job.Units {
		line(&in, "echo %s >> \"$list.new\"", Quote("unit "+u))
	}
	line(&in, "forget \"$list\"\nmv -f -- \"$list.new\" \"$list\"")
	apply := slices.Clone(job.Apply)
	if len(job.Units) > 0 {
		apply = append(apply, "if [ -d /run/systemd/system ]; then", "\tsystemctl daemon-reload")
		for _, u := range job.Units {
			apply = append(
				apply,
				"\tsystemctl enable "+Quote(u)+" > /dev/null 2>&1",
				"\tsystemctl restart "+Quote(u),
			)
		}
		apply = append(apply, "fi")
	}
	only(&in, apply)
	line(&in, "echo %s", Quote(job.Done))
	out.WriteString(removeHead)
	line(&out, "list=$root%s", Quote(list))
	out.WriteString(forget)
	only(&out, job.Revoke)
	line(&out, "forget \"$list\"\nrm -f -- \"$list\"")
	only(&out, job.Gone)
	line(&out, "echo 'The connection is removed.'")
	return []format.File{
		{
			Name: format.FileName(
				job.Connection,
				"-install.sh",
			),
			MediaType: "text/x-shellscript; charset=utf-8",
			Purpose:   "Install script: run it as root in the folder of the files",
			Content:   []byte(in.String()),
		},
		{
			Name: format.FileName(
				job.Connection,
				"-remove.sh",
			),
			MediaType: "text/x-shellscript; charset=utf-8",
			Purpose:   "Removal script: takes away all that the install script made",
			Content:   []byte(out.String()),
		},
	}
}

func (p Placement) sign() string { return cmp.Or(p.Sign, ";") }

// only writes commands that are left out below a ROOT.
func only(b *strings.Builder, commands []string) {
	if len(commands) == 0 {
		return
	}
	b.WriteString("if [ -z \"$root\" ]; then\n")
	for _, c := range commands {
		b.WriteString("\t" + c + "\n")
	}
	b.WriteString("fi\n")
}

// Quote writes a word for a POSIX shell (XCU §2.2.2): nothing in it is expanded.
func Quote(v string) string { return "'" + strings.ReplaceAll(v, "'", `'\''`) + "'" }
