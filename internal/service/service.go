// Package service is the floor of services, each in a package of its own; here
// they stand together, as doors take them.
package service

import (
	"steadyferry/internal/core/admit"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/access"
	"steadyferry/internal/service/accounts"
	"steadyferry/internal/service/chart"
	"steadyferry/internal/service/cluster"
	"steadyferry/internal/service/declares"
	"steadyferry/internal/service/endpoints"
	"steadyferry/internal/service/groups"
	"steadyferry/internal/service/jobs"
	"steadyferry/internal/service/look"
	"steadyferry/internal/service/manage"
	"steadyferry/internal/service/moves"
	"steadyferry/internal/service/outlook"
	"steadyferry/internal/service/publishers"
	"steadyferry/internal/service/queues"
	"steadyferry/internal/service/quotas"
	"steadyferry/internal/service/replays"
	"steadyferry/internal/service/routes"
	"steadyferry/internal/service/samples"
	"steadyferry/internal/service/seconds"
	"steadyferry/internal/service/signin"
	"steadyferry/internal/service/timetable"
	"steadyferry/internal/service/trace"
	"steadyferry/internal/service/watches"
)

// Services are those of one node.
type Services struct {
	Catalog *catalog.Catalog
	Parts   *part.Registry

	Cluster    *cluster.Cluster
	Publishers *publishers.Publishers
	Queues     *queues.Queues
	Groups     *groups.Groups
	Jobs       *jobs.Jobs
	Moves      *moves.Moves
	Look       *look.Look
	Replays    *replays.Replays
	Endpoints  *endpoints.Endpoints
	Routes     *routes.Routes
	Traces     *trace.Traces
	Manage     *manage.Manage
	Declares   *declares.Declares
	Access     *access.Service
	SignIn     *signin.SignIn
	Accounts   *accounts.Accounts
	Seconds    *seconds.Seconds
	Quotas     *quotas.Quotas
	Samples    *samples.Samples
	Watches    *watches.Watches
	Timetable  *timetable.Timetable
	Charts     *chart.Charts
	Outlook    *outlook.Outlook

	Streams  *admit.Slots // what is open for long: tails, browses, members
	Searches *admit.Slots
}
