package identity

import "slices"

// A Role is what someone may do in an estate. Each includes those before it.
type Role string

// The roles.
const (
	Stranger Role = ""         // nothing; the estate is invisible
	Reader   Role = "reader"   // looks at everything but secrets
	Planner  Role = "planner"  // makes and edits drafts
	Operator Role = "operator" // releases, and reveals secrets
	Owner    Role = "owner"    // decides who may do what
)

// Roles lists the roles from the least.
var Roles = []Role{Reader, Planner, Operator, Owner}

// Includes reports whether the role allows all that another does.
func (r Role) Includes(other Role) bool {
	return slices.Index(Roles, r) >= slices.Index(Roles, other)
}

// Valid reports whether it is one of the roles.
func (r Role) Valid() bool { return slices.Contains(Roles, r) }

// lesser returns the lower of two roles.
func lesser(a, b Role) Role {
	if a.Includes(b) {
		return b
	}
	return a
}
