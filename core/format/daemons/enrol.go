package daemons

import (
	_ "embed"
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/shell"
	"wardicon/core/vpn"
)

// enrolling tells that the files can have the device ask for its certificate.
func enrolling(c vpn.Connection) []format.Feature {
	if c.IKEv2 != nil || c.L2TP != nil || c.TLS != nil {
		return []format.Feature{format.Enrols}
	}
	return nil
}

// enrolPlaces is where what a device gets itself stands: its key and certificate, the secret that it
// asks with, and what lets a daemon take them up.
type enrolPlaces struct{ key, certificate, config, reload string }

// placesOf are those of the IKE daemon, or of the client of the TLS tunnel, which reads them whenever
// it connects.
func placesOf(c vpn.Connection) enrolPlaces {
	name, config := format.FileName(c.Name, ""), format.FileName(c.Name, format.EnrolConfig)
	if c.TLS != nil {
		return enrolPlaces{
			tunnelFolder + format.FileName(c.Name, format.KeyFile),
			tunnelFolder + name + "-cert.pem",
			tunnelFolder + config,
			"",
		}
	}
	return enrolPlaces{
		"/etc/swanctl/private/" + format.FileName(c.Name, format.KeyFile),
		"/etc/swanctl/x509/" + name + "-cert1.pem", "/etc/swanctl/" + config,
		"if command -v swanctl > /dev/null; then swanctl --load-creds --noprompt > /dev/null 2>&1 || true; fi\n",
	}
}

//go:embed enrol.sh
var enrolScript string

// enrols makes what has the device make its key, ask for the certificate, and renew it: a script
// that the install script runs, and that a timer runs every day from then on.
func enrols(c vpn.Connection, e vpn.Enrol, job *shell.Job) []format.File {
	name := format.FileName(c.Name, "")
	script := format.FileName(c.Name, format.EnrolScript)
	config := format.FileName(c.Name, format.EnrolConfig)
	unit := name + "-certificate"
	path := "/usr/local/sbin/" + script
	make := "openssl ecparam -name prime256v1 -genkey -noout"
	if e.RSA {
		make = "openssl genrsa 2048"
	}
	at := placesOf(c)
	text := strings.NewReplacer(
		"@KEY@", shell.Quote(at.key), "@CERT@", shell.Quote(at.certificate),
		"@CONFIG@", shell.Quote(at.config), "@MAKE@", make, "@RELOAD@\n", at.reload,
		"@SUBJECT@", shell.Quote("/CN="+strings.NewReplacer(`\`, `\\`, "/", `\/`, "+", `\+`).
			Replace(e.Name)),
		"@ENROL@", shell.Quote(e.EST), "@RENEW@", shell.Quote(e.Renew),
	).Replace(enrolScript)
	files := []format.File{
		{
			Name: script, MediaType: "text/x-shellscript; charset=utf-8",
			Purpose: "Makes the device's key, gets its certificate, and renews it",
			Content: []byte(text),
		},
		{
			Name: config, MediaType: "text/plain; charset=utf-8", Private: true,
			Purpose: "Enrolment secret: the device asks for its certificate with it",
			Content: []byte("user = \"device:" + e.Secret.Reveal() + "\"\n"),
		},
		{
			Name: unit + ".service", MediaType: "text/plain; charset=utf-8",
			Purpose: "Unit that renews the certificate",
			Content: []byte("[Unit]\nDescription=Certificate of the VPN connection " + name +
				"\nWants=network-online.target\nAfter=network-online.target\n\n[Service]\n" +
				"Type=oneshot\nExecStart=" + path + "\n"),
		},
		{
			Name: unit + ".timer", MediaType: "text/plain; charset=utf-8",
			Purpose: "Timer that runs it every day",
			Content: []byte("[Unit]\nDescription=Certificate of the VPN connection " + name +
				"\n\n[Timer]\nOnCalendar=daily\nRandomizedDelaySec=6h\nPersistent=true\n\n" +
				"[Install]\nWantedBy=timers.target\n"),
		},
	}
	job.Placements = append(job.Placements,
		shell.Placement{File: script, Path: path, Mode: "0755"},
		shell.Placement{File: config, Path: at.config, Mode: "0600"},
		shell.Placement{File: unit + ".service", Path: units + unit + ".service", Mode: "0644"},
		shell.Placement{File: unit + ".timer", Path: units + unit + ".timer", Mode: "0644"},
	)
	job.Programs = append(job.Programs, shell.Program{Name: "openssl", Packages: "openssl"},
		shell.Program{Name: "curl", Packages: "curl"})
	job.Units = append(job.Units, unit+".timer")
	job.Apply = append([]string{path}, job.Apply...)
	job.Revoke = append(
		job.Revoke,
		"rm -f -- "+shell.Quote(at.key)+" "+shell.Quote(at.key+".new")+" "+
			shell.Quote(at.key+".enrolled")+" "+shell.Quote(at.certificate),
	)
	return files
}
