import { useConsents, useMe } from "../../api/queries";
import { Tabs } from "../../parts/Tabs";

/** The views of the settings that the person may see. */
export function SettingsTabs() {
  const role = useMe().data?.role;
  const waiting =
    useConsents(role !== undefined && role !== "viewer").data?.filter((c) => c.state === "asked" && !c.own).length ?? 0;
  const of: { to: string; text: string; mine?: number }[] = [{ to: "/settings", text: "You" }];
  if (role === "admin") of.push({ to: "/settings/people", text: "People and teams" });
  if (role !== "viewer") of.push({ to: "/settings/custody", text: "Custody", mine: waiting });
  if (role !== "viewer") of.push({ to: "/settings/visits", text: "Visits" });
  of.push({ to: "/settings/clouds", text: "Clouds" });
  of.push({ to: "/settings/jump-hosts", text: "Jump hosts" });
  of.push({ to: "/settings/host-authorities", text: "Host authorities" });
  if (role === "admin") of.push({ to: "/settings/subscribers", text: "Subscribers" });
  return <Tabs of={of} />;
}
