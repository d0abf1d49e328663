package api

import (
	"time"

	"wardicon/core/vpn"
)

// Holdings are all that a person or a device holds, and what is to be done when it is to hold nothing any more.
type Holdings struct {
	Noun         string        `json:"noun" enum:"person,device"`
	Object       string        `json:"object"`
	Name         string        `json:"name"`
	Devices      []Device      `json:"devices"`
	Profiles     []Profile     `json:"profiles"`
	Links        []Handover    `json:"links" doc:"Those that can still be opened"`
	Certificates []Certificate `json:"certificates" doc:"Those that are valid"`
	Accounts     []Account     `json:"accounts"`
	Shared       []SharedKey   `json:"shared" doc:"Keys that others use too"`
	Items        []Item        `json:"items" doc:"What people have to do"`
}

// SharedKey is a key of a gateway that its clients have in common.
type SharedKey struct {
	GatewayID string       `json:"gateway_id"`
	Gateway   string       `json:"gateway"`
	Protocol  vpn.Protocol `json:"protocol"`
	What      string       `json:"what" doc:"pre-shared key or control-channel key"`
	Others    int          `json:"others" doc:"Profiles of other devices at this gateway"`
}

// Item is something that people have to do, at a gateway or with a device.
type Item struct {
	What string     `json:"what"`
	Why  string     `json:"why"`
	Noun string     `json:"noun" doc:"Kind of the record that it is about"`
	ID   string     `json:"id"`
	Done *time.Time `json:"done,omitempty"`
	By   string     `json:"by,omitempty" doc:"Who said that it is done"`
}

// Offboarding is somebody who left or a device that is lost, with what is still to be done.
type Offboarding struct {
	ID       string             `json:"id"`
	Noun     string             `json:"noun" enum:"person,device"`
	Object   string             `json:"object"`
	Name     string             `json:"name"`
	Why      vpn.OffboardReason `json:"why" enum:"lost,left,retired"`
	Recalled int                `json:"recalled" doc:"Links that were closed"`
	Revoked  int                `json:"revoked" doc:"Certificates that were revoked"`
	Open     int                `json:"open" doc:"Items that are to be done"`
	Items    []Item             `json:"items"`
	Operator string             `json:"operator"`
	Created  time.Time          `json:"created"`
}
