// Package api holds the shapes in which records and answers are shown: in lists, by
// the API, on the command line and in the console alike.
package api

import (
	"path"
	"time"

	"wardicon/core/check"
	"wardicon/core/drift"
	"wardicon/core/filecheck"
	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/plan"
	"wardicon/core/platform"
	"wardicon/core/vpn"
)

// Page is a part of a list, with the number of all rows that the query fits.
type Page[Row any] struct {
	Items []Row `json:"items"`
	Total int   `json:"total" doc:"Number of all that the search and the filters fit"`
	More  bool  `json:"more,omitempty" doc:"There are more than total says: what a filter or a search fits is counted to a bound"`
}

// Items is a list that comes whole.
type Items[Row any] struct {
	Items []Row `json:"items"`
}

// Gateway is a gateway in a list.
type Gateway struct {
	vpn.Gateway
	Profiles int       `json:"profiles" doc:"Number of profiles that lead here"`
	Tally    vpn.Tally `json:"tally" doc:"What is found on its record alone"`
	Answers  string    `json:"answers,omitempty" enum:"matches,differs,no-response,unresolved" doc:"What its newest probe came to; empty where it was not asked"`
}

// Person is a person in a list.
type Person struct {
	vpn.Person
	Accounts int `json:"accounts"`
	Devices  int `json:"devices"`
}

// Account is an account in a list.
type Account struct {
	vpn.Account
	Person string `json:"person" doc:"The person's name"`
}

// Device is a device in a list, with its findings summed over its profiles.
type Device struct {
	vpn.Device
	Person   string    `json:"person" doc:"The person's name"`
	Profiles int       `json:"profiles"`
	Tally    vpn.Tally `json:"tally"`
}

// Profile is a profile in a list, with the names of what it joins.
type Profile struct {
	vpn.Profile
	Device   string       `json:"device"`
	Gateway  string       `json:"gateway"`
	Person   string       `json:"person"`
	Platform vpn.Platform `json:"platform"`
	Release  string       `json:"release"`
	Pattern  string       `json:"pattern" doc:"Name of the pattern; empty without one"`
}

// Folder is where the files of a profile go in archives and folders: person, then device and gateway.
func (p Profile) Folder() string {
	return path.Join(format.FolderName(p.Person), format.FolderName(p.Device+" "+p.Gateway))
}

// Pattern is a pattern in a list.
type Pattern struct {
	vpn.Pattern
	Profiles int `json:"profiles" doc:"Number of profiles that are planned by it"`
}

// Planned is a profile's planned connection with reasons and findings. The connection
// carries masks in the place of its secrets.
type Planned struct {
	Profile    vpn.Profile       `json:"profile"`
	Connection vpn.Connection    `json:"connection"`
	Choices    []plan.Choice     `json:"choices"`
	Findings   []check.Finding   `json:"findings"`
	Tally      vpn.Tally         `json:"tally"`
	Release    string            `json:"release" doc:"Platform and release"`
	Passed     []plan.Passed     `json:"passed" doc:"Protocols that were not chosen, with the reason"`
	Unmet      []plan.Unmet      `json:"unmet" doc:"Preferences of the pattern that cannot be carried out"`
	Chains     [][]pki.Link      `json:"chains" doc:"Chains of the certificates that the connection looks at, each from the leaf up"`
	Agreements []check.Agreement `json:"agreements" doc:"What device and gateway will negotiate"`
	Pattern    string            `json:"pattern" doc:"Name of the pattern; empty without one"`
	Format     platform.Format   `json:"format" doc:"Format of the file that the device takes; empty where a person types"`
	Formats    []platform.Format `json:"formats" doc:"Formats that could be chosen"`
	Title      string            `json:"title" doc:"What the profile joins"`
	PersonID   string            `json:"person_id" doc:"The device's owner"`
}

// ShownFile is a file as a preview shows it.
type ShownFile struct {
	format.File
	Text string `json:"text" doc:"Content of the file"`
}

// Parcel is what was built from a profile. It never changes. Digest is keyed: equal
// for equal content.
type Parcel struct {
	ID        string        `json:"id"`
	ProfileID string        `json:"profile_id"`
	ByHand    bool          `json:"by_hand" doc:"Only a card, for typing by hand"`
	Digest    string        `json:"digest"`
	Built     time.Time     `json:"built"`
	Files     []format.File `json:"files"`
	Outdated  bool          `json:"outdated" doc:"Building now would give something else"`
	Removed   *time.Time    `json:"removed,omitempty" doc:"When its files were removed, because a newer parcel took its place; its digest stays"`
}

// Counts are the sums for an overview.
type Counts struct {
	Gateways int       `json:"gateways"`
	People   int       `json:"people"`
	Devices  int       `json:"devices"`
	Profiles int       `json:"profiles"`
	Parcels  int       `json:"parcels"`
	Due      int       `json:"due" doc:"Profiles whose check is still to come"`
	Blocked  int       `json:"blocked" doc:"Profiles with at least one error"`
	Warned   int       `json:"warned" doc:"Profiles without an error and with at least one warning"`
	Clean    int       `json:"clean" doc:"Profiles with neither"`
	Tally    vpn.Tally `json:"tally"`
}

// RuleSum says how many profiles one rule finds something in.
type RuleSum struct {
	Rule     string       `json:"rule"`
	Title    string       `json:"title"`
	Severity vpn.Severity `json:"severity" enum:"error,warning,note"`
	Profiles int          `json:"profiles"`
}

// Checked is what a check of files found. Nothing of it holds a secret.
type Checked struct {
	Files    []CheckedFile       `json:"files"`
	Findings []check.Finding     `json:"findings"`
	Tally    vpn.Tally           `json:"tally"`
	Ignored  []filecheck.Ignored `json:"ignored" doc:"Findings that an ignore file keeps quiet"`
	Ended    []filecheck.Ignore  `json:"ended" doc:"Entries of the ignore file whose day has passed"`
}

// CheckedFile is one file that was looked at.
type CheckedFile struct {
	Name        string              `json:"name"`
	Kind        string              `json:"kind" doc:"What it is; empty where it is nothing that is read"`
	Connections []CheckedConnection `json:"connections"`
	Chains      [][]pki.Link        `json:"chains" doc:"Chains of its certificates, each from the leaf up"`
	Tally       vpn.Tally           `json:"tally"`
}

// CheckedConnection is a connection that was read, with what both sides will negotiate.
type CheckedConnection struct {
	Name       string            `json:"name"`
	Protocol   vpn.Protocol      `json:"protocol"`
	Server     string            `json:"server"`
	Gateway    string            `json:"gateway,omitempty" doc:"The gateway on record that it leads to"`
	Agreements []check.Agreement `json:"agreements"`
}

// CheckedItems shows what became of files.
func CheckedItems(items []filecheck.Item) Checked {
	c := Checked{Files: []CheckedFile{}, Ignored: []filecheck.Ignored{}, Ended: []filecheck.Ignore{}}
	for _, i := range items {
		f := CheckedFile{Name: i.Name, Kind: i.Kind, Connections: []CheckedConnection{}, Chains: append([][]pki.Link{}, i.Chains...), Tally: check.Count(i.Findings)}
		for _, one := range i.Connections {
			v := one.Connection
			f.Connections = append(f.Connections, CheckedConnection{v.Name, v.Protocol, v.Server, one.Gateway, one.Agreements})
		}
		c.Files = append(c.Files, f)
	}
	c.Findings = filecheck.Findings(items)
	c.Tally = check.Count(c.Findings)
	return c
}

// FleetFinding is a finding on one profile, as the work list over the fleet shows it.
type FleetFinding struct {
	Rule       string       `json:"rule"`
	Severity   vpn.Severity `json:"severity" enum:"error,warning,note"`
	Title      string       `json:"title"`
	Field      vpn.Field    `json:"field"`
	Found      string       `json:"found"`
	Fix        string       `json:"fix"`
	Noun       string       `json:"noun" doc:"Kind of the record to fix"`
	Object     string       `json:"object" doc:"Identifier of the record to fix"`
	Pointer    string       `json:"pointer"`
	Fixable    bool         `json:"fixable" doc:"Wardicon can fix it by itself"`
	Overridden bool         `json:"overridden" doc:"An override applies to it"`
	Since      time.Time    `json:"since" doc:"When it was found first"`
	ProfileID  string       `json:"profile_id"`
	DeviceID   string       `json:"device_id"`
	Device     string       `json:"device"`
	GatewayID  string       `json:"gateway_id"`
	Gateway    string       `json:"gateway"`
	PersonID   string       `json:"person_id"`
	Person     string       `json:"person"`
}

// FindingSum counts findings of one rule, at one gateway or for one person.
type FindingSum struct {
	Key      string    `json:"key" doc:"Code of the rule, or identifier of the gateway or person"`
	Title    string    `json:"title"`
	Tally    vpn.Tally `json:"tally"`
	Profiles int       `json:"profiles"`
	New      int       `json:"new" doc:"Found first within the days that were asked for"`
	Ended    int       `json:"ended" doc:"No longer there since then"`
	Fixable  int       `json:"fixable" doc:"Wardicon can fix them by itself"`
}

// Rule is a rule as the owner wants it to be taken.
type Rule struct {
	check.Rule
	Set vpn.Severity `json:"set,omitempty" doc:"Severity that the owner has set; empty for the rule's own"`
}

// Fix is a mechanical change of one record that would fix findings. A secret shows as
// its mask.
type Fix struct {
	Noun    string `json:"noun"`
	Object  string `json:"object"`
	Name    string `json:"name" doc:"Name of the record"`
	Pointer string `json:"pointer"`
	From    string `json:"from"`
	To      string `json:"to"`
}

// Taken is what files say that the records lack.
type Taken struct {
	Items []TakenFact `json:"items"`
	Kept  bool        `json:"kept" doc:"It was added; otherwise it is only shown"`
}

// TakenFact is one record that was taken out of a file, or would be.
type TakenFact struct {
	Noun   string `json:"noun" enum:"gateway,account"`
	State  string `json:"state" enum:"new,changed,same"`
	Name   string `json:"name"`
	Detail string `json:"detail"`
}

// Add adds a fact.
func (t *Taken) Add(noun, state, name, detail string) {
	t.Items = append(t.Items, TakenFact{noun, state, name, detail})
}

// Overview is what an operator sees first.
type Overview struct {
	Organisation vpn.Organisation `json:"organisation"`
	Counts       Counts           `json:"counts"`
	Answers      map[string]int   `json:"answers" doc:"Gateways by what their newest probes came to; unprobed are those without one"`
	Probes       []drift.ProbeRow `json:"probes" doc:"The newest probes, those first that do not answer"`
	Reports      int              `json:"reports" doc:"What people said does not work and nobody dealt with"`
	Rules        []RuleSum        `json:"rules" doc:"The rules that find something, most severe first"`
	Worst        []Profile        `json:"worst" doc:"Profiles with errors or warnings, worst first"`
}

// AuditEntry is one line of the audit log: who did or saw what. It never holds a secret.
type AuditEntry struct {
	Seq      int64     `json:"seq"`
	At       time.Time `json:"at"`
	Operator string    `json:"operator"`
	Action   string    `json:"action"`
	Noun     string    `json:"noun"`
	Object   string    `json:"object"`
	Detail   string    `json:"detail"`
}

// Start says what a console has to do first.
type Start struct {
	SetUp   bool   `json:"set_up" doc:"No owner has been made yet"`
	Version string `json:"version"`
}

// Problem is an error as RFC 9457 has it, with the fields at fault.
type Problem struct {
	Type     string          `json:"type" doc:"Kind of problem, a URN"`
	Title    string          `json:"title"`
	Status   int             `json:"status"`
	Detail   string          `json:"detail"`
	Instance string          `json:"instance,omitempty" doc:"Identifies the request in the logs"`
	Errors   []vpn.Problem   `json:"errors,omitempty" doc:"The fields at fault"`
	Findings []check.Finding `json:"findings,omitempty" doc:"What keeps a parcel from being built"`
}

func (p *Problem) Error() string { return p.Detail }

// GetStatus is the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is that of RFC 9457.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// NewSecret is a secret that was made to be typed. It is kept nowhere.
type NewSecret struct {
	Secret string `json:"secret"`
	Bits   int    `json:"bits" doc:"Random bits in it"`
}

// Prospect is what a pattern would make of one device.
type Prospect struct {
	DeviceID  string          `json:"device_id"`
	Device    string          `json:"device"`
	Person    string          `json:"person"`
	Release   string          `json:"release" doc:"Platform and release"`
	GatewayID string          `json:"gateway_id"`
	Gateway   string          `json:"gateway"`
	Why       string          `json:"why" doc:"Why this gateway"`
	ProfileID string          `json:"profile_id,omitempty" doc:"The profile that is there already"`
	State     string          `json:"state" enum:"new,same,changes,moves" doc:"new, same, changes (is planned otherwise so far) or moves (to another gateway)"`
	Name      string          `json:"name" doc:"Name of the connection"`
	Protocol  vpn.Protocol    `json:"protocol"`
	Works     bool            `json:"works" doc:"A connection can be made"`
	Format    platform.Format `json:"format"`
	Passed    []plan.Passed   `json:"passed"`
	Unmet     []plan.Unmet    `json:"unmet"`
	Tally     vpn.Tally       `json:"tally"`
}

// States of a job.
const (
	Running   = "running"
	Done      = "done"
	Cancelled = "cancelled"
	Failed    = "failed"
)

// Job is long work in the background.
type Job struct {
	ID       string         `json:"id"`
	Kind     string         `json:"kind"`
	Subject  string         `json:"subject" doc:"Identifier of what it works on"`
	Title    string         `json:"title"`
	Operator string         `json:"operator"`
	State    string         `json:"state" enum:"running,done,cancelled,failed"`
	Total    int            `json:"total"`
	Done     int            `json:"done"`
	Cursor   string         `json:"-"`
	Result   map[string]int `json:"result" doc:"What came out, counted by kind"`
	Problem  string         `json:"problem,omitempty"`
	Created  time.Time      `json:"created"`
	Changed  time.Time      `json:"changed"`
}

// Inspection is what a look through a data folder finds.
type Inspection struct {
	Looked  int            `json:"looked" doc:"Values and records that were looked at"`
	Pages   []string       `json:"pages" doc:"What is wrong with the pages of the database"`
	Values  []DamagedValue `json:"values" doc:"Sealed values that do not open"`
	Records []DamagedValue `json:"records" doc:"Records that cannot be read"`
	Lost    []string       `json:"lost,omitempty" doc:"What a repair could not save"`
	Kept    string         `json:"kept,omitempty" doc:"File with the database as it was before a repair"`
}

// Sound tells whether nothing is wrong.
func (i *Inspection) Sound() bool { return len(i.Pages)+len(i.Values)+len(i.Records) == 0 }

// DamagedValue is a stored value that cannot be read any more.
type DamagedValue struct {
	Noun  string `json:"noun"`
	ID    string `json:"id"`
	Field string `json:"field"`
	Fix   string `json:"fix"`
}

// Sending says how many emails are being sent.
type Sending struct {
	Waiting int `json:"waiting" doc:"Queued emails that are being sent"`
}
