import { Card, Table, Typography } from "antd";
import { Link } from "react-router";
import type { PendingHolder, PlannedItem, RotationPlan } from "../../api/client";
import { counted, typeText } from "../../format";
import { StateMark } from "../../parts/StateMark";

/** What a rotation would do, login by login. beside is for a place with little width. */
export function PlanPreview({ of, title, beside }: { of: RotationPlan; title?: string; beside?: boolean }) {
  const going = of.items.filter((i) => !i.left_out);
  const left = of.items.filter((i) => i.left_out);
  return (
    <Card
      size="small"
      title={
        `${title ?? "The plan"}: ${counted(of.logins, "login")} on ${counted(of.instances, "instance")} change, ` +
        `${of.left_out} left out, ${counted(of.new_keys.length, "new key")}`
      }
      styles={{ body: { padding: 0 } }}
    >
      {of.items.length === 0 && <div className="padded">No such key is in place anywhere.</div>}
      {going.length > 0 && (
        <Table
          size="small"
          rowKey={(i) => `${i.login} ${i.old}`}
          dataSource={going}
          pagination={going.length > 20 ? { pageSize: 20, showSizeChanger: false } : false}
          scroll={beside ? { x: "max-content" } : undefined}
          columns={[
            { title: "Login", render: (_, i) => <LoginLink of={i.login} /> },
            { title: "Old key", dataIndex: "old" },
            ...(beside ? [] : [{ title: "Holder", render: (_: unknown, i: PlannedItem) => i.holder ?? "nobody" }]),
            { title: "New key", dataIndex: "new" },
            { title: "By", dataIndex: "means" },
            ...(going.some((i) => i.expected_seconds ?? i.waits_for) ? [takes] : []),
            ...(beside
              ? []
              : [{ title: "Reach now", render: (_: unknown, i: PlannedItem) => <StateMark state={i.reach_before} /> }]),
            { title: "Reach after", render: (_, i) => i.reach_after && <StateMark state={i.reach_after} /> },
          ]}
        />
      )}
      {left.length > 0 && (
        <>
          <Typography.Title level={2} className="menu-title">
            Left out
          </Typography.Title>
          <Table
            size="small"
            rowKey={(i) => `${i.login} ${i.old}`}
            dataSource={left}
            pagination={left.length > 20 ? { pageSize: 20, showSizeChanger: false } : false}
            columns={[
              { title: "Login", render: (_, i) => <LoginLink of={i.login} /> },
              { title: "Key", render: (_, i) => <span className="nowrap">{i.old}</span> },
              { title: "Why", dataIndex: "left_out" },
              { title: "What to do about it", dataIndex: "remedy" },
            ]}
          />
        </>
      )}
      {going.length > 0 && (
        <div className="padded-top">
          {of.expected_seconds
            ? `About ${counted(of.expected_seconds, "second")} of work, by what earlier rotations took.`
            : "No rotation has been done yet that would tell how long it takes."}
        </div>
      )}
      {of.new_keys.length > 0 && (
        <div className="padded-s">
          New keys:{" "}
          {of.new_keys
            .slice(0, 12)
            .map((k) => `${k.name} (${typeText(k.type, k.bits)}, ${k.holder ?? "nobody"})`)
            .join("; ")}
          {of.new_keys.length > 12 ? "; …" : ""}
        </div>
      )}
    </Card>
  );
}

const LoginLink = ({ of }: { of: string }) => (
  <Link to={`/logins/${encodeURIComponent(of)}`} className="nowrap">
    {of}
  </Link>
);

/** What a holder has to do before they get in by the new keys. */
export function pendingText(h: PendingHolder): string {
  const where = counted(h.logins, "login");
  const names = h.keys.slice(0, 3).join(", ") + (h.keys.length > 3 ? ` and ${h.keys.length - 3} more` : "");
  switch (h.does) {
    case "take":
      return `${h.holder} takes ${names} out of the safe, for ${where}`;
    case "bring":
      return `${h.holder} brings new public keys, for ${where}; until then the old ones stay`;
    case "take-over":
      return `${h.holder} takes ${names} over from you, for ${where}`;
  }
}

const takes = {
  title: "Takes",
  render: (_: unknown, i: PlannedItem) =>
    [i.expected_seconds && `${i.expected_seconds.toFixed(1)} s`, i.waits_for && "after another rotation"]
      .filter(Boolean)
      .join(", "),
};
