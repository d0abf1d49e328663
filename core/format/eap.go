package format

// eapMethods are methods of EAP that Windows has beside those that a connection here can have, by
// their numbers (IANA, EAP method types).
var eapMethods = map[int]string{
	6: "EAP-GTC", 18: "EAP-SIM", 21: "EAP-TTLS", 23: "EAP-AKA", 25: "PEAP", 50: "EAP-AKA'",
	55: "EAP-TEAP",
}

// OtherEAP tells of a method of EAP that is none of EAP-TLS and EAP-MSCHAPv2: one that systems have
// is not carried, any other is malformed.
func (r *Reading) OtherEAP(number int, at Position) {
	name, known := eapMethods[number]
	if !known {
		r.Note(KeyMalformed, at, "neither a machine certificate nor a known type of EAP")
		return
	}
	r.Note(NotYetRead, at, "sign-in by %s", name)
	r.Left("sign-in by "+name, at)
}
