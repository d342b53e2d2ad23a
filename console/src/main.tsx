import "./nonce";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { lazy, StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, RouterProvider } from "react-router";
import { ProblemError } from "./api/client";
import { Frame } from "./Frame";
import { LookProvider } from "./look";
import { Broken } from "./parts/Broken";
import { Loading } from "./parts/Loading";
import { NotFound } from "./parts/NotFound";
import "./theme.css";

const Reach = lazy(() => import("./pages/reach/Reach"));
const MapPage = lazy(() => import("./pages/reach/Map"));
const Drift = lazy(() => import("./pages/reach/Drift"));
const ToProve = lazy(() => import("./pages/reach/ToProve"));
const Grants = lazy(() => import("./pages/grants/Grants"));
const LoginPage = lazy(() => import("./pages/logins/Login"));
const SignIn = lazy(() => import("./pages/signin/SignIn"));
const Instances = lazy(() => import("./pages/instances/Instances"));
const InstancePage = lazy(() => import("./pages/instances/Instance"));
const Adopt = lazy(() => import("./pages/instances/Adopt"));
const Launch = lazy(() => import("./pages/instances/Launch"));
const Keys = lazy(() => import("./pages/keys/Keys"));
const KeyPage = lazy(() => import("./pages/keys/Key"));
const Rotations = lazy(() => import("./pages/rotations/Rotations"));
const RotationPage = lazy(() => import("./pages/rotations/RotationPage"));
const RotationPlanPage = lazy(() => import("./pages/rotations/Plan"));
const RotationRules = lazy(() => import("./pages/rotations/Rules"));
const RotationCalendar = lazy(() => import("./pages/rotations/CalendarPage"));
const AskedKeys = lazy(() => import("./pages/rotations/Asked"));
const RotationReportPage = lazy(() => import("./pages/rotations/Report"));
const Routes = lazy(() => import("./pages/restores/Routes"));
const Restores = lazy(() => import("./pages/restores/Restores"));
const RestorePage = lazy(() => import("./pages/restores/RestorePage"));
const RestoreReport = lazy(() => import("./pages/restores/RestoreReport"));
const Charters = lazy(() => import("./pages/charters/Charters"));
const CharterCompare = lazy(() => import("./pages/charters/Compare"));
const CharterPage = lazy(() => import("./pages/charters/CharterPage"));
const RunPage = lazy(() => import("./pages/runs/Run"));
const SetUp = lazy(() => import("./pages/signin/SetUp"));
const You = lazy(() => import("./pages/settings/You"));
const People = lazy(() => import("./pages/settings/People"));
const LeavingPage = lazy(() => import("./pages/settings/LeavingPage"));
const Custody = lazy(() => import("./pages/settings/Custody"));
const Clouds = lazy(() => import("./pages/settings/Clouds"));
const CloudKeys = lazy(() => import("./pages/settings/CloudKeys"));
const HostAuthorities = lazy(() => import("./pages/settings/HostAuthorities"));
const JumpHosts = lazy(() => import("./pages/settings/JumpHosts"));
const BringIn = lazy(() => import("./pages/instances/BringIn"));
const Subscribers = lazy(() => import("./pages/settings/Subscribers"));
const TerminalPage = lazy(() => import("./pages/terminals/TerminalPage"));
const Visits = lazy(() => import("./pages/terminals/Visits"));
const Replay = lazy(() => import("./pages/terminals/Replay"));
const Daybook = lazy(() => import("./pages/daybook/Daybook"));

const router = createBrowserRouter([
  {
    path: "/sign-in",
    element: (
      <Suspense fallback={<Loading />}>
        <SignIn />
      </Suspense>
    ),
  },
  {
    path: "/set-up",
    element: (
      <Suspense fallback={<Loading />}>
        <SetUp />
      </Suspense>
    ),
  },
  {
    path: "/",
    element: <Frame />,
    children: [
      {
        errorElement: <Broken />,
        children: [
          { index: true, element: <Reach /> },
          { path: "map", element: <MapPage /> },
          { path: "drift", element: <Drift /> },
          { path: "grants", element: <Grants /> },
          { path: "proofs", element: <ToProve /> },
          { path: "logins/:name", element: <LoginPage /> },
          { path: "instances", element: <Instances /> },
          { path: "instances/:name", element: <InstancePage /> },
          { path: "adopt", element: <Adopt /> },
          { path: "launch", element: <Launch /> },
          { path: "keys", element: <Keys /> },
          { path: "keys/:name", element: <KeyPage /> },
          { path: "rotations", element: <Rotations /> },
          { path: "rotations/plan", element: <RotationPlanPage /> },
          { path: "rotations/rules", element: <RotationRules /> },
          { path: "rotations/calendar", element: <RotationCalendar /> },
          { path: "rotations/asked", element: <AskedKeys /> },
          { path: "rotations/:id/report", element: <RotationReportPage /> },
          { path: "rotations/:id", element: <RotationPage /> },
          { path: "logins/:name/routes", element: <Routes /> },
          { path: "restores", element: <Restores /> },
          { path: "restores/:id/report", element: <RestoreReport /> },
          { path: "restores/:id", element: <RestorePage /> },
          { path: "charters", element: <Charters /> },
          { path: "charters/compare", element: <CharterCompare /> },
          { path: "charters/:name", element: <CharterPage /> },
          { path: "runs/:id", element: <RunPage /> },
          { path: "daybook", element: <Daybook /> },
          { path: "settings", element: <You /> },
          { path: "settings/people", element: <People /> },
          { path: "settings/people/:name/leaving", element: <LeavingPage /> },
          { path: "settings/custody", element: <Custody /> },
          { path: "settings/subscribers", element: <Subscribers /> },
          { path: "settings/clouds", element: <Clouds /> },
          { path: "settings/clouds/:name/keys", element: <CloudKeys /> },
          { path: "settings/host-authorities", element: <HostAuthorities /> },
          { path: "settings/jump-hosts", element: <JumpHosts /> },
          { path: "settings/visits", element: <Visits /> },
          { path: "settings/visits/:id", element: <Replay /> },
          { path: "terminals/:name", element: <TerminalPage /> },
          { path: "bring-in", element: <BringIn /> },
          { path: "*", element: <NotFound /> },
        ],
      },
    ],
  },
]);

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (count, error) =>
        count < 2 && !(error instanceof ProblemError && error.problem.status >= 400 && error.problem.status < 500),
    },
    // The same request goes out again under the same Idempotency-Key.
    mutations: {
      retry: (count, error) => count < 1 && error instanceof ProblemError && error.problem.code === "unreachable",
    },
  },
});

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <LookProvider>
        <RouterProvider router={router} />
      </LookProvider>
    </QueryClientProvider>
  </StrictMode>,
);
