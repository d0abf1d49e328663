// Package shell writes the scripts for POSIX shells that put files into their places on
// Linux and OpenWrt, and the scripts that take them away again.
package shell

import (
	"fmt"
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
	// "; begin NAME" and ends with "; end NAME".
	Merge string
}

// Job is what the scripts do beside placing files. Commands run in the shell as they
// are: nothing in them may come from outside. They run only where ROOT is not set.
type Job struct {
	Connection string
	Placements []Placement
	Apply      []string // after placing
	Revoke     []string // before taking away
	Done       string   // what to say at the end
}

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
	[ "$is" = "$2" ] || { echo "$1 is not the file that was built: it is missing, or it was changed on the way. Nothing was set up; get the files anew." >&2; exit 1; }
}

# place FILE PATH MODE: puts a file into its place whole, and reads it back.
place() {
	mkdir -p -- "$(dirname -- "$root$2")"
	cp -- "$here/$1" "$root$2.new"
	chmod "$3" "$root$2.new"
	mv -f -- "$root$2.new" "$root$2"
	cmp -s -- "$here/$1" "$root$2" || { echo "$2 is not as it should be." >&2; exit 1; }
}

# merge FILE PATH MODE NAME: puts a part into a file that others use too, in the place
# of the part of that name.
merge() {
	mkdir -p -- "$(dirname -- "$root$2")"
	[ -e "$root$2" ] || : > "$root$2"
	sed "/^; begin $4\$/,/^; end $4\$/d" "$root$2" > "$root$2.new"
	cat -- "$here/$1" >> "$root$2.new"
	chmod "$3" "$root$2.new"
	mv -f -- "$root$2.new" "$root$2"
	grep -qx "; begin $4" "$root$2" || { echo "$2 is not as it should be." >&2; exit 1; }
}

`

const removeHead = `#!/bin/sh
# Removes a VPN connection and all that its install script made. Run it as root.
set -eu
root=${ROOT:-}
if [ -z "$root" ] && [ "$(id -u)" != 0 ]; then echo "Run this script as root." >&2; exit 1; fi

`

// Scripts makes the install and the removal script. The first one has the digests of the files that
// stand beside it, and sets nothing up where one differs.
func Scripts(job Job, files []format.File) []format.File {
	var in, out strings.Builder
	in.WriteString(installHead)
	for _, f := range files {
		fmt.Fprintf(&in, "sound %s %s\n", Quote(f.Name), digests.Of(f.Content))
	}
	for _, p := range job.Placements {
		if p.Merge != "" {
			fmt.Fprintf(&in, "merge %s %s %s %s\n", Quote(p.File), Quote(p.Path), p.Mode, Quote(p.Merge))
			continue
		}
		fmt.Fprintf(&in, "place %s %s %s\n", Quote(p.File), Quote(p.Path), p.Mode)
	}
	only(&in, job.Apply)
	fmt.Fprintf(&in, "echo %s\n", Quote(job.Done))
	out.WriteString(removeHead)
	only(&out, job.Revoke)
	for _, p := range job.Placements {
		if p.Merge != "" {
			fmt.Fprintf(&out, "if [ -e \"$root\"%[1]s ]; then\n\tsed -i %[2]s \"$root\"%[1]s\nfi\n", Quote(p.Path), Quote("/^; begin "+p.Merge+"$/,/^; end "+p.Merge+"$/d"))
			continue
		}
		fmt.Fprintf(&out, "rm -f -- \"$root\"%s\n", Quote(p.Path))
	}
	out.WriteString("echo 'The connection is removed.'\n")
	return []format.File{
		{
			Name: format.FileName(job.Connection, "-install.sh"), MediaType: "text/x-shellscript; charset=utf-8",
			Purpose: "Install script: run it as root in the folder of the files", Content: []byte(in.String()),
		},
		{
			Name: format.FileName(job.Connection, "-remove.sh"), MediaType: "text/x-shellscript; charset=utf-8",
			Purpose: "Removal script: takes away all that the install script made", Content: []byte(out.String()),
		},
	}
}

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
