import { useAskedKeys } from "../../api/queries";
import { Tabs } from "../../parts/Tabs";

/** The views of rotations. */
export function RotationTabs() {
  const mine = useAskedKeys("me").data?.length ?? 0;
  return (
    <Tabs
      of={[
        { to: "/rotations", text: "Rotations" },
        { to: "/rotations/rules", text: "Rotation rules" },
        { to: "/rotations/calendar", text: "Calendar" },
        { to: "/rotations/asked", text: "Asked of holders", mine },
      ]}
    />
  );
}
