import { useMutation } from "@tanstack/react-query";
import { Button, Card, Form, Input, Select, Slider } from "antd";
import { useEffect, useRef, useState } from "react";
import { useParams } from "react-router";
import { api, take } from "../../api/client";
import { useLook } from "../../look";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { readCast, type Cast } from "./cast";
import { newScreen } from "./screen";

/** Shows what was recorded of a terminal, once somebody has said why they look. */
export default function Replay() {
  const { id = "" } = useParams();
  const reading = useMutation({
    mutationFn: async ({ reason }: { reason: string }) => {
      const params = { path: { visit: id }, query: { reason } };
      return readCast(await take(api.GET("/visits/{visit}/recording", { params, parseAs: "text" })));
    },
    gcTime: 0,
  });
  return (
    <>
      <PageHead title="Recording of a visit" note={reading.data?.title} />
      {reading.data ? (
        <Player of={reading.data} />
      ) : (
        <Card size="small" className="alone">
          <Form layout="vertical" requiredMark={false} onFinish={(v: { reason: string }) => reading.mutate(v)}>
            <Form.Item
              name="reason"
              label="Why you look at it, for the daybook"
              rules={[{ required: true, message: "Say why" }]}
            >
              <Input />
            </Form.Item>
            {reading.error && (
              <Form.Item>
                <ProblemNote error={reading.error} />
              </Form.Item>
            )}
            <Button type="primary" htmlType="submit" loading={reading.isPending}>
              Show it
            </Button>
          </Form>
        </Card>
      )}
    </>
  );
}

/** A pause that was longer lasts this long, in seconds. */
const longestPause = 2;

function Player({ of }: { of: Cast }) {
  const { dark } = useLook();
  const at = useRef<HTMLDivElement>(null);
  const screen = useRef<ReturnType<typeof newScreen>>(undefined);
  const [shown, setShown] = useState(0);
  const [playing, setPlaying] = useState(true);
  const [speed, setSpeed] = useState(1);
  const done = useRef(0);

  useEffect(() => {
    const s = (screen.current = newScreen(at.current!, dark));
    s.term.options.disableStdin = true;
    s.term.resize(of.cols, of.rows);
    done.current = 0;
    return () => s.term.dispose();
  }, [of, dark]);

  // The screen follows the number of events to show.
  useEffect(() => {
    const term = screen.current?.term;
    if (!term) return;
    if (shown < done.current) {
      term.reset();
      done.current = 0;
    }
    for (const e of of.events.slice(done.current, shown)) {
      if (e.kind === "o") term.write(e.data);
      const size = e.kind === "r" && /^(\d+)x(\d+)$/.exec(e.data);
      if (size) term.resize(Number(size[1]), Number(size[2]));
    }
    done.current = shown;
  }, [of, shown, dark]);

  useEffect(() => {
    const next = of.events[shown];
    if (!playing || !next) return;
    const before = of.events[shown - 1]?.at ?? 0;
    const pause = Math.min(next.at - before, longestPause) / speed;
    const timer = setTimeout(() => setShown(shown + 1), pause * 1000);
    return () => clearTimeout(timer);
  }, [of, playing, shown, speed]);

  const last = of.events[shown - 1];
  const over = shown >= of.events.length;
  return (
    <Card size="small" styles={{ body: { padding: 8 } }}>
      <div ref={at} className="terminal scrolls" role="group" aria-label="What was shown" />
      <div className="row middle before-s">
        <Button
          size="small"
          onClick={() => {
            if (over) setShown(0);
            setPlaying(over || !playing);
          }}
        >
          {over ? "Again" : playing ? "Pause" : "Play"}
        </Button>
        <Select
          size="small"
          aria-label="Speed"
          value={speed}
          onChange={setSpeed}
          options={[1, 2, 4, 16].map((n) => ({ value: n, label: `${n}×` }))}
        />
        <Slider
          className="full"
          ariaLabelForHandle="Place in the recording"
          min={0}
          max={of.events.length}
          value={shown}
          onChange={setShown}
          tooltip={{ formatter: null }}
        />
        <span className="nowrap" role="status">
          {(last?.at ?? 0).toFixed(1)} s of {(of.events.at(-1)?.at ?? 0).toFixed(1)} s
        </span>
      </div>
    </Card>
  );
}
