package api

import "time"

// Webhook is an address at which another service is told what happens.
type Webhook struct {
	ID string `json:"id" readOnly:"true"`
	// Unique name.
	Name string `json:"name" minLength:"1" maxLength:"100"`
	// URL that receives the events, such as https://tickets.skerryline.example/vpn.
	URL string `json:"url" maxLength:"500"`
	// Events that it receives.
	Events []string `json:"events" minItems:"1"`
	// Nothing is sent to it.
	Disabled bool `json:"disabled" required:"false"`
	// Why the last delivery failed; empty if it did not.
	Problem string `json:"problem" readOnly:"true"`
	// Deliveries that are pending.
	Waiting int       `json:"waiting" readOnly:"true"`
	Created time.Time `json:"created" readOnly:"true"`
}

// NewWebhook is a webhook with the key that its calls are signed with, which is shown once.
type NewWebhook struct {
	Webhook
	// Key, base64.
	Key string `json:"key"`
}

// Event is something that happened, as a webhook is told. It holds no secret.
type Event struct {
	// What happened.
	Event string    `json:"event"`
	At    time.Time `json:"at"`
	// Noun of the record that it happened to.
	Noun string `json:"noun,omitempty"`
	ID   string `json:"id,omitempty"`
	// Name of that record.
	Name string `json:"name,omitempty"`
	// More about it, in words.
	Detail string `json:"detail,omitempty"`
	// Who did it; empty where nobody did.
	Operator string `json:"operator,omitempty"`
}

// WebhookCall is a call of a webhook.
type WebhookCall struct {
	// Number of the delivery; they are sent in this order.
	Number int64 `json:"number"`
	// What happened.
	Event string `json:"event"`
	// Name of the record that it happened to.
	Name    string    `json:"name"`
	Created time.Time `json:"created"`
	// When it is retried; null once it was accepted or has failed.
	Due *time.Time `json:"due,omitempty"`
	// How often it was tried.
	Tries int `json:"tries"`
	// When it was accepted; null before, or if it failed.
	Done *time.Time `json:"done,omitempty"`
	// Why the last try failed.
	Problem string `json:"problem,omitempty"`
}

// Events that webhooks can be told of.
const (
	EventTest              = "test"
	EventHandoverMade      = "handover.made"
	EventHandoverOpened    = "handover.opened"
	EventHandoverFetched   = "handover.fetched"
	EventHandoverRecalled  = "handover.recalled"
	EventReport            = "report.received"
	EventReportClosed      = "report.closed"
	EventBlocked           = "profile.blocked"
	EventUnblocked         = "profile.unblocked"
	EventFindingNew        = "finding.new"
	EventFindingEnded      = "finding.ended"
	EventRehearsalPassed   = "rehearsal.passed"
	EventRehearsalFailed   = "rehearsal.failed"
	EventExpiry            = "certificate.expiring"
	EventIssued            = "certificate.issued"
	EventRevoked           = "certificate.revoked"
	EventSwitchoverChanged = "switchover.changed"
	EventSignInRefused     = "sign-in.refused"
)

// Events lists them.
var Events = []string{
	EventHandoverMade, EventHandoverOpened, EventHandoverFetched, EventHandoverRecalled,
	EventReport, EventReportClosed, EventBlocked, EventUnblocked, EventFindingNew,
	EventFindingEnded, EventRehearsalPassed, EventRehearsalFailed, EventExpiry, EventIssued,
	EventRevoked, EventSwitchoverChanged, EventSignInRefused,
}

// LoggedEvent is the event that a line of the audit log tells of; empty where none does.
func LoggedEvent(action, noun string) string {
	if noun == "switchover" && action != "preview" {
		return EventSwitchoverChanged
	}
	return map[[2]string]string{
		{"make", "handover"}: EventHandoverMade, {"open", "handover"}: EventHandoverOpened,
		{"fetch", "handover"}: EventHandoverFetched, {"recall", "handover"}: EventHandoverRecalled,
		{"close", "report"}: EventReportClosed, {"issue", "certificate"}: EventIssued,
		{"revoke", "certificate"}: EventRevoked, {"sign-in refused", "operator"}: EventSignInRefused,
	}[[2]string{action, noun}]
}
