import { Navigate, Route, Routes } from "react-router";
import { useAbout } from "./api/hooks";
import { AnalysisPage } from "./pages/policies/analysis";
import { AttemptPage } from "./pages/watch/attempt";
import { AttemptsPage } from "./pages/watch/attempts";
import { AuthorityPage } from "./pages/certificates/authority";
import { CalendarPage, CalendarsPage } from "./pages/policies/calendars";
import { CertificatePage } from "./pages/certificates/certificate";
import { CertificatesPage } from "./pages/certificates/certificates";
import { CheckupPage } from "./pages/watch/checkup";
import { ClientPage, ClientsPage } from "./pages/clients/clients";
import { CommandListPage, CommandListsPage } from "./pages/passes/commands";
import { DevicePage, DevicesPage } from "./pages/people/devices";
import { DirectoriesPage, DirectoryPage } from "./pages/directories/directories";
import { ExpectationPage, ExpectationsPage } from "./pages/policies/expectations";
import { FactorPage, FactorsPage } from "./pages/people/factors";
import { HistoryPage } from "./pages/system/history";
import { JournalPage } from "./pages/watch/journal";
import { LanesPage } from "./pages/policies/lanes";
import { NowPage } from "./pages/watch/now";
import { AuditPage } from "./pages/system/audit";
import { OperatorsPage } from "./pages/system/operators";
import { YouPage } from "./pages/system/you";
import { OverridePage, OverridesPage } from "./pages/policies/overrides";
import { PassPage } from "./pages/passes/pass";
import { PassesPage } from "./pages/passes/passes";
import { AccountPage, PeoplePage } from "./pages/people/people";
import { PoolPage, PoolsPage } from "./pages/passes/pools";
import { RealmPage, RealmsPage } from "./pages/directories/realms";
import { RehearsalPage } from "./pages/policies/rehearsal";
import { FeedPage, FeedsPage } from "./pages/system/feeds";
import { RemotePage, RemotesPage } from "./pages/passes/remotes";
import { Enrolling, SignIn } from "./pages/system/sign-in";
import { TrustPage } from "./pages/certificates/trust";
import { TryPage } from "./pages/clients/try";
import { DictionaryPage, VendorPage } from "./pages/passes/vendors";
import { SessionPage } from "./pages/watch/session";
import { SessionsPage } from "./pages/watch/sessions";
import { Shell } from "./shell";
import { Button, Failure } from "./ui/basic";

export function App() {
  const about = useAbout();
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
  if (!about.data.operator) return <SignIn first={about.data.setupNeeded} provider={about.data.provider} />;
  if (about.data.enrolling) {
    return <Enrolling role={about.data.role ?? ""} enrolled={!!about.data.secondFactor} />;
  }
  return (
    <Shell operator={about.data.operator} role={about.data.role ?? ""}>
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
    </Shell>
  );
}
