package rollout

// FactKind is what sort of thing a fact tells.
type FactKind string

// Kinds of fact of a rollout, with what their data is where they have any.
const (
	FactAbandoned   FactKind = "abandoned"
	FactAdvanced    FactKind = "advanced"
	FactBarred      FactKind = "barred"
	FactBreach      FactKind = "breach" // Cause
	FactCalls       FactKind = "calls"  // a person is called
	FactControl     FactKind = "control ends"
	FactGoesOn      FactKind = "goes on"
	FactHeld        FactKind = "held"
	FactProven      FactKind = "proven" // []guard.Verdict
	FactProving     FactKind = "proving"
	FactReleased    FactKind = "released"
	FactRollback    FactKind = "rollback" // []guard.Verdict
	FactRolledBack  FactKind = "rolled back"
	FactScaled      FactKind = "scaled"
	FactSignedOff   FactKind = "signed off"
	FactStage       FactKind = "stage" // Reached
	FactStopped     FactKind = "stopped"
	FactChecked     FactKind = "checked" // a task that tries the new cohort passed
	FactTold        FactKind = "told"    // guard.Verdict
	FactTrafficBack FactKind = "traffic back"
	FactWaiting     FactKind = "waiting"
)
