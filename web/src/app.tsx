import { Navigate, Route, Routes } from 'react-router'

import { ProblemError } from './api/client'
import { useMe } from './api/people'
import { AccuracyPage } from './accuracy/accuracy-page'
import { DriftPage } from './drift/drift-page'
import { ActivityPage } from './activity/activity-page'
import { AlertsPage } from './alerts/alerts-page'
import { AuditPage } from './audit/audit-page'
import { CustomPage } from './custom/custom-page'
import { ComparePage } from './endpoints/compare-page'
import { EndpointPage } from './endpoints/endpoint-page'
import { SignalsPage } from './endpoints/signals-page'
import { EndpointsPage } from './endpoints/endpoints-page'
import { EnvironmentsPage } from './environments/environments-page'
import { InboxPage } from './inbox/inbox-page'
import { CataloguePage } from './models/catalogue-page'
import { DataPage } from './models/data-page'
import { LineupPage } from './models/lineup-page'
import { ModelPage } from './models/model-page'
import { ModelsPage } from './models/models-page'
import { RegisterPage } from './models/register-page'
import { RunPage, RunsPage } from './models/runs-page'
import { TracePage } from './models/trace-page'
import { VersionPage } from './models/version-page'
import { NowPage } from './now/now-page'
import { IncidentPage } from './incidents/incident-page'
import { IncidentsPage } from './incidents/incidents-page'
import { RolloutPage } from './rollouts/rollout-page'
import { RolloutsPage } from './rollouts/rollouts-page'
import { RequestPage } from './requests/request-page'
import { RequestsPage, StrayRequestsPage } from './requests/requests-page'
import { ReviewPage } from './reviews/review-page'
import { ReviewsPage } from './reviews/reviews-page'
import { ConnectionsPage } from './settings/connections-page'
import { LadderPage } from './settings/ladder-page'
import { MePage } from './settings/me-page'
import { PeoplePage } from './settings/people-page'
import { ServicePage } from './settings/service-page'
import { JobPage } from './jobs/job-page'
import { JobsPage } from './jobs/jobs-page'
import { SettingsFrame } from './settings/settings-frame'
import { Shell } from './shell'
import { TryPage } from './try/try-page'
import { Empty, Panel, Problem } from './ui/parts'

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
