import { useQueryClient } from "@tanstack/react-query";
import { Button, Dropdown, Grid, Layout } from "antd";
import { Suspense, useEffect } from "react";
import { Link, Navigate, NavLink, Outlet, useLocation, useNavigate } from "react-router";
import { api, problemOf, take } from "./api/client";
import { useMe } from "./api/queries";
import { useLook } from "./look";
import { Confirmation } from "./parts/Confirmation";
import { DialogHost } from "./parts/dialogs";
import { Find } from "./parts/Find";
import { Loading } from "./parts/Loading";
import { OpenBar } from "./parts/OpenBar";
import { ProblemNote } from "./parts/ProblemNote";
import { takeThen } from "./parts/then";
import { places } from "./places";

/** The frame of every page: the bar with the places, and who is signed in. */
export function Frame() {
  const me = useMe();
  const here = useLocation();
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
      <div className="alone">
        <ProblemNote error={me.error} again={() => void me.refetch()} />
      </div>
    );
  }
  return (
    <Layout className="frame">
      <SkipLink />
      <Layout.Header className={narrow ? "head narrow" : "head"}>
        <Link to="/" aria-label="Plum Latch, first page" className="home">
          <img src="/mark.svg" width={26} height={26} alt="" />
          {!narrow && " Plum Latch"}
        </Link>
        <nav aria-label="Places" className="places">
          {places.map((p) => (
            <NavLink
              key={p.to}
              to={p.to}
              end={p.to === "/"}
              className={({ isActive }) =>
                isActive || p.also?.some((a) => here.pathname.startsWith(a)) ? "place here" : "place"
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
      <Layout.Content id="content" className="content">
        <DialogHost>
          <Suspense fallback={<Loading />}>
            <Outlet />
          </Suspense>
        </DialogHost>
      </Layout.Content>
    </Layout>
  );
}

/** Leads past the bar; it is seen while it has the focus. */
const SkipLink = () => (
  <a href="#content" className="skip">
    Skip to the content
  </a>
);

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
      <Button type="text" className="on-head">
        {name}
        {role && `, ${role}`} ▾
      </Button>
    </Dropdown>
  );
}
