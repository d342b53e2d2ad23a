import { Link } from "react-router";
import type { Opening } from "../api/client";
import { day, typeText } from "../format";
import { KeyName } from "./KeyName";
import { StateMark } from "./StateMark";
import type { Column } from "./list/column";

function seen(o: Opening): string {
  if (!o.seen_at) return "never looked";
  if (o.status === "missing") return `not there on ${day(o.seen_at)}`;
  return `${day(o.seen_at)}, ${o.seen_by}`;
}

const status: Column<Opening> = {
  title: "Status",
  key: "status",
  text: (o) => o.status,
  render: (o) => (
    <>
      <StateMark state={o.status} />
      {o.limits && <div>{o.limits}</div>}
    </>
  ),
};
const granted: Column<Opening> = {
  title: "Granted",
  key: "granted",
  text: (o) => (o.granted_at ? `${day(o.granted_at)} by ${o.granted_by}` : "not granted"),
};
const looked: Column<Opening> = { title: "Last seen", key: "seen", text: seen };

/** Columns for the logins of one key. */
export const loginColumns: Column<Opening>[] = [
  {
    title: "Login",
    key: "login",
    text: (o) => o.login,
    render: (o) => <Link to={`/logins/${encodeURIComponent(o.login)}`}>{o.login}</Link>,
  },
  { title: "Region", key: "region", text: (o) => o.region },
  {
    title: "Instance",
    key: "state",
    text: (o) => o.instance_state,
    render: (o) => <StateMark state={o.instance_state} />,
  },
  status,
  granted,
  looked,
  { title: "Why", key: "why", text: (o) => o.reason },
];

/** Columns for the keys of one instance. */
export const keyColumns: Column<Opening>[] = [
  {
    title: "Key",
    key: "key",
    text: (o) => o.key.name,
    render: (o) => <KeyName name={o.key.name} sha256={o.key.sha256} />,
  },
  {
    title: "Login",
    key: "login",
    text: (o) => o.login,
    render: (o) => <Link to={`/logins/${encodeURIComponent(o.login)}`}>{o.login}</Link>,
  },
  { title: "Type", key: "type", text: (o) => typeText(o.key.type, o.key.bits) },
  { title: "Holder", key: "holder", text: (o) => (o.steward ? "the service's own" : (o.key.holder ?? "nobody")) },
  status,
  granted,
  looked,
];
