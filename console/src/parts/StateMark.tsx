import { lookOf } from "../format";
import { useTones } from "../look";

/** A state as a sign, a word and a colour. */
export function StateMark({ state }: { state: string }) {
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
