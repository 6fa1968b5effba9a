import { lazy, Suspense, useState, type ComponentType } from "react";
import { Navigate, Route, Routes } from "react-router";
import { useAbout } from "./api/hooks";
import { Shell } from "./shell";
import { Button, Failure } from "./ui/basic";

/** What is loaded when it is shown. After the service became another version its parts have other names: then the whole
 * page is loaded anew, once. */
function later<P>(load: () => Promise<ComponentType<P>>) {
  return lazy(async () => {
    try {
      const part = await load();
      sessionStorage.removeItem("anew");
      return { default: part };
    } catch (e) {
      if (sessionStorage.getItem("anew")) throw e;
      sessionStorage.setItem("anew", "1");
      location.reload();
      return new Promise<never>(() => {});
    }
  });
}

function page<K extends string>(load: () => Promise<Record<K, ComponentType>>, name: K) {
  return later(async () => (await load())[name] as ComponentType);
}

const SignIn = later(async () => (await import("./pages/system/sign-in")).SignIn);
const Enrolling = later(async () => (await import("./pages/system/sign-in")).Enrolling);
const AnalysisPage = page(() => import("./pages/policies/analysis"), "AnalysisPage");
const AttemptPage = page(() => import("./pages/watch/attempt"), "AttemptPage");
const AttemptsPage = page(() => import("./pages/watch/attempts"), "AttemptsPage");
const AuthorityPage = page(() => import("./pages/certificates/authority"), "AuthorityPage");
const CalendarPage = page(() => import("./pages/policies/calendars"), "CalendarPage");
const CalendarsPage = page(() => import("./pages/policies/calendars"), "CalendarsPage");
const CertificatePage = page(() => import("./pages/certificates/certificate"), "CertificatePage");
const CertificatesPage = page(() => import("./pages/certificates/certificates"), "CertificatesPage");
const CheckupPage = page(() => import("./pages/watch/checkup"), "CheckupPage");
const ClientPage = page(() => import("./pages/clients/client-form"), "ClientPage");
const ClientsPage = page(() => import("./pages/clients/clients"), "ClientsPage");
const CommandListPage = page(() => import("./pages/passes/commands"), "CommandListPage");
const CommandListsPage = page(() => import("./pages/passes/commands"), "CommandListsPage");
const DevicePage = page(() => import("./pages/people/devices"), "DevicePage");
const DevicesPage = page(() => import("./pages/people/devices"), "DevicesPage");
const DirectoriesPage = page(() => import("./pages/directories/directories"), "DirectoriesPage");
const DirectoryPage = page(() => import("./pages/directories/directories"), "DirectoryPage");
const ExpectationPage = page(() => import("./pages/policies/expectations"), "ExpectationPage");
const ExpectationsPage = page(() => import("./pages/policies/expectations"), "ExpectationsPage");
const FactorPage = page(() => import("./pages/people/factor"), "FactorPage");
const ReadyPage = page(() => import("./pages/people/ready"), "ReadyPage");
const ReportPage = page(() => import("./pages/people/report"), "ReportPage");
const FactorsPage = page(() => import("./pages/people/factors"), "FactorsPage");
const HistoryPage = page(() => import("./pages/system/history"), "HistoryPage");
const JournalPage = page(() => import("./pages/watch/journal"), "JournalPage");
const LanesPage = page(() => import("./pages/policies/lanes"), "LanesPage");
const NowPage = page(() => import("./pages/watch/now"), "NowPage");
const AuditPage = page(() => import("./pages/system/audit"), "AuditPage");
const OperatorsPage = page(() => import("./pages/system/operators"), "OperatorsPage");
const YouPage = page(() => import("./pages/system/you"), "YouPage");
const OverridePage = page(() => import("./pages/policies/overrides"), "OverridePage");
const OverridesPage = page(() => import("./pages/policies/overrides"), "OverridesPage");
const PassPage = page(() => import("./pages/passes/pass"), "PassPage");
const PassesPage = page(() => import("./pages/passes/passes"), "PassesPage");
const AccountPage = page(() => import("./pages/people/people"), "AccountPage");
const PeoplePage = page(() => import("./pages/people/people"), "PeoplePage");
const PoolPage = page(() => import("./pages/passes/pools"), "PoolPage");
const PoolsPage = page(() => import("./pages/passes/pools"), "PoolsPage");
const RealmPage = page(() => import("./pages/directories/realms"), "RealmPage");
const RealmsPage = page(() => import("./pages/directories/realms"), "RealmsPage");
const RehearsalPage = page(() => import("./pages/policies/rehearsal"), "RehearsalPage");
const NodesPage = page(() => import("./pages/system/nodes"), "NodesPage");
const PresencePage = page(() => import("./pages/presence/list"), "PresencePage");
const WhoPage = page(() => import("./pages/presence/who"), "WhoPage");
const PresencePersonPage = page(() => import("./pages/presence/person"), "PersonPage");
const SightingsPage = page(() => import("./pages/presence/sightings"), "SightingsPage");
const SourcePage = page(() => import("./pages/presence/sources"), "SourcePage");
const SourcesPage = page(() => import("./pages/presence/sources"), "SourcesPage");
const DeviceKindPage = page(() => import("./pages/presence/device-kinds"), "DeviceKindPage");
const DeviceKindsPage = page(() => import("./pages/presence/device-kinds"), "DeviceKindsPage");
const ScopePage = page(() => import("./pages/presence/scopes"), "ScopePage");
const ScopesPage = page(() => import("./pages/presence/scopes"), "ScopesPage");
const SubscriberPage = page(() => import("./pages/presence/subscribers"), "SubscriberPage");
const SubscribersPage = page(() => import("./pages/presence/subscribers"), "SubscribersPage");
const FeedPage = page(() => import("./pages/system/feeds"), "FeedPage");
const FeedsPage = page(() => import("./pages/system/feeds"), "FeedsPage");
const RemotePage = page(() => import("./pages/passes/remotes"), "RemotePage");
const RemotesPage = page(() => import("./pages/passes/remotes"), "RemotesPage");
const TrustPage = page(() => import("./pages/certificates/trust"), "TrustPage");
const TryPage = page(() => import("./pages/clients/try"), "TryPage");
const DictionaryPage = page(() => import("./pages/passes/vendors"), "DictionaryPage");
const VendorPage = page(() => import("./pages/passes/vendors"), "VendorPage");
const SessionPage = page(() => import("./pages/watch/session"), "SessionPage");
const SessionsPage = page(() => import("./pages/watch/sessions"), "SessionsPage");

export function App() {
  const about = useAbout();
  const [held, setHeld] = useState(false);
  const [offering, setOffering] = useState(false);
  if (about.error) {
    return (
      <div className="mx-auto mt-24 w-96">
        <Failure error={about.error} />
        <Button className="mt-3" onClick={() => about.refetch()}>
          Try again
        </Button>
      </div>
    );
  }
  if (!about.data) return null;
  if (!about.data.operator || offering) {
    return (
      <Suspense>
        <SignIn first={about.data.setupNeeded} provider={about.data.provider} hold={setOffering} />
      </Suspense>
    );
  }
  if (about.data.enrolling || held) {
    // it stays until the recovery codes were kept, although the session is good for everything before
    return (
      <Suspense>
        <Enrolling
          role={about.data.role ?? ""}
          enrolled={!!about.data.secondFactor}
          hold={() => setHeld(true)}
          done={() => setHeld(false)}
        />
      </Suspense>
    );
  }
  return (
    <Shell operator={about.data.operator} role={about.data.role ?? ""}>
      <Suspense>
        <Routes>
          <Route path="/" element={about.data.rights?.includes("watch") ? <NowPage /> : <YouPage />} />
          <Route path="/attempts" element={<AttemptsPage />} />
          <Route path="/attempts/:id" element={<AttemptPage />} />
          <Route path="/sessions" element={<SessionsPage />} />
          <Route path="/sessions/:id" element={<SessionPage />} />
          <Route path="/clients" element={<ClientsPage />} />
          <Route path="/clients/:id" element={<ClientPage />} />
          <Route path="/directories" element={<DirectoriesPage />} />
          <Route path="/directories/:id" element={<DirectoryPage />} />
          <Route path="/rehearsal" element={<RehearsalPage />} />
          <Route path="/checkup" element={<CheckupPage />} />
          <Route path="/people" element={<PeoplePage />} />
          <Route path="/people/:id" element={<AccountPage />} />
          <Route path="/factors" element={<FactorsPage />} />
          <Route path="/readiness" element={<ReadyPage />} />
          <Route path="/readiness/report" element={<ReportPage />} />
          <Route path="/factors/:id" element={<FactorPage />} />
          <Route path="/realms" element={<RealmsPage />} />
          <Route path="/realms/:id" element={<RealmPage />} />
          <Route path="/lanes" element={<LanesPage />} />
          <Route path="/lanes/:id" element={<LanesPage />} />
          <Route path="/passes" element={<PassesPage />} />
          <Route path="/passes/:id" element={<PassPage />} />
          <Route path="/command-lists" element={<CommandListsPage />} />
          <Route path="/command-lists/:id" element={<CommandListPage />} />
          <Route path="/journal" element={<JournalPage />} />
          <Route path="/pools" element={<PoolsPage />} />
          <Route path="/pools/:id" element={<PoolPage />} />
          <Route path="/nodes" element={<NodesPage />} />
          <Route path="/presence" element={<PresencePage />} />
          <Route path="/presence/who" element={<WhoPage />} />
          <Route path="/presence/people/:name" element={<PresencePersonPage />} />
          <Route path="/sightings" element={<SightingsPage />} />
          <Route path="/sources" element={<SourcesPage />} />
          <Route path="/sources/:id" element={<SourcePage />} />
          <Route path="/scopes" element={<ScopesPage />} />
          <Route path="/scopes/:id" element={<ScopePage />} />
          <Route path="/device-kinds" element={<DeviceKindsPage />} />
          <Route path="/device-kinds/:id" element={<DeviceKindPage />} />
          <Route path="/subscribers" element={<SubscribersPage />} />
          <Route path="/subscribers/:id" element={<SubscriberPage />} />
          <Route path="/feeds" element={<FeedsPage />} />
          <Route path="/feeds/:id" element={<FeedPage />} />
          <Route path="/remotes" element={<RemotesPage />} />
          <Route path="/remotes/:id" element={<RemotePage />} />
          <Route path="/calendars" element={<CalendarsPage />} />
          <Route path="/calendars/:id" element={<CalendarPage />} />
          <Route path="/vendors" element={<DictionaryPage />} />
          <Route path="/vendors/:id" element={<VendorPage />} />
          <Route path="/overrides" element={<OverridesPage />} />
          <Route path="/overrides/:id" element={<OverridePage />} />
          <Route path="/expectations" element={<ExpectationsPage />} />
          <Route path="/expectations/:id" element={<ExpectationPage />} />
          <Route path="/analysis" element={<AnalysisPage />} />
          <Route path="/devices" element={<DevicesPage />} />
          <Route path="/devices/:id" element={<DevicePage />} />
          <Route path="/certificates" element={<CertificatesPage />} />
          <Route path="/certificates/:id" element={<CertificatePage />} />
          <Route path="/authorities/:id" element={<AuthorityPage />} />
          <Route path="/trusts/:id" element={<TrustPage />} />
          <Route path="/authorities" element={<Navigate to="/certificates" replace />} />
          <Route path="/trusts" element={<Navigate to="/certificates" replace />} />
          <Route path="/try" element={<TryPage />} />
          <Route path="/history" element={<HistoryPage />} />
          <Route path="/operators" element={<OperatorsPage />} />
          <Route path="/audit" element={<AuditPage />} />
          <Route path="/you" element={<YouPage />} />
          <Route path="*" element={<Navigate to="/" replace />} />
        </Routes>
      </Suspense>
    </Shell>
  );
}
