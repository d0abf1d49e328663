package check

import "slices"

// Register holds every rule, family by family.
var Register = told(
	slices.Concat(
		typedRules,
		secretRules,
		reuseRules,
		nameRules,
		pastedRules,
		addressRules,
		liveRules,
		deviceRules,
		strengthRules,
		timeRules,
		protocolRules,
		fitRules,
		comparedRules,
		[]Rule{identityRule, cipherRule, damageRule()},
		certificateRules,
		chainRules,
		bagRules,
		tunnelRules,
		connectRules,
		behaviourRules,
		routeRules,
		siteRules,
		sideRules,
		fileRules,
		rehearsedRules,
		handingRules,
	),
)

// told gives each rule its words for the person who uses the device.
func told(rules []Rule) []Rule {
	for i := range rules {
		rules[i].Plain = plain[rules[i].Code]
	}
	return rules
}
