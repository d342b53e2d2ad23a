import { lookOf, stateOf, type State } from "../format";
import { useTones } from "../look";

/** A state as a sign, a word and a colour. */
export function StateMark({ state }: { state: State }) {
  const { tone, sign } = lookOf(state);
  const colour = useTones()[tone];
  return (
    <span style={{ color: colour, whiteSpace: "nowrap" }}>
      <span aria-hidden style={{ display: "inline-block", width: 18 }}>
        {sign}
      </span>
      {state.replaceAll("-", " ")}
    </span>
  );
}

/** An outcome, with its sign where it has one. */
export function OutcomeMark({ outcome }: { outcome: string }) {
  const state = stateOf(outcome);
  return state ? <StateMark state={state} /> : <>{outcome}</>;
}
