package api

import "time"

// Passkey is a key pair of an operator's device or security key that they sign in with (Web
// Authentication Level 3).
type Passkey struct {
	ID string `json:"id"`
	// What its owner calls it.
	Name string `json:"name"`
	// It can be on several devices, because its maker synchronises it.
	Synced  bool      `json:"synced"`
	Created time.Time `json:"created"`
	// When somebody last signed in with it.
	Used *time.Time `json:"used,omitempty"`
}

// PasskeyOptions are what a browser needs to use a passkey or to create one: a
// PublicKeyCredentialRequestOptionsJSON or PublicKeyCredentialCreationOptionsJSON (Web
// Authentication Level 3 §5.1.9, §5.1.8).
type PasskeyOptions struct {
	// As the browser takes them.
	Options any `json:"options"`
}

// NewPasskey is one that a browser has created.
type NewPasskey struct {
	// What its owner calls it.
	Name string `json:"name" maxLength:"64"`
	// The browser's answer, a RegistrationResponseJSON.
	Credential any `json:"credential"`
}
