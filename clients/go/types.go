// Made by make clients from the client's methods; do not edit.

package client

import (
	backup "innerladder/internal/backup"
	client "innerladder/internal/client"
	access "innerladder/internal/core/access"
	answers "innerladder/internal/core/answers"
	check "innerladder/internal/core/check"
	compare "innerladder/internal/core/compare"
	custom "innerladder/internal/core/custom"
	drift "innerladder/internal/core/drift"
	elsewhere "innerladder/internal/core/elsewhere"
	ensemble "innerladder/internal/core/ensemble"
	evidence "innerladder/internal/core/evidence"
	guard "innerladder/internal/core/guard"
	incident "innerladder/internal/core/incident"
	job "innerladder/internal/core/job"
	keep "innerladder/internal/core/keep"
	ladder "innerladder/internal/core/ladder"
	rule "innerladder/internal/core/ladder/rule"
	lineage "innerladder/internal/core/lineage"
	metric "innerladder/internal/core/metric"
	notice "innerladder/internal/core/notice"
	outcome "innerladder/internal/core/outcome"
	people "innerladder/internal/core/people"
	profile "innerladder/internal/core/profile"
	record "innerladder/internal/core/record"
	registry "innerladder/internal/core/registry"
	replica "innerladder/internal/core/replica"
	request "innerladder/internal/core/request"
	rollout "innerladder/internal/core/rollout"
	schedule "innerladder/internal/core/schedule"
	signature "innerladder/internal/core/signature"
	sketch "innerladder/internal/core/sketch"
	span "innerladder/internal/core/span"
	standing "innerladder/internal/core/standing"
	traffic "innerladder/internal/core/traffic"
	watch "innerladder/internal/core/watch"
	wire "innerladder/internal/wire"
)

type (
	// Account is that of innerladder/internal/core/outcome.
	Account = outcome.Account
	// Accuracy is that of innerladder/internal/wire.
	Accuracy = wire.Accuracy
	// AccuracyMeasure is that of innerladder/internal/wire.
	AccuracyMeasure = wire.AccuracyMeasure
	// AccuracyPoint is that of innerladder/internal/wire.
	AccuracyPoint = wire.AccuracyPoint
	// AddedDataSet is that of innerladder/internal/wire.
	AddedDataSet = wire.AddedDataSet
	// AddedPerson is that of innerladder/internal/wire.
	AddedPerson = wire.AddedPerson
	// Address is that of innerladder/internal/core/traffic.
	Address = traffic.Address
	// AddressRule is that of innerladder/internal/core/traffic.
	AddressRule = traffic.AddressRule
	// Against is that of innerladder/internal/wire.
	Against = wire.Against
	// Agent is that of innerladder/internal/core/elsewhere.
	Agent = elsewhere.Agent
	// AgentColumn is that of innerladder/internal/wire.
	AgentColumn = wire.AgentColumn
	// AgentKnown is that of innerladder/internal/wire.
	AgentKnown = wire.AgentKnown
	// AgentMet is that of innerladder/internal/wire.
	AgentMet = wire.AgentMet
	// Alert is that of innerladder/internal/core/watch.
	Alert = watch.Alert
	// AlertKind is that of innerladder/internal/core/watch.
	AlertKind = watch.AlertKind
	// Answer is that of innerladder/internal/core/ladder/rule.
	Answer = rule.Answer
	// Apart is that of innerladder/internal/core/evidence.
	Apart = evidence.Apart
	// Approval is that of innerladder/internal/core/incident.
	Approval = incident.Approval
	// Artifact is that of innerladder/internal/core/registry.
	Artifact = registry.Artifact
	// Attachment is that of innerladder/internal/core/registry.
	Attachment = registry.Attachment
	// Bake is that of innerladder/internal/core/rollout.
	Bake = rollout.Bake
	// BakeCopies is that of innerladder/internal/core/rollout.
	BakeCopies = rollout.BakeCopies
	// Batch is that of innerladder/internal/core/elsewhere.
	Batch = elsewhere.Batch
	// BatchTaken is that of innerladder/internal/wire.
	BatchTaken = wire.BatchTaken
	// Beside is that of innerladder/internal/core/evidence.
	Beside = evidence.Beside
	// Between is that of innerladder/internal/core/evidence.
	Between = evidence.Between
	// Bins is that of innerladder/internal/core/sketch.
	Bins = sketch.Bins
	// Break is that of innerladder/internal/core/record.
	Break = record.Break
	// Caller is that of innerladder/internal/core/traffic.
	Caller = traffic.Caller
	// Calls is that of innerladder/internal/wire.
	Calls = wire.Calls
	// CallsOfIt is that of innerladder/internal/wire.
	CallsOfIt = wire.CallsOfIt
	// CallsPoint is that of innerladder/internal/wire.
	CallsPoint = wire.CallsPoint
	// Candidate is that of innerladder/internal/core/standing.
	Candidate = standing.Candidate
	// Card is that of innerladder/internal/core/registry.
	Card = registry.Card
	// CardSection is that of innerladder/internal/core/registry.
	CardSection = registry.CardSection
	// Case is that of innerladder/internal/core/answers.
	Case = answers.Case
	// Change is that of innerladder/internal/core/signature.
	Change = signature.Change
	// ChangeRollout is that of innerladder/internal/wire.
	ChangeRollout = wire.ChangeRollout
	// Channel is that of innerladder/internal/core/notice.
	Channel = notice.Channel
	// Checked is that of innerladder/internal/core/evidence.
	Checked = evidence.Checked
	// Checking is that of innerladder/internal/core/job.
	Checking = job.Checking
	// Checkpoint is that of innerladder/internal/core/record.
	Checkpoint = record.Checkpoint
	// Choices is that of innerladder/internal/core/notice.
	Choices = notice.Choices
	// ClassDifference is that of innerladder/internal/core/evidence.
	ClassDifference = evidence.ClassDifference
	// ClassMeasures is that of innerladder/internal/core/evidence.
	ClassMeasures = evidence.ClassMeasures
	// Client is that of innerladder/internal/client.
	Client = client.Client
	// Code is that of innerladder/internal/core/lineage.
	Code = lineage.Code
	// Collected is that of innerladder/internal/wire.
	Collected = wire.Collected
	// Column is that of innerladder/internal/core/sketch.
	Column = sketch.Column
	// ColumnDrift is that of innerladder/internal/wire.
	ColumnDrift = wire.ColumnDrift
	// ColumnRule is that of innerladder/internal/core/request.
	ColumnRule = request.ColumnRule
	// Compare is that of innerladder/internal/core/rollout.
	Compare = rollout.Compare
	// Comparison is that of innerladder/internal/core/compare.
	Comparison = compare.Comparison
	// Comparisons is that of innerladder/internal/wire.
	Comparisons = wire.Comparisons
	// Compatibility is that of innerladder/internal/core/signature.
	Compatibility = signature.Compatibility
	// Confusion is that of innerladder/internal/core/evidence.
	Confusion = evidence.Confusion
	// Container is that of innerladder/internal/core/signature.
	Container = signature.Container
	// ContainerKind is that of innerladder/internal/core/signature.
	ContainerKind = signature.ContainerKind
	// Contents is that of innerladder/internal/core/registry.
	Contents = registry.Contents
	// Contest is that of innerladder/internal/core/guard.
	Contest = guard.Contest
	// Contract is that of innerladder/internal/core/traffic.
	Contract = traffic.Contract
	// Copies is that of innerladder/internal/core/rollout.
	Copies = rollout.Copies
	// Correlation is that of innerladder/internal/core/profile.
	Correlation = profile.Correlation
	// Counts is that of innerladder/internal/core/elsewhere.
	Counts = elsewhere.Counts
	// Curve is that of innerladder/internal/core/lineage.
	Curve = lineage.Curve
	// CustomPoint is that of innerladder/internal/wire.
	CustomPoint = wire.CustomPoint
	// CustomSignal is that of innerladder/internal/wire.
	CustomSignal = wire.CustomSignal
	// CustomSignals is that of innerladder/internal/wire.
	CustomSignals = wire.CustomSignals
	// CustomVersion is that of innerladder/internal/wire.
	CustomVersion = wire.CustomVersion
	// DataSet is that of innerladder/internal/core/lineage.
	DataSet = lineage.DataSet
	// DataUse is that of innerladder/internal/core/lineage.
	DataUse = lineage.DataUse
	// Decision is that of innerladder/internal/core/guard.
	Decision = guard.Decision
	// Deleted is that of innerladder/internal/wire.
	Deleted = wire.Deleted
	// Delivery is that of innerladder/internal/core/notice.
	Delivery = notice.Delivery
	// Dependency is that of innerladder/internal/core/registry.
	Dependency = registry.Dependency
	// Described is that of innerladder/internal/core/notice.
	Described = notice.Described
	// Diff is that of innerladder/internal/core/registry.
	Diff = registry.Diff
	// DifferenceForecast is that of innerladder/internal/core/rollout.
	DifferenceForecast = rollout.DifferenceForecast
	// Distribution is that of innerladder/internal/core/compare.
	Distribution = compare.Distribution
	// Disturbance is that of innerladder/internal/core/evidence.
	Disturbance = evidence.Disturbance
	// Disturbed is that of innerladder/internal/core/evidence.
	Disturbed = evidence.Disturbed
	// Draw is that of innerladder/internal/core/compare.
	Draw = compare.Draw
	// Drift is that of innerladder/internal/wire.
	Drift = wire.Drift
	// DriftPoint is that of innerladder/internal/wire.
	DriftPoint = wire.DriftPoint
	// DriftVerdict is that of innerladder/internal/core/drift.
	DriftVerdict = drift.Verdict
	// Duration is that of innerladder/internal/core/span.
	Duration = span.Duration
	// Edit is that of innerladder/internal/core/registry.
	Edit = registry.Edit
	// EditAddresses is that of innerladder/internal/wire.
	EditAddresses = wire.EditAddresses
	// EditCustom is that of innerladder/internal/wire.
	EditCustom = wire.EditCustom
	// EditEndpoint is that of innerladder/internal/wire.
	EditEndpoint = wire.EditEndpoint
	// EditEnvironment is that of innerladder/internal/wire.
	EditEnvironment = wire.EditEnvironment
	// Emergency is that of innerladder/internal/core/registry.
	Emergency = registry.Emergency
	// Endpoint is that of innerladder/internal/core/traffic.
	Endpoint = traffic.Endpoint
	// EndpointNow is that of innerladder/internal/wire.
	EndpointNow = wire.EndpointNow
	// EndpointState is that of innerladder/internal/core/watch.
	EndpointState = watch.EndpointState
	// EnsembleMember is that of innerladder/internal/core/ensemble.
	EnsembleMember = ensemble.Member
	// Entry is that of innerladder/internal/core/record.
	Entry = record.Entry
	// Environment is that of innerladder/internal/core/traffic.
	Environment = traffic.Environment
	// Evaluating is that of innerladder/internal/core/job.
	Evaluating = job.Evaluating
	// Evaluation is that of innerladder/internal/core/evidence.
	Evaluation = evidence.Evaluation
	// Event is that of innerladder/internal/core/incident.
	Event = incident.Event
	// Evidence is that of innerladder/internal/core/evidence.
	Evidence = evidence.Evidence
	// EvidenceLimit is that of innerladder/internal/core/evidence.
	EvidenceLimit = evidence.Limit
	// Explain is that of innerladder/internal/wire.
	Explain = wire.Explain
	// ExplainVersions is that of innerladder/internal/wire.
	ExplainVersions = wire.ExplainVersions
	// Explained is that of innerladder/internal/wire.
	Explained = wire.Explained
	// ExplainedInput is that of innerladder/internal/wire.
	ExplainedInput = wire.ExplainedInput
	// ExplainedVersion is that of innerladder/internal/wire.
	ExplainedVersion = wire.ExplainedVersion
	// Fact is that of innerladder/internal/core/registry.
	Fact = registry.Fact
	// FailedTest is that of innerladder/internal/core/evidence.
	FailedTest = evidence.FailedTest
	// Fate is that of innerladder/internal/core/outcome.
	Fate = outcome.Fate
	// Finding is that of innerladder/internal/core/ladder/rule.
	Finding = rule.Finding
	// Findings is that of innerladder/internal/core/evidence.
	Findings = evidence.Findings
	// Fine is that of innerladder/internal/core/sketch.
	Fine = sketch.Fine
	// Fit is that of innerladder/internal/core/traffic.
	Fit = traffic.Fit
	// FollowUp is that of innerladder/internal/core/incident.
	FollowUp = incident.FollowUp
	// Forecast is that of innerladder/internal/core/rollout.
	Forecast = rollout.Forecast
	// Foreseen is that of innerladder/internal/wire.
	Foreseen = wire.Foreseen
	// Form is that of innerladder/internal/core/elsewhere.
	Form = elsewhere.Form
	// Found is that of innerladder/internal/core/registry.
	Found = registry.Found
	// Freeze is that of innerladder/internal/core/ladder/rule.
	Freeze = rule.Freeze
	// GateReport is that of innerladder/internal/wire.
	GateReport = wire.GateReport
	// Group is that of innerladder/internal/core/evidence.
	Group = evidence.Group
	// Guard is that of innerladder/internal/core/guard.
	Guard = guard.Guard
	// GuardNow is that of innerladder/internal/wire.
	GuardNow = wire.GuardNow
	// HandleIncident is that of innerladder/internal/wire.
	HandleIncident = wire.HandleIncident
	// Happening is that of innerladder/internal/wire.
	Happening = wire.Happening
	// Harm is that of innerladder/internal/core/rollout.
	Harm = rollout.Harm
	// HarmForecast is that of innerladder/internal/core/rollout.
	HarmForecast = rollout.HarmForecast
	// Hashes is that of innerladder/internal/core/elsewhere.
	Hashes = elsewhere.Hashes
	// Header is that of innerladder/internal/wire.
	Header = wire.Header
	// Held is that of innerladder/internal/core/rollout.
	Held = rollout.Held
	// Histogram is that of innerladder/internal/core/evidence.
	Histogram = evidence.Histogram
	// Hours is that of innerladder/internal/core/rollout.
	Hours = rollout.Hours
	// How is that of innerladder/internal/core/request.
	How = request.How
	// Importance is that of innerladder/internal/core/job.
	Importance = job.Importance
	// ImportanceReport is that of innerladder/internal/core/evidence.
	ImportanceReport = evidence.ImportanceReport
	// Incident is that of innerladder/internal/core/incident.
	Incident = incident.Incident
	// IncidentKnown is that of innerladder/internal/core/incident.
	IncidentKnown = incident.Known
	// IncidentReport is that of innerladder/internal/core/incident.
	IncidentReport = incident.Report
	// InputImportance is that of innerladder/internal/core/evidence.
	InputImportance = evidence.InputImportance
	// Item is that of innerladder/internal/core/ladder/rule.
	Item = rule.Item
	// Job is that of innerladder/internal/core/job.
	Job = job.Job
	// JobProgress is that of innerladder/internal/core/job.
	JobProgress = job.Progress
	// JobState is that of innerladder/internal/core/job.
	JobState = job.State
	// Judged is that of innerladder/internal/core/evidence.
	Judged = evidence.Judged
	// Judgement is that of innerladder/internal/core/guard.
	Judgement = guard.Judgement
	// Judging is that of innerladder/internal/core/job.
	Judging = job.Judging
	// Keeping is that of innerladder/internal/core/request.
	Keeping = request.Keeping
	// Kept is that of innerladder/internal/core/check.
	Kept = check.Kept
	// KeptPlan is that of innerladder/internal/wire.
	KeptPlan = wire.KeptPlan
	// Kind is that of innerladder/internal/core/rollout.
	Kind = rollout.Kind
	// Known is that of innerladder/internal/core/answers.
	Known = answers.Known
	// Label is that of innerladder/internal/core/registry.
	Label = registry.Label
	// Ladder is that of innerladder/internal/core/ladder.
	Ladder = ladder.Ladder
	// Lane is that of innerladder/internal/core/traffic.
	Lane = traffic.Lane
	// LaneKind is that of innerladder/internal/core/traffic.
	LaneKind = traffic.LaneKind
	// LaneNow is that of innerladder/internal/wire.
	LaneNow = wire.LaneNow
	// LaneSeries is that of innerladder/internal/wire.
	LaneSeries = wire.LaneSeries
	// Lead is that of innerladder/internal/core/evidence.
	Lead = evidence.Lead
	// Left is that of innerladder/internal/core/traffic.
	Left = traffic.Left
	// LikeIt is that of innerladder/internal/wire.
	LikeIt = wire.LikeIt
	// Likeness is that of innerladder/internal/core/evidence.
	Likeness = evidence.Likeness
	// Limit is that of innerladder/internal/core/watch.
	Limit = watch.Limit
	// Line is that of innerladder/internal/core/job.
	Line = job.Line
	// LineageAnswer is that of innerladder/internal/core/lineage.
	LineageAnswer = lineage.Answer
	// LineagePoint is that of innerladder/internal/core/lineage.
	LineagePoint = lineage.Point
	// Lineup is that of innerladder/internal/core/registry.
	Lineup = registry.Lineup
	// LineupMetric is that of innerladder/internal/core/registry.
	LineupMetric = registry.LineupMetric
	// LineupText is that of innerladder/internal/core/registry.
	LineupText = registry.LineupText
	// LineupVersion is that of innerladder/internal/core/registry.
	LineupVersion = registry.LineupVersion
	// Link is that of innerladder/internal/core/lineage.
	Link = lineage.Link
	// Listed is that of innerladder/internal/wire.
	Listed[T any] = wire.Listed[T]
	// LoadReport is that of innerladder/internal/core/evidence.
	LoadReport = evidence.LoadReport
	// LocalFile is that of innerladder/internal/client.
	LocalFile = client.LocalFile
	// Logged is that of innerladder/internal/wire.
	Logged = wire.Logged
	// MadeCaller is that of innerladder/internal/wire.
	MadeCaller = wire.MadeCaller
	// MadeToken is that of innerladder/internal/wire.
	MadeToken = wire.MadeToken
	// MadeWebhook is that of innerladder/internal/wire.
	MadeWebhook = wire.MadeWebhook
	// MailSettings is that of innerladder/internal/core/notice.
	MailSettings = notice.MailSettings
	// Me is that of innerladder/internal/wire.
	Me = wire.Me
	// Meaning is that of innerladder/internal/core/metric.
	Meaning = metric.Meaning
	// Meanings is that of innerladder/internal/core/metric.
	Meanings = metric.Meanings
	// Measure is that of innerladder/internal/core/outcome.
	Measure = outcome.Measure
	// Measured is that of innerladder/internal/core/metric.
	Measured = metric.Measured
	// Member is that of innerladder/internal/core/replica.
	Member = replica.Member
	// Membership is that of innerladder/internal/core/access.
	Membership = access.Membership
	// MetricChange is that of innerladder/internal/core/registry.
	MetricChange = registry.MetricChange
	// MetricDifference is that of innerladder/internal/core/evidence.
	MetricDifference = evidence.MetricDifference
	// Model is that of innerladder/internal/core/registry.
	Model = registry.Model
	// Moved is that of innerladder/internal/core/incident.
	Moved = incident.Moved
	// MovedBy is that of innerladder/internal/wire.
	MovedBy = wire.MovedBy
	// Movement is that of innerladder/internal/core/drift.
	Movement = drift.Movement
	// Mute is that of innerladder/internal/core/watch.
	Mute = watch.Mute
	// Near is that of innerladder/internal/core/request.
	Near = request.Near
	// NewAnswer is that of innerladder/internal/wire.
	NewAnswer = wire.NewAnswer
	// NewCheck is that of innerladder/internal/wire.
	NewCheck = wire.NewCheck
	// NewDataSet is that of innerladder/internal/wire.
	NewDataSet = wire.NewDataSet
	// NewEndpoint is that of innerladder/internal/wire.
	NewEndpoint = wire.NewEndpoint
	// NewEnvironment is that of innerladder/internal/wire.
	NewEnvironment = wire.NewEnvironment
	// NewEvaluation is that of innerladder/internal/wire.
	NewEvaluation = wire.NewEvaluation
	// NewFollowUp is that of innerladder/internal/wire.
	NewFollowUp = wire.NewFollowUp
	// NewImportance is that of innerladder/internal/wire.
	NewImportance = wire.NewImportance
	// NewOutcomes is that of innerladder/internal/wire.
	NewOutcomes = wire.NewOutcomes
	// NewPerson is that of innerladder/internal/wire.
	NewPerson = wire.NewPerson
	// NewPromotion is that of innerladder/internal/wire.
	NewPromotion = wire.NewPromotion
	// NewReplay is that of innerladder/internal/wire.
	NewReplay = wire.NewReplay
	// NewReports is that of innerladder/internal/wire.
	NewReports = wire.NewReports
	// NewRobustness is that of innerladder/internal/wire.
	NewRobustness = wire.NewRobustness
	// NewRollout is that of innerladder/internal/wire.
	NewRollout = wire.NewRollout
	// NewRun is that of innerladder/internal/wire.
	NewRun = wire.NewRun
	// NewRunner is that of innerladder/internal/wire.
	NewRunner = wire.NewRunner
	// NewSchedule is that of innerladder/internal/wire.
	NewSchedule = wire.NewSchedule
	// NewScoring is that of innerladder/internal/wire.
	NewScoring = wire.NewScoring
	// NewStanding is that of innerladder/internal/wire.
	NewStanding = wire.NewStanding
	// NewTick is that of innerladder/internal/wire.
	NewTick = wire.NewTick
	// NewToken is that of innerladder/internal/wire.
	NewToken = wire.NewToken
	// NewWebhook is that of innerladder/internal/wire.
	NewWebhook = wire.NewWebhook
	// Node is that of innerladder/internal/core/lineage.
	Node = lineage.Node
	// NodeKind is that of innerladder/internal/core/lineage.
	NodeKind = lineage.NodeKind
	// Note is that of innerladder/internal/core/incident.
	Note = incident.Note
	// Notice is that of innerladder/internal/core/notice.
	Notice = notice.Notice
	// Numbers is that of innerladder/internal/core/sketch.
	Numbers = sketch.Numbers
	// OpenRequirement is that of innerladder/internal/core/ladder.
	OpenRequirement = ladder.OpenRequirement
	// Origin is that of innerladder/internal/core/answers.
	Origin = answers.Origin
	// Outcome is that of innerladder/internal/core/ladder/rule.
	Outcome = rule.Outcome
	// OutcomeLeft is that of innerladder/internal/core/outcome.
	OutcomeLeft = outcome.Left
	// OutcomeSegment is that of innerladder/internal/wire.
	OutcomeSegment = wire.OutcomeSegment
	// OutcomeShown is that of innerladder/internal/wire.
	OutcomeShown = wire.OutcomeShown
	// OutcomesShown is that of innerladder/internal/wire.
	OutcomesShown = wire.OutcomesShown
	// OutcomesTaken is that of innerladder/internal/wire.
	OutcomesTaken = wire.OutcomesTaken
	// Outlook is that of innerladder/internal/wire.
	Outlook = wire.Outlook
	// OutputDifference is that of innerladder/internal/core/evidence.
	OutputDifference = evidence.OutputDifference
	// Over is that of innerladder/internal/client.
	Over = client.Over
	// PackedFile is that of innerladder/internal/core/registry.
	PackedFile = registry.PackedFile
	// Pair is that of innerladder/internal/core/outcome.
	Pair = outcome.Pair
	// Parent is that of innerladder/internal/core/lineage.
	Parent = lineage.Parent
	// Part is that of innerladder/internal/client.
	Part = client.Part
	// Permission is that of innerladder/internal/core/access.
	Permission = access.Permission
	// Person is that of innerladder/internal/core/people.
	Person = people.Person
	// PersonEdit is that of innerladder/internal/wire.
	PersonEdit = wire.PersonEdit
	// Phase is that of innerladder/internal/core/rollout.
	Phase = rollout.Phase
	// Placement is that of innerladder/internal/core/traffic.
	Placement = traffic.Placement
	// Plan is that of innerladder/internal/core/ensemble.
	Plan = ensemble.Plan
	// PlanStep is that of innerladder/internal/core/rollout.
	PlanStep = rollout.PlanStep
	// Point is that of innerladder/internal/wire.
	Point = wire.Point
	// Preferences is that of innerladder/internal/wire.
	Preferences = wire.Preferences
	// Preview is that of innerladder/internal/core/ladder.
	Preview = ladder.Preview
	// Problem is that of innerladder/internal/client.
	Problem = client.Problem
	// Profile is that of innerladder/internal/core/profile.
	Profile = profile.Profile
	// ProfileColumn is that of innerladder/internal/core/compare.
	ProfileColumn = compare.ProfileColumn
	// Profiles is that of innerladder/internal/core/compare.
	Profiles = compare.Profiles
	// Progress is that of innerladder/internal/core/guard.
	Progress = guard.Progress
	// Project is that of innerladder/internal/core/registry.
	Project = registry.Project
	// Promotion is that of innerladder/internal/core/ladder.
	Promotion = ladder.Promotion
	// PromotionSearch is that of innerladder/internal/client.
	PromotionSearch = client.PromotionSearch
	// PromotionState is that of innerladder/internal/core/ladder.
	PromotionState = ladder.PromotionState
	// PutTemplate is that of innerladder/internal/wire.
	PutTemplate = wire.PutTemplate
	// Quantile is that of innerladder/internal/core/evidence.
	Quantile = evidence.Quantile
	// Range is that of innerladder/internal/core/replica.
	Range = replica.Range
	// Reading is that of innerladder/internal/core/guard.
	Reading = guard.Reading
	// Refusal is that of innerladder/internal/wire.
	Refusal = wire.Refusal
	// RefusalPoint is that of innerladder/internal/wire.
	RefusalPoint = wire.RefusalPoint
	// Refusals is that of innerladder/internal/wire.
	Refusals = wire.Refusals
	// RefusedNow is that of innerladder/internal/wire.
	RefusedNow = wire.RefusedNow
	// Registered is that of innerladder/internal/wire.
	Registered = wire.Registered
	// Registration is that of innerladder/internal/wire.
	Registration = wire.Registration
	// ReplayReport is that of innerladder/internal/core/evidence.
	ReplayReport = evidence.ReplayReport
	// Replayed is that of innerladder/internal/core/rollout.
	Replayed = rollout.Replayed
	// Replaying is that of innerladder/internal/core/job.
	Replaying = job.Replaying
	// Replica is that of innerladder/internal/core/replica.
	Replica = replica.Replica
	// Report is that of innerladder/internal/core/custom.
	Report = custom.Report
	// Reported is that of innerladder/internal/core/rollout.
	Reported = rollout.Reported
	// ReportsTaken is that of innerladder/internal/wire.
	ReportsTaken = wire.ReportsTaken
	// RequestCalls is that of innerladder/internal/core/request.
	RequestCalls = request.Calls
	// RequestFilter is that of innerladder/internal/wire.
	RequestFilter = wire.RequestFilter
	// RequestKept is that of innerladder/internal/core/request.
	RequestKept = request.Kept
	// RequestOutcome is that of innerladder/internal/core/request.
	RequestOutcome = request.Outcome
	// RequestShown is that of innerladder/internal/wire.
	RequestShown = wire.RequestShown
	// Requests is that of innerladder/internal/wire.
	Requests = wire.Requests
	// Requirement is that of innerladder/internal/core/ladder/rule.
	Requirement = rule.Requirement
	// Response is that of innerladder/internal/core/guard.
	Response = guard.Response
	// Retention is that of innerladder/internal/core/keep.
	Retention = keep.Retention
	// Review is that of innerladder/internal/wire.
	Review = wire.Review
	// Revision is that of innerladder/internal/core/ladder.
	Revision = ladder.Revision
	// Robustness is that of innerladder/internal/core/job.
	Robustness = job.Robustness
	// RobustnessReport is that of innerladder/internal/core/evidence.
	RobustnessReport = evidence.RobustnessReport
	// Role is that of innerladder/internal/core/access.
	Role = access.Role
	// RolledBack is that of innerladder/internal/core/registry.
	RolledBack = registry.RolledBack
	// Rollout is that of innerladder/internal/core/rollout.
	Rollout = rollout.Rollout
	// RolloutDecision is that of innerladder/internal/core/rollout.
	RolloutDecision = rollout.Decision
	// RolloutPlan is that of innerladder/internal/core/rollout.
	RolloutPlan = rollout.Plan
	// RolloutStanding is that of innerladder/internal/core/rollout.
	RolloutStanding = rollout.Standing
	// RolloutState is that of innerladder/internal/core/rollout.
	RolloutState = rollout.State
	// Rotated is that of innerladder/internal/wire.
	Rotated = wire.Rotated
	// Row is that of innerladder/internal/core/compare.
	Row = compare.Row
	// Rule is that of innerladder/internal/core/watch.
	Rule = watch.Rule
	// RuleListed is that of innerladder/internal/core/ladder/rule.
	RuleListed = rule.Listed
	// RuleRule is that of innerladder/internal/core/ladder/rule.
	RuleRule = rule.Rule
	// Run is that of innerladder/internal/core/lineage.
	Run = lineage.Run
	// RunState is that of innerladder/internal/core/lineage.
	RunState = lineage.RunState
	// Rung is that of innerladder/internal/core/ladder.
	Rung = ladder.Rung
	// RungPreview is that of innerladder/internal/core/ladder.
	RungPreview = ladder.RungPreview
	// Runner is that of innerladder/internal/core/traffic.
	Runner = traffic.Runner
	// Running is that of innerladder/internal/wire.
	Running = wire.Running
	// RunningLog is that of innerladder/internal/wire.
	RunningLog = wire.RunningLog
	// Said is that of innerladder/internal/wire.
	Said = wire.Said
	// Sample is that of innerladder/internal/core/incident.
	Sample = incident.Sample
	// SavedSearch is that of innerladder/internal/core/registry.
	SavedSearch = registry.SavedSearch
	// Schedule is that of innerladder/internal/core/schedule.
	Schedule = schedule.Schedule
	// Scope is that of innerladder/internal/core/access.
	Scope = access.Scope
	// Scored is that of innerladder/internal/core/schedule.
	Scored = schedule.Scored
	// Scoring is that of innerladder/internal/core/job.
	Scoring = job.Scoring
	// Segment is that of innerladder/internal/core/evidence.
	Segment = evidence.Segment
	// Series is that of innerladder/internal/wire.
	Series = wire.Series
	// Served is that of innerladder/internal/core/signature.
	Served = signature.Served
	// ServedBy is that of innerladder/internal/wire.
	ServedBy = wire.ServedBy
	// Set is that of innerladder/internal/core/watch.
	Set = watch.Set
	// ShadowReport is that of innerladder/internal/core/evidence.
	ShadowReport = evidence.ShadowReport
	// ShownIncident is that of innerladder/internal/wire.
	ShownIncident = wire.ShownIncident
	// ShownRollout is that of innerladder/internal/wire.
	ShownRollout = wire.ShownRollout
	// Side is that of innerladder/internal/core/watch.
	Side = watch.Side
	// SignOff is that of innerladder/internal/core/ladder/rule.
	SignOff = rule.SignOff
	// Signal is that of innerladder/internal/core/custom.
	Signal = custom.Signal
	// Signature is that of innerladder/internal/core/signature.
	Signature = signature.Signature
	// SignatureColumn is that of innerladder/internal/core/signature.
	SignatureColumn = signature.Column
	// SigningKey is that of innerladder/internal/core/people.
	SigningKey = people.SigningKey
	// Source is that of innerladder/internal/wire.
	Source = wire.Source
	// Split is that of innerladder/internal/core/traffic.
	Split = traffic.Split
	// Stand is that of innerladder/internal/core/watch.
	Stand = watch.Stand
	// Standing is that of innerladder/internal/core/standing.
	Standing = standing.Standing
	// StandingShown is that of innerladder/internal/wire.
	StandingShown = wire.StandingShown
	// StandingState is that of innerladder/internal/core/standing.
	StandingState = standing.State
	// State is that of innerladder/internal/core/ladder/rule.
	State = rule.State
	// StatementFor is that of innerladder/internal/wire.
	StatementFor = wire.StatementFor
	// Step is that of innerladder/internal/core/compare.
	Step = compare.Step
	// StepForecast is that of innerladder/internal/core/rollout.
	StepForecast = rollout.StepForecast
	// Summary is that of innerladder/internal/backup.
	Summary = backup.Summary
	// Task is that of innerladder/internal/core/registry.
	Task = registry.Task
	// Template is that of innerladder/internal/core/replica.
	Template = replica.Template
	// Tensor is that of innerladder/internal/core/signature.
	Tensor = signature.Tensor
	// Terms is that of innerladder/internal/core/guard.
	Terms = guard.Terms
	// TestReport is that of innerladder/internal/core/evidence.
	TestReport = evidence.TestReport
	// TestSuite is that of innerladder/internal/core/evidence.
	TestSuite = evidence.TestSuite
	// Tick is that of innerladder/internal/core/ladder/rule.
	Tick = rule.Tick
	// Token is that of innerladder/internal/core/people.
	Token = people.Token
	// Took is that of innerladder/internal/core/elsewhere.
	Took = elsewhere.Took
	// Topic is that of innerladder/internal/core/notice.
	Topic = notice.Topic
	// Trace is that of innerladder/internal/core/lineage.
	Trace = lineage.Trace
	// TraceFrom is that of innerladder/internal/wire.
	TraceFrom = wire.TraceFrom
	// Traffic is that of innerladder/internal/core/rollout.
	Traffic = rollout.Traffic
	// TrafficRule is that of innerladder/internal/core/traffic.
	TrafficRule = traffic.Rule
	// TrendMinute is that of innerladder/internal/wire.
	TrendMinute = wire.TrendMinute
	// Tried is that of innerladder/internal/wire.
	Tried = wire.Tried
	// TriedVersion is that of innerladder/internal/wire.
	TriedVersion = wire.TriedVersion
	// TriedVersions is that of innerladder/internal/wire.
	TriedVersions = wire.TriedVersions
	// Truth is that of innerladder/internal/core/outcome.
	Truth = outcome.Truth
	// TryVersions is that of innerladder/internal/wire.
	TryVersions = wire.TryVersions
	// Turn is that of innerladder/internal/core/schedule.
	Turn = schedule.Turn
	// Type is that of innerladder/internal/core/signature.
	Type = signature.Type
	// Unit is that of innerladder/internal/core/watch.
	Unit = watch.Unit
	// UploadUse is that of innerladder/internal/wire.
	UploadUse = wire.UploadUse
	// Uploading is that of innerladder/internal/wire.
	Uploading = wire.Uploading
	// Usage is that of innerladder/internal/core/replica.
	Usage = replica.Usage
	// Verb is that of innerladder/internal/core/rollout.
	Verb = rollout.Verb
	// Verdict is that of innerladder/internal/core/compare.
	Verdict = compare.Verdict
	// Verified is that of innerladder/internal/core/record.
	Verified = record.Verified
	// Version is that of innerladder/internal/core/registry.
	Version = registry.Version
	// VersionAccuracy is that of innerladder/internal/wire.
	VersionAccuracy = wire.VersionAccuracy
	// VersionPreview is that of innerladder/internal/core/ladder.
	VersionPreview = ladder.VersionPreview
	// Versus is that of innerladder/internal/core/watch.
	Versus = watch.Versus
	// Vetting is that of innerladder/internal/core/registry.
	Vetting = registry.Vetting
	// VouchedFile is that of innerladder/internal/wire.
	VouchedFile = wire.VouchedFile
	// Voucher is that of innerladder/internal/wire.
	Voucher = wire.Voucher
	// Vouchers is that of innerladder/internal/wire.
	Vouchers = wire.Vouchers
	// Wait is that of innerladder/internal/core/rollout.
	Wait = rollout.Wait
	// WatchState is that of innerladder/internal/core/watch.
	WatchState = watch.State
	// Watchable is that of innerladder/internal/core/watch.
	Watchable = watch.Watchable
	// Watches is that of innerladder/internal/wire.
	Watches = wire.Watches
	// Way is that of innerladder/internal/core/metric.
	Way = metric.Way
	// Webhook is that of innerladder/internal/core/notice.
	Webhook = notice.Webhook
	// Welcomed is that of innerladder/internal/wire.
	Welcomed = wire.Welcomed
	// Where is that of innerladder/internal/core/traffic.
	Where = traffic.Where
	// Window is that of innerladder/internal/core/elsewhere.
	Window = elsewhere.Window
	// WireJudging is that of innerladder/internal/wire.
	WireJudging = wire.Judging
	// WirePart is that of innerladder/internal/wire.
	WirePart = wire.Part
	// WireProblem is that of innerladder/internal/wire.
	WireProblem = wire.Problem
	// WireServed is that of innerladder/internal/wire.
	WireServed = wire.Served
	// Work is that of innerladder/internal/core/replica.
	Work = replica.Work
	// WorstRow is that of innerladder/internal/core/evidence.
	WorstRow = evidence.WorstRow
	// XYCurve is that of innerladder/internal/core/evidence.
	XYCurve = evidence.XYCurve
)
