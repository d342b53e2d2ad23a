import { NavLink } from "react-router";
import { theme } from "antd";
import { useProofsDue } from "../../api/queries";

const views = [
  { to: "/", text: "Logins" },
  { to: "/map", text: "Map" },
  { to: "/differences", text: "Differences" },
  { to: "/grants", text: "Grants" },
  { to: "/proofs", text: "To prove" },
];

/** The views of how safe the logins are. */
export function ReachTabs() {
  const { token } = theme.useToken();
  const mine = useProofsDue("me").rows.filter((d) => d.state !== "soon stale").length;
  return (
    <nav aria-label="Views" style={{ display: "flex", gap: 4, marginBottom: 16, borderBottom: `1px solid ${token.colorBorderSecondary}` }}>
      {views.map((v) => (
        <NavLink key={v.to} to={v.to} end style={({ isActive }) => ({
          padding: "6px 14px", color: isActive ? token.colorPrimaryText : token.colorTextSecondary, fontWeight: isActive ? 600 : 400,
          boxShadow: isActive ? `inset 0 -2px 0 ${token.colorPrimary}` : undefined,
        })}>{v.text}{v.to === "/proofs" && mine > 0 && <>{" "}<span aria-label={`${mine} for you`} style={{ marginInlineStart: 6, fontSize: 12, padding: "0 6px", borderRadius: 8, background: token.colorWarningBg, color: token.colorWarningText }}>{mine}</span></>}</NavLink>
      ))}
    </nav>
  );
}
