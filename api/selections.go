package api

import "wardicon/core/vpn"

// SelectionAction is what is done with every record of a selection.
type SelectionAction string

// The actions. Those on profiles also take devices and people, and mean all of their profiles.
const (
	SelectionBuild    SelectionAction = "build"     // build what is out of date
	SelectionHandOver SelectionAction = "hand-over" // make links
	SelectionRehearse SelectionAction = "rehearse"  // sign in as the devices would
	SelectionMove     SelectionAction = "move"      // to another gateway
	SelectionOffboard SelectionAction = "offboard"  // people or devices
)

// Selection is an action on many records at once.
type Selection struct {
	Action SelectionAction `json:"action" enum:"build,hand-over,rehearse,move,offboard"`
	// Kind of the records.
	Noun string `json:"noun" enum:"profile,device,person"`
	// Identifiers of the records; empty takes all that the search and the filters fit.
	IDs []string `json:"ids,omitempty" maxItems:"1000"`
	// Text that the records contain.
	Search string `json:"search,omitempty" maxLength:"200"`
	// Filters as in the list of the noun, such as group:crew.
	Filter []string `json:"filter,omitempty" maxItems:"20"`
	// Number of records as it was seen; another one is refused. 0 is not compared.
	Expected int `json:"expected,omitempty" minimum:"0"`
	// Gateway to move to.
	GatewayID string `json:"gateway_id,omitempty"`
	// Why it is offboarded.
	Why vpn.OffboardReason `json:"why,omitempty" enum:"lost,left,retired"`
	// How links are handed over.
	HandoverRequest
}
