import { lazy, type ComponentType } from 'react'
import { Navigate, Route, Routes } from 'react-router'

import { ProblemError } from './api/client'
import { useMe } from './api/people'
import { NowPage } from './now/now-page'
import { Shell } from './shell'
import { Empty, Panel, Problem } from './ui/parts'

/** A page that is fetched when it is first looked at. */
const page = (load: () => Promise<ComponentType>) => lazy(async () => ({ default: await load() }))

const AccuracyPage = page(() => import('./accuracy/accuracy-page').then((m) => m.AccuracyPage))
const DriftPage = page(() => import('./drift/drift-page').then((m) => m.DriftPage))
const ActivityPage = page(() => import('./activity/activity-page').then((m) => m.ActivityPage))
const AlertsPage = page(() => import('./alerts/alerts-page').then((m) => m.AlertsPage))
const AuditPage = page(() => import('./audit/audit-page').then((m) => m.AuditPage))
const CustomPage = page(() => import('./custom/custom-page').then((m) => m.CustomPage))
const ComparePage = page(() => import('./endpoints/compare-page').then((m) => m.ComparePage))
const EndpointPage = page(() => import('./endpoints/endpoint-page').then((m) => m.EndpointPage))
const SignalsPage = page(() => import('./endpoints/signals-page').then((m) => m.SignalsPage))
const EndpointsPage = page(() => import('./endpoints/endpoints-page').then((m) => m.EndpointsPage))
const EnvironmentsPage = page(() => import('./environments/environments-page').then((m) => m.EnvironmentsPage))
const InboxPage = page(() => import('./inbox/inbox-page').then((m) => m.InboxPage))
const CataloguePage = page(() => import('./models/catalogue-page').then((m) => m.CataloguePage))
const DataPage = page(() => import('./models/data-page').then((m) => m.DataPage))
const LineupPage = page(() => import('./models/lineup-page').then((m) => m.LineupPage))
const ModelPage = page(() => import('./models/model-page').then((m) => m.ModelPage))
const ModelsPage = page(() => import('./models/models-page').then((m) => m.ModelsPage))
const RegisterPage = page(() => import('./models/register-page').then((m) => m.RegisterPage))
const RunPage = page(() => import('./models/runs-page').then((m) => m.RunPage))
const RunsPage = page(() => import('./models/runs-page').then((m) => m.RunsPage))
const TracePage = page(() => import('./models/trace-page').then((m) => m.TracePage))
const VersionPage = page(() => import('./models/version-page').then((m) => m.VersionPage))
const IncidentPage = page(() => import('./incidents/incident-page').then((m) => m.IncidentPage))
const IncidentsPage = page(() => import('./incidents/incidents-page').then((m) => m.IncidentsPage))
const RolloutPage = page(() => import('./rollouts/rollout-page').then((m) => m.RolloutPage))
const RolloutsPage = page(() => import('./rollouts/rollouts-page').then((m) => m.RolloutsPage))
const RequestPage = page(() => import('./requests/request-page').then((m) => m.RequestPage))
const RequestsPage = page(() => import('./requests/requests-page').then((m) => m.RequestsPage))
const StrayRequestsPage = page(() => import('./requests/requests-page').then((m) => m.StrayRequestsPage))
const ReviewPage = page(() => import('./reviews/review-page').then((m) => m.ReviewPage))
const ReviewsPage = page(() => import('./reviews/reviews-page').then((m) => m.ReviewsPage))
const ConnectionsPage = page(() => import('./settings/connections-page').then((m) => m.ConnectionsPage))
const LadderPage = page(() => import('./settings/ladder-page').then((m) => m.LadderPage))
const MePage = page(() => import('./settings/me-page').then((m) => m.MePage))
const PeoplePage = page(() => import('./settings/people-page').then((m) => m.PeoplePage))
const ServicePage = page(() => import('./settings/service-page').then((m) => m.ServicePage))
const JobPage = page(() => import('./jobs/job-page').then((m) => m.JobPage))
const JobsPage = page(() => import('./jobs/jobs-page').then((m) => m.JobsPage))
const TryPage = page(() => import('./try/try-page').then((m) => m.TryPage))
const GlossaryPage = page(() => import('./settings/glossary-page').then((m) => m.GlossaryPage))
const SettingsFrame = page(() => import('./settings/settings-frame').then((m) => m.SettingsFrame))

/** All pages of someone who is signed in. */
export function App() {
  const me = useMe()
  if (me.error instanceof ProblemError && me.error.problem.status === 401) return <Navigate to="/sign-in" replace />
  if (me.error) {
    return (
      <main className="p-6">
        <Problem error={me.error} />
      </main>
    )
  }
  if (!me.data) return null
  return (
    <Routes>
      <Route element={<Shell />}>
        <Route index element={<NowPage />} />
        <Route path="models" element={<ModelsPage />} />
        <Route path="models/versions" element={<CataloguePage />} />
        <Route path="models/register" element={<RegisterPage />} />
        <Route path="models/lineup" element={<LineupPage />} />
        <Route path="models/trace" element={<TracePage />} />
        <Route path="models/runs" element={<RunsPage />} />
        <Route path="models/runs/:run" element={<RunPage />} />
        <Route path="models/data" element={<DataPage />} />
        <Route path="models/jobs" element={<JobsPage />} />
        <Route path="models/jobs/:job" element={<JobPage />} />
        <Route path="models/:model" element={<ModelPage />} />
        <Route path="models/:model/versions/:number" element={<VersionPage />} />
        <Route path="endpoints" element={<EndpointsPage />} />
        <Route path="endpoints/:endpoint" element={<EndpointPage />} />
        <Route path="endpoints/:endpoint/compare" element={<ComparePage />} />
        <Route path="endpoints/:endpoint/requests" element={<RequestsPage />} />
        <Route path="endpoints/:endpoint/accuracy" element={<AccuracyPage />} />
        <Route path="endpoints/:endpoint/custom" element={<CustomPage />} />
        <Route path="endpoints/:endpoint/drift" element={<DriftPage />} />
        <Route path="endpoints/:endpoint/signals" element={<SignalsPage />} />
        <Route path="requests" element={<StrayRequestsPage />} />
        <Route path="requests/:request" element={<RequestPage />} />
        <Route path="rollouts" element={<RolloutsPage />} />
        <Route path="rollouts/:rollout" element={<RolloutPage />} />
        <Route path="incidents" element={<IncidentsPage />} />
        <Route path="incidents/:incident" element={<IncidentPage />} />
        <Route path="environments" element={<EnvironmentsPage />} />
        <Route path="try/:environment/:ref" element={<TryPage />} />
        <Route path="reviews" element={<ReviewsPage />} />
        <Route path="reviews/:promotion" element={<ReviewPage />} />
        <Route path="alerts" element={<AlertsPage />} />
        <Route path="audit" element={<AuditPage />} />
        <Route path="activity" element={<ActivityPage />} />
        <Route path="inbox" element={<InboxPage />} />
        <Route path="glossary" element={<GlossaryPage />} />
        <Route path="settings" element={<SettingsFrame />}>
          <Route index element={<Navigate to="me" replace />} />
          <Route path="me" element={<MePage />} />
          <Route path="people" element={<PeoplePage />} />
          <Route path="ladders" element={<LadderPage />} />
          <Route path="connections" element={<ConnectionsPage />} />
          <Route path="service" element={<ServicePage />} />
        </Route>
        <Route
          path="*"
          element={
            <Panel>
              <Empty>There is no such page.</Empty>
            </Panel>
          }
        />
      </Route>
    </Routes>
  )
}
