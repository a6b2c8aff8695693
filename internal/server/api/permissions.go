package api

import "wideknot/internal/server/identity"

// A need is what an operation asks of who calls it.
type need struct {
	open          bool          // nothing: who signs in is not signed in yet
	session       bool          // a person at a browser, not a token
	administrator bool          // of the server
	role          identity.Role // in the estate of the path
}

var (
	anyone        = need{open: true}
	someone       = need{}
	person        = need{session: true}
	administrator = need{session: true, administrator: true}
	reader        = need{role: identity.Reader}
	planner       = need{role: identity.Planner}
	operator      = need{role: identity.Operator}
	owner         = need{role: identity.Owner, session: true}
)

// permissions says for every operation who may call it. An operation that is
// not in here cannot be registered.
var permissions = map[string]need{
	"get-entrance": anyone, "sign-in": anyone, "check-link": anyone, "use-link": anyone, "depart": anyone, "arrive": anyone,

	"get-me": someone, "list-estates": someone,

	"sign-out": person, "list-sessions": person, "end-session": person, "end-sessions": person, "set-password": person,
	"list-tokens": person, "add-token": person, "delete-token": person,

	"list-accounts": administrator, "add-account": administrator, "set-account": administrator, "make-link": administrator,
	"list-server-audit": administrator, "create-estate": administrator,

	"get-estate": reader, "list-drafts": reader, "get-draft": reader, "list-steps": reader, "list-findings": reader,
	"list-sites": reader, "get-site": reader, "get-overlay": reader, "get-about": reader, "list-overlays": reader, "get-site-plan": reader, "export": reader, "export-sheet": reader,
	"get-consequences": reader, "watch-draft": reader, "get-behind": reader, "list-releases": reader, "compare": reader,
	"list-audit": reader, "get-audit-record": reader, "export-audit": reader, "list-people": reader, "make-archive": reader,

	"new-draft": planner, "discard-draft": planner, "reopen-draft": planner, "catch-up": planner,
	"save-about": planner, "undo": planner, "redo": planner, "repair": planner, "save-site": planner, "delete-site": planner,
	"save-overlay": planner, "delete-overlay": planner, "share": planner, "preview-import": planner, "import": planner,

	"get-space": reader, "find-room": reader, "weigh-repairs": reader, "get-loom": reader, "get-loom-window": reader, "get-pair": reader, "get-both-ends": reader,
	"check-key": reader, "follow": reader, "find": reader, "get-before-after": reader, "get-pattern": reader,
	"reserve": planner, "repair-all": planner, "set-tunnel-order": planner, "set-direct": planner, "set-hub-order": planner, "add-like": planner,

	"get-outages": reader, "get-outage": reader, "get-outage-timeline": reader, "get-standing": reader, "get-outage-changes": reader, "export-outages": reader, "export-outage-report": reader,
	"rank-links": planner, "limit-links": planner, "set-shed": planner, "set-probe": planner,

	"list-gateways": reader, "get-gateway": reader, "list-events": reader, "export-events": reader, "list-windows": reader, "add-window": operator, "delete-window": operator, "list-listeners": operator, "add-listener": operator, "delete-listener": operator,
	"get-live-loom": reader, "get-now": reader, "get-why": reader, "get-series": reader, "foresee-drill": reader, "list-drills": reader, "get-drill": reader, "export-drill": reader, "report-drill": reader, "start-drill": operator, "stop-drill": operator, "list-benches": reader, "get-bench": reader, "bench-tunnel": operator, "list-tunnel-sessions": operator, "export-series": reader, "get-carried": reader, "look-why": planner, "list-offers": reader, "take-offers": planner, "take-drift": operator, "refuse-offer": planner,
	"make-join-code": operator, "make-cloud-init": operator, "withdraw-join-code": operator, "bar-gateway": operator, "bring-gateways": operator, "put-back-gateway": operator, "make-new-keys": operator,

	"plan-rollout": planner, "list-rollouts": reader, "get-rollout": reader, "start-rollout": operator, "decide-rollout": operator,

	"release": operator, "reveal-key": operator, "make-archive-with-keys": operator,

	"set-person": owner, "remove-person": owner, "delete-estate": owner,
}
