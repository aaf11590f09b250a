package access

// Role is a set of verbs with a name, which is given on addresses.
type Role struct {
	Name  string
	Says  string // who it is for
	Verbs Set
}

// looking is what everybody may who only looks, and sees no contents.
var looking = Of(SeeCounts, SeeCauses, SeeMetadata)

// RoleOwner is the name of the role that may do everything.
const RoleOwner = "owner"

// RoleBreakGlass is the role of who has opened contents for a while.
const RoleBreakGlass = "break-glass"

// BuiltIn are the roles that are always there, as they are.
var BuiltIn = []Role{
	{RoleOwner, "may do everything; for the first start and for emergencies", Everything},
	{"operator", "runs the service: may do everything but give roles", Everything.Without(Of(Access))},
	{"team-owner", "looks after the channels of a team, and gives roles on them", Everything.Without(Of(Nodes))},
	{"publisher", "a program that sends messages", Of(SeeCounts, Publish)},
	{"consumer", "a program that works on messages", Of(SeeCounts, Read, Commit, Lease, Settle)},
	{"viewer", "is on call, and looks: no contents", looking | Of(Logbook)},
	{"help-desk", "returns and discards dead letters without seeing what is in them", looking | Of(Return, Discard, Undo)},
	{RoleBreakGlass, "sees what is in messages for an hour, with a reason that is told: who may, gives it to itself", looking | Of(SeeContent)},
}
