import { useQueryClient } from "@tanstack/react-query";
import { Button, Dropdown, Grid, Layout, theme } from "antd";
import { Suspense, useEffect, useState } from "react";
import { Link, Navigate, NavLink, Outlet, useLocation, useNavigate } from "react-router";
import { api, problemOf, take } from "./api/client";
import { useMe } from "./api/queries";
import { useLook } from "./look";
import { Confirmation } from "./parts/Confirmation";
import { Find } from "./parts/Find";
import { Loading } from "./parts/Loading";
import { OpenBar } from "./parts/OpenBar";
import { ProblemNote } from "./parts/ProblemNote";
import { takeThen } from "./parts/then";
import { places } from "./places";
import { headHeight } from "./theme";

const placeStyle = (active: boolean, narrow: boolean) => ({
  color: "#fff",
  opacity: active ? 1 : 0.82,
  padding: narrow ? "0 8px" : "0 14px",
  lineHeight: `${headHeight}px`,
  boxShadow: active ? "inset 0 -3px 0 #e2a5cd" : undefined,
  fontWeight: active ? 600 : 400,
});

/** What stands around every page: the bar with the places, and who is signed in. */
export function Frame() {
  const me = useMe();
  const here = useLocation();
  const { token } = theme.useToken();
  const narrow = !Grid.useBreakpoint().xl;
  const navigate = useNavigate();
  const signedIn = Boolean(me.data);
  useEffect(() => {
    const then = signedIn ? takeThen() : null;
    if (then && then !== "/") void navigate(then, { replace: true });
  }, [signedIn, navigate]);
  if (me.isPending) return <Loading />;
  if (me.error) {
    const p = problemOf(me.error);
    if (p.status === 401)
      return <Navigate to={`/sign-in?then=${encodeURIComponent(here.pathname + here.search)}`} replace />;
    return (
      <div style={{ maxWidth: 720, margin: "80px auto", padding: 20 }}>
        <ProblemNote error={me.error} again={() => void me.refetch()} />
      </div>
    );
  }
  return (
    <Layout style={{ minHeight: "100vh" }}>
      <SkipLink />
      <Layout.Header
        style={{
          display: "flex",
          alignItems: "center",
          gap: narrow ? 8 : 28,
          padding: narrow ? "0 10px" : undefined,
          position: "sticky",
          top: 0,
          zIndex: 10,
        }}
      >
        <Link
          to="/"
          aria-label="Plum Latch, first page"
          style={{
            display: "flex",
            alignItems: "center",
            gap: 10,
            color: "#fff",
            fontWeight: 600,
            fontSize: 16,
            whiteSpace: "nowrap",
          }}
        >
          <img src="/mark.svg" width={26} height={26} alt="" />
          {!narrow && " Plum Latch"}
        </Link>
        <nav
          aria-label="Places"
          style={{
            display: "flex",
            gap: narrow ? 0 : 4,
            flex: 1,
            minWidth: 0,
            height: "100%",
            overflowX: "auto",
            whiteSpace: "nowrap",
          }}
        >
          {places.map((p) => (
            <NavLink
              key={p.to}
              to={p.to}
              end={p.to === "/"}
              style={({ isActive }) =>
                placeStyle(isActive || Boolean(p.also?.some((a) => here.pathname.startsWith(a))), narrow)
              }
            >
              {p.text}
            </NavLink>
          ))}
        </nav>
        <Find narrow={narrow} />
        <Person name={me.data.name} role={narrow ? undefined : me.data.role} />
      </Layout.Header>
      <OpenBar />
      <Confirmation factor={me.data.factor} />
      <Layout.Content
        id="content"
        style={{ padding: "20px 24px 40px", width: "100%", maxWidth: 2000, margin: "0 auto", color: token.colorText }}
      >
        <Suspense fallback={<Loading />}>
          <Outlet />
        </Suspense>
      </Layout.Content>
    </Layout>
  );
}

/** Leads past the bar; it is seen while it has the focus. */
function SkipLink() {
  const [focused, setFocused] = useState(false);
  return (
    <a
      href="#content"
      onFocus={() => setFocused(true)}
      onBlur={() => setFocused(false)}
      style={{
        position: "absolute",
        left: focused ? 10 : -9999,
        top: 10,
        zIndex: 20,
        padding: "8px 14px",
        background: "#fff",
        color: "#5b1a48",
        borderRadius: 4,
      }}
    >
      Skip to the content
    </a>
  );
}

function Person({ name, role }: { name: string; role?: string }) {
  const { choice, choose } = useLook();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const signOut = async () => {
    await take(api.DELETE("/session"));
    queries.clear();
    await navigate("/sign-in");
  };
  return (
    <Dropdown
      trigger={["click"]}
      menu={{
        selectable: true,
        selectedKeys: [choice],
        items: [
          {
            key: "look",
            type: "group",
            label: "Look",
            children: [
              { key: "light", label: "Light", onClick: () => choose("light") },
              { key: "dark", label: "Dark", onClick: () => choose("dark") },
              { key: "system", label: "As the system", onClick: () => choose("system") },
            ],
          },
          { type: "divider" },
          { key: "out", label: "Sign out", onClick: () => void signOut() },
        ],
      }}
    >
      <Button type="text" style={{ color: "#fff" }}>
        {name}
        {role && `, ${role}`} ▾
      </Button>
    </Dropdown>
  );
}
