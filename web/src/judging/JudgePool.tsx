// One passage at a time: a key grades it and the next one is there; what was graded is saved behind.
import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import { Button } from "react-bootstrap";
import { Link } from "react-router";
import { useDocument } from "../api/queries";
import { labelsChanged } from "../labels/api";
import { Progress } from "../shell/Progress";
import { Loading } from "../shell/states";
import { Reader } from "../stages/documents/Reader";
import { duration } from "../text/numbers";
import { useJudgeCalls, type Pool, type ToJudge } from "./api";
import { keysElsewhere } from "../shell/keysElsewhere";

const GRADES = [
  [0, "no answer"],
  [1, "in part"],
  [2, "answers it"],
  [3, "best there is"],
] as const;
const AHEAD = 30;
const REFILL = 12;

export function JudgePool({ pool }: { pool: Pool }) {
  const calls = useJudgeCalls(pool.id);
  const queries = useQueryClient();
  const [queue, setQueue] = useState<ToJudge[]>([]);
  const [ended, setEnded] = useState(false);
  const [past, setPast] = useState<{ one: ToJudge; grade: number; at: number }[]>([]);
  const [saving, setSaving] = useState(0);
  const [problem, setProblem] = useState("");
  const [reading, setReading] = useState(false);
  const [own] = useState(pool.own);
  // Everything that was ever in the queue: what is still being saved comes back from the server.
  const [known] = useState(() => new Set<number>());
  const filling = useRef(false);
  const current = queue[0];

  const fill = useCallback(async () => {
    if (filling.current) return;
    filling.current = true;
    try {
      const found = await calls.next(AHEAD);
      const fresh = found.filter((one) => !known.has(one.id));
      fresh.forEach((one) => known.add(one.id));
      setQueue((before) => [...before, ...fresh]);
      if (!fresh.length) setEnded(true);
    } catch (error) {
      setProblem(error instanceof Error ? error.message : String(error));
    } finally {
      filling.current = false;
    }
    // The calls hang on the pool alone.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [pool.id]);
  useEffect(() => {
    if (queue.length < REFILL && !ended) void fill();
  }, [queue.length, ended, fill]);
  useEffect(
    () => () => {
      void labelsChanged(queries);
      void queries.invalidateQueries({ queryKey: ["pools"] });
    },
    [queries],
  );

  const save = async (work: Promise<void>, failed: () => void) => {
    setSaving((count) => count + 1);
    try {
      await work;
    } catch (error) {
      setProblem(error instanceof Error ? error.message : String(error));
      failed();
    } finally {
      setSaving((count) => count - 1);
    }
  };
  const grade = (value: number) => {
    if (!current) return;
    setProblem("");
    setQueue((before) => before.slice(1));
    setPast((before) => [...before, { one: current, grade: value, at: performance.now() }]);
    void save(calls.judge(current.id, value), () => {
      setPast((before) => before.filter(({ one }) => one.id !== current.id));
      setQueue((before) => [current, ...before]);
    });
  };
  const undo = () => {
    const last = past[past.length - 1];
    if (!last || saving) return;
    setPast((before) => before.slice(0, -1));
    setQueue((before) => [last.one, ...before]);
    void save(calls.takeBack(last.one.id), () => undefined);
  };

  useEffect(() => {
    function pressed(event: KeyboardEvent) {
      if (keysElsewhere(event)) return;
      if (/^[0-3]$/.test(event.key)) grade(Number(event.key));
      else if (event.key === "u") undo();
      else if (event.key === "d") setReading(!reading);
      else return;
      event.preventDefault();
    }
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  });

  const judged = own + past.length;
  const left = pool.items - judged;
  // Pauses are no work: the pace is the middle of the last twenty steps.
  const steps = past.slice(-21).map(({ at }) => at);
  const times = steps.slice(1).map((at, place) => at - steps[place]!);
  const pace = times.length >= 3 ? [...times].sort((a, b) => a - b)[times.length >> 1]! / 1000 : null;
  return (
    <div className="judge-pool">
      <div className="d-flex align-items-center gap-3 small-text">
        <Link to="/questions/judging">All pools</Link>
        <strong>{pool.name}</strong>
        <Progress percent={(100 * judged) / Math.max(pool.items, 1)} what="Judged" />
        <span className="num text-nowrap">
          {judged} of {pool.items}
          {pace !== null && left > 0 && `, ${(60 / pace).toFixed(0)} a minute, ${duration(left * pace)} left`}
        </span>
        <span className={problem ? "lost" : "soft"} role="status">
          {problem || (saving ? "saving" : past.length ? "all saved" : "")}
        </span>
      </div>
      {current ? (
        <>
          <h2 className="serif">{current.text}</h2>
          <div className="grades">
            {GRADES.map(([value, words]) => (
              <Button
                key={value}
                size="sm"
                variant={value ? "primary" : "outline-primary"}
                onClick={() => grade(value)}
              >
                <kbd>{value}</kbd> {words}
              </Button>
            ))}
            <span className="ms-auto" />
            <Button
              size="sm"
              variant="outline-primary"
              aria-pressed={reading}
              onClick={() => setReading(!reading)}
            >
              {reading ? "Passage alone" : "In its document"} <kbd>d</kbd>
            </Button>
            <Button size="sm" variant="outline-primary" disabled={!past.length || saving > 0} onClick={undo}>
              Undo <kbd>u</kbd>
            </Button>
          </div>
          {reading ? (
            <InDocument one={current} />
          ) : (
            <article className="passage-alone">
              <div className="small-text soft">{current.title}</div>
              <div className="serif">{current.passage}</div>
            </article>
          )}
        </>
      ) : ended ? (
        <div className="state">
          <strong>All passages of this pool are judged</strong>
          <Link to="/questions/judging">Back to the pools</Link>
        </div>
      ) : (
        <Loading what="Fetching passages" />
      )}
    </div>
  );
}

/** The document around a passage; answers that others marked are not shown. */
function InDocument({ one }: { one: ToJudge }) {
  const document = useDocument(one.document);
  if (!document.data) return <Loading what="Opening the document" />;
  return (
    <div className="in-document">
      <Reader
        document={document.data}
        marks={[{ start: one.start, end: one.end, kind: "focus" }]}
        show={one.start}
      />
    </div>
  );
}
