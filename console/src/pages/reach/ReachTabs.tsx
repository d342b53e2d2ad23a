import { useProofsDue } from "../../api/queries";
import { Tabs } from "../../parts/Tabs";

/** The views of how safe the logins are. */
export function ReachTabs() {
  const mine = useProofsDue("me").rows.filter((d) => d.state !== "soon stale").length;
  return (
    <Tabs
      of={[
        { to: "/", text: "Logins" },
        { to: "/map", text: "Map" },
        { to: "/drift", text: "Drift" },
        { to: "/grants", text: "Grants" },
        { to: "/proofs", text: "To prove", mine },
      ]}
    />
  );
}
