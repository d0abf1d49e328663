package api

// Workload is what the service still has to do, and lately did, in numbers.
type Workload struct {
	Calls       int            // of webhooks, that wait
	Reports     int            // that are open
	Jobs        map[string]int // that are not done, by state
	Rehearsals  map[string]int // of the last 24 hours, by state
	Switchovers map[string]int // by state
	AuditLines  int64
}
