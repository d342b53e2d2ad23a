import { NavLink } from "react-router";

/** Links between the views of one place. mine is how much is pending for the person who looks. */
export function Tabs({ of }: { of: { to: string; text: string; mine?: number }[] }) {
  return (
    <nav aria-label="Views" className="tabs">
      {of.map((v) => (
        <NavLink
          key={v.to}
          to={v.to}
          end={v.to === "/" || of.some((o) => o.to.startsWith(`${v.to}/`))}
          className={({ isActive }) => (isActive ? "tab active" : "tab")}
        >
          {v.text}
          {v.mine ? (
            <>
              {" "}
              <span aria-label={`${v.mine} for you`} className="tab-count">
                {v.mine}
              </span>
            </>
          ) : null}
        </NavLink>
      ))}
    </nav>
  );
}
