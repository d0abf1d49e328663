package suite

// PPPMethod is a way of signing in on a PPP link.
type PPPMethod string

// The methods, strongest first.
const (
	EAP      PPPMethod = "eap"
	MSCHAPv2 PPPMethod = "mschapv2"
	MSCHAP   PPPMethod = "mschap"
	CHAP     PPPMethod = "chap"
	PAP      PPPMethod = "pap"
)

// PPPMethods lists all methods, strongest first.
var PPPMethods = []PPPMethod{EAP, MSCHAPv2, MSCHAP, CHAP, PAP}

// PPPFact is what is known of one method: Clear is set where the password itself
// crosses the link, Keys where the method yields keys for MPPE (RFC 3079).
type PPPFact struct {
	Method PPPMethod
	Title  string
	Clear  bool
	Keys   bool
	Worth  Worth
	Source string
}

// PPPFacts is the table of methods.
var PPPFacts = map[PPPMethod]PPPFact{
	EAP:      {EAP, "EAP", false, true, Sound, "RFC 3748"},
	MSCHAPv2: {MSCHAPv2, "MS-CHAPv2", false, true, LastResort, "RFC 2759, RFC 3079"},
	MSCHAP:   {MSCHAP, "MS-CHAP", false, true, Weak, "RFC 2433"},
	CHAP:     {CHAP, "CHAP", false, false, Weak, "RFC 1994"},
	PAP:      {PAP, "PAP", true, false, Broken, "RFC 1334 §2"},
}

// MPPE is a strength of Microsoft Point-to-Point Encryption in bits (RFC 3078).
type MPPE string

// MPPEs lists the strengths, strongest first.
var MPPEs = []MPPE{"128", "56", "40"}
