package check

import "slices"

// Register holds every rule, family by family.
var Register = slices.Concat(typedRules, secretRules, reuseRules, nameRules, pastedRules, addressRules, liveRules, deviceRules, strengthRules, timeRules, protocolRules, fitRules, []Rule{cipherRule}, certificateRules, bagRules, tunnelRules, wishRules, behaviourRules, routeRules, fileRules)
