package api

import (
	"time"

	"wardicon/core/vpn"
)

// Holdings are all that a person or a device holds, and what is to be done when it is to hold
// nothing any more.
type Holdings struct {
	Noun     string    `json:"noun" enum:"person,device"`
	Object   string    `json:"object"`
	Name     string    `json:"name"`
	Devices  []Device  `json:"devices"`
	Profiles []Profile `json:"profiles"`
	// Those that can still be opened.
	Links []Handover `json:"links"`
	// Those that are valid.
	Certificates []Certificate `json:"certificates"`
	Accounts     []Account     `json:"accounts"`
	// Keys that others use too.
	Shared []SharedKey `json:"shared"`
	// What people have to do.
	Items []Item `json:"items"`
}

// SharedKey is a key of a gateway that its clients have in common.
type SharedKey struct {
	GatewayID string       `json:"gateway_id"`
	Gateway   string       `json:"gateway"`
	Protocol  vpn.Protocol `json:"protocol"`
	// pre-shared key or control-channel key.
	What string `json:"what"`
	// Profiles of other devices at this gateway.
	Others int `json:"others"`
}

// Item is something that people have to do, at a gateway or with a device.
type Item struct {
	What string `json:"what"`
	Why  string `json:"why"`
	// Kind of the record that it is about.
	Noun string     `json:"noun"`
	ID   string     `json:"id"`
	Done *time.Time `json:"done,omitempty"`
	// Who said that it is done.
	By string `json:"by,omitempty"`
}

// Offboarding is somebody who left or a device that is lost, with what is still to be done.
type Offboarding struct {
	ID     string             `json:"id"`
	Noun   string             `json:"noun" enum:"person,device"`
	Object string             `json:"object"`
	Name   string             `json:"name"`
	Why    vpn.OffboardReason `json:"why" enum:"lost,left,retired"`
	// Links that were closed.
	Recalled int `json:"recalled"`
	// Certificates that were revoked.
	Revoked int `json:"revoked"`
	// Items that are to be done.
	Open     int       `json:"open"`
	Items    []Item    `json:"items"`
	Operator string    `json:"operator"`
	Created  time.Time `json:"created"`
}
