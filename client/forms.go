package client

import (
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
)

// Forms are what is asked and answered (docs/http.md tells of each field).
type (
	ActionSample      = form.ActionSample
	Adopt             = form.Adopt
	Beat              = form.Beat
	Choice            = form.Choice
	Cluster           = form.Cluster
	Commit            = form.Commit
	ConditionCheck    = form.ConditionCheck
	Counts            = form.Counts
	Damage            = form.Damage
	DeadCause         = form.DeadCause
	DeadCount         = form.DeadCount
	DeadLetters       = form.DeadLetters
	Delivery          = form.Delivery
	Disk              = form.Disk
	Drain             = form.Drain
	Edit              = form.Edit
	EditedMessage     = form.EditedMessage
	Endpoint          = form.Endpoint
	EndpointAnswer    = form.EndpointAnswer
	Event             = form.Event
	Flow              = form.Flow
	ForceRecover      = form.ForceRecover
	Forecast          = form.Forecast
	Found             = form.Found
	Gone              = form.Gone
	Group             = form.Group
	PastSeek          = form.PastSeek
	RouteTrial        = form.RouteTrial
	RouteWork         = form.RouteWork
	TableStatements   = form.TableStatements
	TrialSample       = form.TrialSample
	TryRoute          = form.TryRoute
	Held              = form.Held
	Job               = form.Job
	JobStep           = form.JobStep
	JoinGroup         = form.JoinGroup
	LagSample         = form.LagSample
	Measured          = form.Measured
	Watch             = form.Watch
	WatchValue        = form.WatchValue
	WatchTrial        = form.WatchTrial
	Outlook           = form.Outlook
	Foreseen          = form.Foreseen
	Going             = form.Going
	Chart             = form.Chart
	ChartThing        = form.ChartThing
	ChartLink         = form.ChartLink
	Chore             = form.Chore
	Run               = form.Run
	TrialLevels       = form.TrialLevels
	Incident          = form.Incident
	IncidentNote      = form.IncidentNote
	IncidentStory     = form.IncidentStory
	IncidentSaying    = form.IncidentSaying
	Tally             = form.Tally
	Notice            = form.Notice
	NoticeAnswer      = form.NoticeAnswer
	MeasuredValue     = form.MeasuredValue
	LeaderChange      = form.LeaderChange
	Lease             = form.Lease
	Leased            = form.Leased
	LeftOut           = form.LeftOut
	Invitation        = form.Invitation
	NewAccount        = form.NewAccount
	Link              = form.Link
	Live              = form.Live
	LogbookEntry      = form.LogbookEntry
	MemberInfo        = form.MemberInfo
	Membership        = form.Membership
	Message           = form.Message
	MessageEvent      = form.MessageEvent
	Move              = form.Move
	SeekResult        = form.SeekResult
	SeekStep          = form.SeekStep
	HappenedAt        = form.HappenedAt
	NewChannel        = form.NewChannel
	NewEndpoint       = form.NewEndpoint
	NewGroup          = form.NewGroup
	NewMessage        = form.NewMessage
	NewReplay         = form.NewReplay
	NewToken          = form.NewToken
	Node              = form.Node
	OffsetOf          = form.OffsetOf
	Page[T any]       = form.Page[T]
	Partition         = form.Partition
	PartitionFate     = form.PartitionFate
	PartitionLag      = form.PartitionLag
	Next              = form.Next
	Given             = form.Given
	Preview           = form.Preview
	Problem           = form.Problem
	Progress          = form.Progress
	Published         = form.Published
	QueueAction       = form.QueueAction
	QueueActionResult = form.QueueActionResult
	QueueMember       = form.QueueMember
	QueueMessage      = form.QueueMessage
	QueueState        = form.QueueState
	Receipt           = form.Receipt
	Recoveries        = form.Recoveries
	Recovery          = form.Recovery
	Reject            = form.Reject
	Rejected          = form.Rejected
	Replay            = form.Replay
	ReplayChange      = form.ReplayChange
	ReplayPart        = form.ReplayPart
	ReplayPlan        = form.ReplayPlan
	Replica           = form.Replica
	Revoked           = form.Revoked
	Secret            = form.Secret
	Role              = form.Role
	Principal         = form.Principal
	Grant             = form.Grant
	Mask              = form.Mask
	Server            = form.Server
	BreakGlass        = form.BreakGlass
	May               = form.May
	Seek              = form.Seek
	Series            = form.Series
	SetAside          = form.SetAside
	Settings          = form.Settings
	Settled           = form.Settled
	Settlement        = form.Settlement
	Second            = form.Second
	SignIn            = form.SignIn
	Space             = form.Space
	Quota             = form.Quota
	Status            = form.Status
	SuggestedMove     = form.SuggestedMove
	Token             = form.Token
	Channel           = form.Channel
	Totals            = form.Totals
	Trace             = form.Trace
	TraceStep         = form.TraceStep
	Verified          = form.Verified
	WhatIf            = form.WhatIf
	WorkAnswer        = form.WorkAnswer
	WorkRequest       = form.WorkRequest
)

// Media types of the API, and formats of an export.
const (
	BatchType      = form.BatchType
	RecordsType    = form.RecordsType
	MessageType    = form.MessageType
	NDJSONType     = form.NDJSONType
	CloudEventType = form.CloudEventType
	CloudBatchType = form.CloudBatchType
	ProblemType    = form.ProblemType
	WorkType       = form.WorkType

	HeaderProgram     = form.HeaderProgram
	FormatNDJSON      = form.FormatNDJSON
	FormatCloudEvents = form.FormatCloudEvents
)

// Headers of messages that replays have sent.
const (
	HeaderReplay     = form.HeaderReplay
	HeaderReplayFrom = form.HeaderReplayFrom
)

// Outcomes of a lease, and what became of them.
const (
	OutcomeAccept  = form.OutcomeAccept
	OutcomeRelease = form.OutcomeRelease
	OutcomeReject  = form.OutcomeReject
	OutcomeExtend  = form.OutcomeExtend
	ResultDone     = form.ResultDone
	ResultUnknown  = form.ResultUnknown
	ResultRanOut   = form.ResultRanOut
)

// ParseMessage reads a message as JSON: as NewMessage, or as the service has
// printed it.
func ParseMessage(b []byte) (*message.Message, error) { return form.ParseMessage(b) }
