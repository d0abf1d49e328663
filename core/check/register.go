package check

import "slices"

// Register holds every rule, family by family.
var Register = slices.Concat(typedRules, secretRules, nameRules, addressRules, deviceRules, strengthRules, protocolRules, wishRules, routeRules, fileRules)
