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
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Page is a part of a list, with the number of all rows that the query fits.
type Page[Row any] struct {
	Items []Row `json:"items"`
	// Number of all that the search and the filters fit.
	Total int `json:"total"`
	// There are more than total says: what a filter or a search fits is counted to a bound.
	More bool `json:"more,omitempty"`
}

// Items is a list that comes whole.
type Items[Row any] struct {
	Items []Row `json:"items"`
}

// Gateway is a gateway in a list.
type Gateway struct {
	vpn.Gateway
	// Number of profiles that lead here.
	Profiles int `json:"profiles"`
	// What is found on its record alone.
	Tally vpn.Tally `json:"tally"`
	// What its newest probe came to; empty where it was not asked.
	Answers string `json:"answers,omitempty" enum:"matches,differs,no-response,unresolved"`
}

// Person is a person in a list.
type Person struct {
	vpn.Person
	Accounts int `json:"accounts"`
	Devices  int `json:"devices"`
	// Where the person comes from, if not from here: directory or scim.
	Source string `json:"source,omitempty"`
	// Since when the person is no longer there, or no longer active.
	Missing *time.Time `json:"missing,omitempty"`
}

// Account is an account in a list.
type Account struct {
	vpn.Account
	// The person's name.
	Person string `json:"person"`
}

// Device is a device in a list, with its findings summed over its profiles.
type Device struct {
	vpn.Device
	// The person's name.
	Person   string    `json:"person"`
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
	// Name of the pattern; empty without one.
	Pattern string `json:"pattern"`
}

// Folder is where the files of a profile go in archives and folders: person, then device and
// gateway.
func (p Profile) Folder() string {
	return path.Join(format.FolderName(p.Person), format.FolderName(p.Device+" "+p.Gateway))
}

// Pattern is a pattern in a list.
type Pattern struct {
	vpn.Pattern
	// Number of profiles that are planned by it.
	Profiles int `json:"profiles"`
}

// Planned is a profile's planned connection with reasons and findings. The connection
// carries masks in the place of its secrets.
type Planned struct {
	// Switchovers by which it is planned with a new value that is not on record yet.
	Switchovers []FoundRecord   `json:"switchovers"`
	Profile     vpn.Profile     `json:"profile"`
	Connection  vpn.Connection  `json:"connection"`
	Choices     []plan.Choice   `json:"choices"`
	Findings    []check.Finding `json:"findings"`
	Tally       vpn.Tally       `json:"tally"`
	// Platform and release.
	Release string `json:"release"`
	// Protocols that were not chosen, with the reason.
	Passed []plan.Passed `json:"passed"`
	// Preferences of the pattern that cannot be carried out.
	Unmet []plan.Unmet `json:"unmet"`
	// Chains of the certificates that the connection looks at, each from the leaf up.
	Chains [][]pki.Link `json:"chains"`
	// What device and gateway will negotiate.
	Agreements []check.Agreement `json:"agreements"`
	// Name of the pattern; empty without one.
	Pattern string `json:"pattern"`
	// Format of the file that the device takes; empty where a person types.
	Format platform.Format `json:"format"`
	// Formats that could be chosen.
	Formats []platform.Format `json:"formats"`
	// What the profile joins.
	Title string `json:"title"`
	// The device's owner.
	PersonID string `json:"person_id"`
}

// ShownFile is a file as a preview shows it.
type ShownFile struct {
	format.File
	// Content of the file.
	Text string `json:"text"`
}

// Parcel is what was built from a profile. It never changes. Digest is keyed: equal
// for equal content.
type Parcel struct {
	ID        string `json:"id"`
	ProfileID string `json:"profile_id"`
	// Only a card, for typing by hand.
	ByHand bool          `json:"by_hand"`
	Digest string        `json:"digest"`
	Later  string        `json:"-"` // digest once two values have become one
	Built  time.Time     `json:"built"`
	Files  []format.File `json:"files"`
	// Building now would give something else.
	Outdated bool `json:"outdated"`
	// When its files were removed, because a newer parcel took its place; its digest stays.
	Removed *time.Time `json:"removed,omitempty"`
}

// Counts are the sums for an overview.
type Counts struct {
	Gateways int `json:"gateways"`
	People   int `json:"people"`
	Devices  int `json:"devices"`
	Profiles int `json:"profiles"`
	Parcels  int `json:"parcels"`
	// Profiles whose check is still to come.
	Due int `json:"due"`
	// Profiles with at least one error.
	Blocked int `json:"blocked"`
	// Profiles without an error and with at least one warning.
	Warned int `json:"warned"`
	// Profiles with neither.
	Clean int       `json:"clean"`
	Tally vpn.Tally `json:"tally"`
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
	Files    []CheckedFile   `json:"files"`
	Findings []check.Finding `json:"findings"`
	Tally    vpn.Tally       `json:"tally"`
	// Findings that an ignore file keeps quiet.
	Ignored []filecheck.Ignored `json:"ignored"`
	// Entries of the ignore file whose day has passed.
	Ended []filecheck.Ignore `json:"ended"`
}

// CheckedFile is one file that was looked at.
type CheckedFile struct {
	Name string `json:"name"`
	// What it is; empty where it is nothing that is read.
	Kind        string              `json:"kind"`
	Connections []CheckedConnection `json:"connections"`
	// Chains of its certificates, each from the leaf up.
	Chains [][]pki.Link `json:"chains"`
	Tally  vpn.Tally    `json:"tally"`
	// What it says and a connection has no place for: no file that is made of it says it.
	NotCarried []format.Unsaid `json:"not_carried"`
}

// CheckedConnection is a connection that was read, with what both sides will negotiate.
type CheckedConnection struct {
	Name     string       `json:"name"`
	Protocol vpn.Protocol `json:"protocol"`
	Server   string       `json:"server"`
	// The gateway on record that it leads to.
	Gateway    string            `json:"gateway,omitempty"`
	Agreements []check.Agreement `json:"agreements"`
}

// CheckedItems shows what became of files.
func CheckedItems(items []filecheck.Item) Checked {
	c := Checked{
		Files:   []CheckedFile{},
		Ignored: []filecheck.Ignored{},
		Ended:   []filecheck.Ignore{},
	}
	for _, i := range items {
		f := CheckedFile{
			Name:        i.Name,
			Kind:        i.Kind,
			Connections: []CheckedConnection{},
			Chains:      append([][]pki.Link{}, i.Chains...),
			NotCarried:  append([]format.Unsaid{}, i.NotCarried...),
			Tally:       check.Count(i.Findings),
		}
		for _, one := range i.Connections {
			v := one.Connection
			f.Connections = append(
				f.Connections,
				CheckedConnection{v.Name, v.Protocol, v.Server, one.Gateway, one.Agreements},
			)
		}
		c.Files = append(c.Files, f)
	}
	c.Findings = filecheck.Findings(items)
	c.Tally = check.Count(c.Findings)
	return c
}

// FleetFinding is a finding on one profile, as the work list over the fleet shows it.
type FleetFinding struct {
	Rule     string       `json:"rule"`
	Severity vpn.Severity `json:"severity" enum:"error,warning,note"`
	Title    string       `json:"title"`
	Field    vpn.Field    `json:"field"`
	Found    string       `json:"found"`
	Fix      string       `json:"fix"`
	// Kind of the record to fix.
	Noun string `json:"noun"`
	// Identifier of the record to fix.
	Object  string `json:"object"`
	Pointer string `json:"pointer"`
	// Wardicon can fix it by itself.
	Fixable bool `json:"fixable"`
	// An override applies to it.
	Overridden bool `json:"overridden"`
	// When it was found first.
	Since     time.Time `json:"since"`
	ProfileID string    `json:"profile_id"`
	DeviceID  string    `json:"device_id"`
	Device    string    `json:"device"`
	GatewayID string    `json:"gateway_id"`
	Gateway   string    `json:"gateway"`
	PersonID  string    `json:"person_id"`
	Person    string    `json:"person"`
}

// FindingSum counts findings of one rule, at one gateway or for one person.
type FindingSum struct {
	// Code of the rule, or identifier of the gateway or person.
	Key      string    `json:"key"`
	Title    string    `json:"title"`
	Tally    vpn.Tally `json:"tally"`
	Profiles int       `json:"profiles"`
	// Found first within the days that were asked for.
	New int `json:"new"`
	// No longer there since then.
	Ended int `json:"ended"`
	// Wardicon can fix them by itself.
	Fixable int `json:"fixable"`
}

// Rule is a rule as the owner wants it to be taken.
type Rule struct {
	check.Rule
	// Severity that the owner has set; empty for the rule's own.
	Set vpn.Severity `json:"set,omitempty"`
}

// Fix is a mechanical change of one record that would fix findings. A secret shows as
// its mask.
type Fix struct {
	Noun   string `json:"noun"`
	Object string `json:"object"`
	// Name of the record.
	Name    string `json:"name"`
	Pointer string `json:"pointer"`
	From    string `json:"from"`
	To      string `json:"to"`
}

// Comparison is a secret out of a file that is held to the record of a gateway.
type Comparison struct {
	Field    vpn.Field    `json:"field" enum:"psk,control_key,password,identity"`
	Protocol vpn.Protocol `json:"protocol"`
	// Login that the password belongs to.
	Login string      `json:"login,omitempty" maxLength:"256"`
	Value secret.Text `json:"value"           maxLength:"65536" writeOnly:"true"`
}

// Imported is what files say that the records lack.
type Imported struct {
	Items []ImportedRecord `json:"items"`
	// It was added; otherwise it is only shown.
	Kept bool `json:"kept"`
	// What the files say and no record has a place for.
	NotCarried []format.Unsaid `json:"not_carried"`
}

// ImportFor says to whom what is imported belongs, and whether it is kept.
type ImportFor struct {
	PersonID string // whose accounts and new device
	Device   string // name of the device that has the certificate; a new one needs Release
	Release  string // its platform and release, such as "windows 11"
	Keep     bool   // add it; otherwise it is only shown
}

// ImportedRecord is one record that was taken out of a file, or would be.
type ImportedRecord struct {
	Noun   string `json:"noun" enum:"gateway,account,device,certificate"`
	State  string `json:"state" enum:"new,changed,same,left"`
	Name   string `json:"name"`
	Detail string `json:"detail"`
}

// Add adds a fact.
func (t *Imported) Add(noun, state, name, detail string) {
	t.Items = append(t.Items, ImportedRecord{noun, state, name, detail})
}

// Overview is what an operator sees first.
type Overview struct {
	Organisation vpn.Organisation `json:"organisation"`
	Counts       Counts           `json:"counts"`
	// Gateways by what their newest probes came to; unprobed are those without one.
	Answers map[string]int `json:"answers"`
	// The newest probes, those first that do not answer.
	Probes []drift.ProbeRow `json:"probes"`
	// What people said does not work and nobody dealt with.
	Reports int `json:"reports"`
	// Profiles whose last rehearsal has failed.
	Failing int `json:"failing"`
	// Tokens with keys that do not answer.
	TokensAway []string `json:"tokens_away"`
	// Links of the last four weeks, by day (UTC).
	Days []HandoverDay `json:"days"`
	// Findings of all profiles at the end of each of these days; none for days without a check.
	FindingDays []FindingDay `json:"finding_days"`
	// How fast gateways answered probes on each of these days.
	AnswerDays []AnswerDay `json:"answer_days"`
	// The rules that find something, most severe first.
	Rules []RuleSum `json:"rules"`
	// Profiles with errors or warnings, worst first.
	Worst []Profile `json:"worst"`
}

// FindingDay is how many findings there were at the end of a day (UTC).
type FindingDay struct {
	// The day.
	Day time.Time `json:"day"`
	// Errors of all profiles.
	Errors int `json:"errors"`
	// Warnings of all profiles.
	Warnings int `json:"warnings"`
}

// AnswerDay is how fast gateways answered probes on a day (UTC), in milliseconds.
type AnswerDay struct {
	// The day.
	Day time.Time `json:"day"`
	// Mean of all answers.
	Mean float64 `json:"mean"`
	// The slowest answer.
	Longest float64 `json:"longest"`
}

// HandoverDay says what happened to links on a day (UTC).
type HandoverDay struct {
	// The day.
	Day time.Time `json:"day"`
	// Links that were made.
	Made int `json:"made"`
	// Links whose files were fetched.
	Fetched int `json:"fetched"`
	// Links whose device was seen connected.
	Connected int `json:"connected"`
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
	// No owner has been made yet.
	SetUp bool `json:"set_up"`
	// Name of the provider that operators can sign in by; empty where there is none.
	Provider string `json:"provider"`
	// Somebody can sign in with a passkey.
	Passkeys bool   `json:"passkeys"`
	Version  string `json:"version"`
}

// Problem is an error as RFC 9457 has it, with the fields at fault.
type Problem struct {
	// Kind of problem, a URN.
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
	// Identifies the request in the logs.
	Instance string `json:"instance,omitempty"`
	// The fields at fault.
	Errors []vpn.Problem `json:"errors,omitempty"`
	// What keeps a parcel from being built.
	Findings []check.Finding `json:"findings,omitempty"`
}

func (p *Problem) Error() string { return p.Detail }

// GetStatus is the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is that of RFC 9457.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// NewSecret is a secret that was made to be typed. It is kept nowhere.
type NewSecret struct {
	Secret string `json:"secret"`
	// Random bits in it.
	Bits int `json:"bits"`
}

// Prospect is what a pattern would make of one device.
type Prospect struct {
	DeviceID string `json:"device_id"`
	Device   string `json:"device"`
	Person   string `json:"person"`
	// Platform and release.
	Release   string `json:"release"`
	GatewayID string `json:"gateway_id"`
	Gateway   string `json:"gateway"`
	// Why this gateway.
	Why string `json:"why"`
	// The profile that is there already.
	ProfileID string `json:"profile_id,omitempty"`
	// new, same, changes (is planned otherwise so far) or moves (to another gateway).
	State string `json:"state" enum:"new,same,changes,moves"`
	// Name of the connection.
	Name     string       `json:"name"`
	Protocol vpn.Protocol `json:"protocol"`
	// A connection can be made.
	Works  bool            `json:"works"`
	Format platform.Format `json:"format"`
	Passed []plan.Passed   `json:"passed"`
	Unmet  []plan.Unmet    `json:"unmet"`
	Tally  vpn.Tally       `json:"tally"`
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
	ID   string `json:"id"`
	Kind string `json:"kind"`
	// Identifier of what it works on.
	Subject  string `json:"subject"`
	Title    string `json:"title"`
	Operator string `json:"operator"`
	State    string `json:"state" enum:"running,done,cancelled,failed"`
	Total    int    `json:"total"`
	Done     int    `json:"done"`
	Cursor   string `json:"-"`
	// What came out, counted by kind.
	Result  map[string]int `json:"result"`
	Problem string         `json:"problem,omitempty"`
	Created time.Time      `json:"created"`
	Changed time.Time      `json:"changed"`
}

// Inspection is what a look through a data folder finds.
type Inspection struct {
	// Values and records that were looked at.
	Looked int `json:"looked"`
	// What is wrong with the pages of the database.
	Pages []string `json:"pages"`
	// Sealed values that do not open.
	Values []DamagedValue `json:"values"`
	// Records that cannot be read.
	Records []DamagedValue `json:"records"`
	// What a repair could not save.
	Lost []string `json:"lost,omitempty"`
	// File with the database as it was before a repair.
	Kept string `json:"kept,omitempty"`
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
	// Queued emails that are being sent.
	Waiting int `json:"waiting"`
}
