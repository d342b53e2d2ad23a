/** A page that can be gone to by its name. */
export interface Place {
  to: string;
  text: string;
}

/** The places of the bar. also are the paths that belong to one, besides those under its own. */
export const places: (Place & { also?: string[] })[] = [
  { to: "/", text: "Reach", also: ["/map", "/drift", "/grants", "/proofs", "/logins/", "/terminals/"] },
  { to: "/instances", text: "Instances", also: ["/launch", "/adopt", "/bring-in"] },
  { to: "/keys", text: "Key pairs" },
  { to: "/rotations", text: "Rotations" },
  { to: "/restores", text: "Restores" },
  { to: "/charters", text: "Charters" },
  { to: "/daybook", text: "Daybook" },
  { to: "/settings", text: "Settings" },
];

/** The pages that are not in the bar. */
export const further: Place[] = [
  { to: "/map", text: "Reach map" },
  { to: "/drift", text: "Drift" },
  { to: "/grants", text: "Grants" },
  { to: "/proofs", text: "To prove" },
  { to: "/launch", text: "Launch an instance" },
  { to: "/adopt", text: "Adopt machines" },
  { to: "/bring-in", text: "Not yet recorded" },
  { to: "/charters/compare", text: "Compare a charter" },
  { to: "/rotations/plan", text: "Plan a rotation" },
  { to: "/rotations/rules", text: "Rotation rules" },
  { to: "/rotations/calendar", text: "Calendar" },
  { to: "/rotations/asked", text: "Asked of holders" },
  { to: "/settings/people", text: "People and teams" },
  { to: "/settings/custody", text: "Custody" },
  { to: "/settings/subscribers", text: "Subscribers" },
  { to: "/settings/clouds", text: "Clouds" },
  { to: "/settings/visits", text: "Visits" },
];
