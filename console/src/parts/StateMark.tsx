import { lookOf, stateOf, type State } from "../format";

/** A state as a sign, a word and a colour. */
export function StateMark({ state }: { state: State }) {
  const { tone, sign } = lookOf(state);
  return (
    <span className={`nowrap ${tone}`}>
      <span aria-hidden className="sign-place">
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
