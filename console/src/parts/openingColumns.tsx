import type { TableColumnsType } from "antd";
import { Link } from "react-router";
import type { Opening } from "../api/client";
import { day, typeText } from "../format";
import { KeyName } from "./KeyName";
import { StateMark } from "./StateMark";

function seen(o: Opening): string {
  if (!o.seen_at) return "never looked";
  if (o.status === "missing") return `not there on ${day(o.seen_at)}`;
  return `${day(o.seen_at)}, ${o.seen_by}`;
}

const status = {
  title: "Status",
  key: "status",
  render: (_: unknown, o: Opening) => (
    <>
      <StateMark state={o.status} />
      {o.limits && <div>{o.limits}</div>}
    </>
  ),
};
const granted = {
  title: "Granted",
  key: "granted",
  render: (_: unknown, o: Opening) => (o.granted_at ? `${day(o.granted_at)} by ${o.granted_by}` : "not granted"),
};
const looked = { title: "Last seen", key: "seen", render: (_: unknown, o: Opening) => seen(o) };

/** Columns for the logins of one key. */
export const loginColumns: TableColumnsType<Opening> = [
  {
    title: "Login",
    key: "login",
    render: (_, o) => <Link to={`/logins/${encodeURIComponent(o.login)}`}>{o.login}</Link>,
  },
  { title: "Region", dataIndex: "region" },
  { title: "Instance", key: "state", render: (_, o) => <StateMark state={o.instance_state} /> },
  status,
  granted,
  looked,
  { title: "Why", dataIndex: "reason" },
];

/** Columns for the keys of one instance. */
export const keyColumns: TableColumnsType<Opening> = [
  { title: "Key", key: "key", render: (_, o) => <KeyName name={o.key.name} sha256={o.key.sha256} /> },
  {
    title: "Login",
    key: "login",
    render: (_, o) => <Link to={`/logins/${encodeURIComponent(o.login)}`}>{o.login}</Link>,
  },
  { title: "Type", key: "type", render: (_, o) => typeText(o.key.type, o.key.bits) },
  { title: "Holder", key: "holder", render: (_, o) => (o.steward ? "the service's own" : (o.key.holder ?? "nobody")) },
  status,
  granted,
  looked,
];
