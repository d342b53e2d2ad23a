import { theme } from "antd";
import { NavLink } from "react-router";
import { useTones } from "../look";

/** Links between the views of one place. mine is how much waits for whoever looks. */
export function Tabs({ of }: { of: { to: string; text: string; mine?: number }[] }) {
  const { token } = theme.useToken();
  const tones = useTones();
  return (
    <nav
      aria-label="Views"
      style={{ display: "flex", gap: 4, marginBottom: 16, borderBottom: `1px solid ${token.colorBorderSecondary}` }}
    >
      {of.map((v) => (
        <NavLink
          key={v.to}
          to={v.to}
          end={v.to === "/" || of.some((o) => o.to.startsWith(`${v.to}/`))}
          style={({ isActive }) => ({
            padding: "6px 14px",
            color: isActive ? token.colorPrimaryText : token.colorTextSecondary,
            fontWeight: isActive ? 600 : 400,
            boxShadow: isActive ? `inset 0 -2px 0 ${token.colorPrimary}` : undefined,
          })}
        >
          {v.text}
          {v.mine ? (
            <>
              {" "}
              <span
                aria-label={`${v.mine} for you`}
                style={{
                  marginInlineStart: 6,
                  fontSize: 12,
                  padding: "0 6px",
                  borderRadius: 8,
                  background: token.colorFillSecondary,
                  color: tones.warn,
                  fontWeight: 600,
                }}
              >
                {v.mine}
              </span>
            </>
          ) : null}
        </NavLink>
      ))}
    </nav>
  );
}
