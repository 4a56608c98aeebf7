// Label mode: on or off, the steps that can be taken back, and what the server said last.
import { useQueryClient } from "@tanstack/react-query";
import { createContext, useCallback, useContext, useMemo, useState, type ReactNode } from "react";
import type { Asked } from "../api/client";
import { useWorkspace } from "../shell/workspace";
import { labelsChanged, useLabelCalls, type Place } from "./api";

interface Step {
  question?: number;
  said: string;
  back: () => Promise<unknown>;
}
export interface LabelMode {
  on: boolean;
  toggle: () => void;
  end: () => void;
  /** What was done last, in words; empty before anything was. */
  said: string;
  problem: string;
  busy: boolean;
  canUndo: boolean;
  undo: () => void;
  /** Judge a range of a document for the question: 0 says that no answer stands there. */
  judge: (asked: Asked, place: Place, grade: number) => void;
  move: (asked: Asked, label: number, place: { document: number; start: number; end: number }) => void;
  remove: (asked: Asked, label: number) => void;
  setUnanswerable: (asked: Asked, unanswerable: boolean) => void;
}

const Context = createContext<LabelMode | null>(null);

export function useLabelMode(): LabelMode {
  const mode = useContext(Context);
  if (!mode) throw new Error("Label mode is used outside of its provider.");
  return mode;
}

const keyOf = (question: number, { document, start, end }: Place) =>
  [question, document, start, end].join(":");
const whole = ({ document }: Place): Place => ({ document, start: null, end: null });
const words = (grade: number) => (grade === 0 ? "no answer" : `an answer of grade ${grade}`);

export function LabelModeProvider({ children }: { children: ReactNode }) {
  const calls = useLabelCalls();
  const queries = useQueryClient();
  const workspace = useWorkspace();
  const [on, setOn] = useState(false);
  const [steps, setSteps] = useState<Step[]>([]);
  const [said, setSaid] = useState("");
  const [problem, setProblem] = useState("");
  const [busy, setBusy] = useState(false);
  // A label that was removed and is given again has another number; steps before it know it by the old one.
  const [numbers] = useState(() => new Map<number, number>());
  // Grades given here by place: what is shown may not have been read anew when the next key is pressed.
  const [given] = useState(() => new Map<string, number | null>());
  // Where labels were put here, for the same reason.
  const [placed] = useState(() => new Map<number, Place>());

  const run = useCallback(
    async (question: number, work: () => Promise<Step | string>) => {
      setBusy(true);
      setProblem("");
      try {
        const done = await work();
        if (typeof done === "string") setSaid(done);
        else {
          setSteps((before) => [...before, { ...done, question }]);
          setSaid(done.said);
        }
      } catch (error) {
        setProblem(error instanceof Error ? error.message : String(error));
      } finally {
        // It is saved; lists follow when they are read anew.
        setBusy(false);
        void labelsChanged(queries, workspace, question);
      }
    },
    [queries, workspace],
  );

  const mode = useMemo<LabelMode>(() => {
    const now = (label: number): number => {
      const later = numbers.get(label);
      return later === undefined ? label : now(later);
    };
    const giveAgain = async (label: number, question: number, place: Place, grade: number) => {
      const made = await calls.give(question, place, grade);
      placed.set(made.id, place);
      if (made.id !== label) numbers.set(label, made.id);
    };
    return {
      on,
      toggle: () => setOn((before) => !before),
      end: () => setOn(false),
      said,
      problem,
      busy,
      canUndo: steps.length > 0 && !busy,
      undo: () => {
        const last = steps[steps.length - 1];
        if (!last || busy) return;
        setSteps(steps.slice(0, -1));
        void run(last.question!, async () => {
          await last.back();
          return `Taken back: ${last.said.toLowerCase()}`;
        });
      },
      judge: (asked, place, grade) =>
        void run(asked.question!.id, async () => {
          const question = asked.question!.id;
          const same = (one: Place) =>
            one.document === place.document && one.start === place.start && one.end === place.end;
          const shown = asked.spans.find(same)?.grade ?? (asked.no_answers.some(same) ? 0 : null);
          const key = keyOf(question, place);
          const before = given.get(key) ?? (given.has(key) ? null : shown);
          const label = await calls.give(question, place, grade);
          given.set(key, grade);
          return {
            said: `Saved as ${words(grade)}`,
            back: async () => {
              await (before === null ? calls.remove(now(label.id)) : calls.grade(now(label.id), before));
              given.set(key, before);
            },
          };
        }),
      move: (asked, label, place) =>
        void run(asked.question!.id, async () => {
          const shown = asked.spans.find((span) => span.id === label)!;
          const { document, start, end } = placed.get(label) ?? shown;
          await calls.place(label, place);
          placed.set(label, place);
          return {
            said: "Moved",
            back: async () => {
              if (start === null || end === null) {
                await calls.remove(now(label));
                await giveAgain(now(label), asked.question!.id, whole(shown), shown.grade);
              } else {
                await calls.place(now(label), { document, start, end });
                placed.set(now(label), { document, start, end });
              }
            },
          };
        }),
      remove: (asked, label) =>
        void run(asked.question!.id, async () => {
          const was = asked.spans.find((span) => span.id === label);
          const place = placed.get(label) ?? was ?? asked.no_answers.find((one) => one.id === label)!;
          await calls.remove(label);
          const { document, start, end } = place;
          const key = keyOf(asked.question!.id, place);
          const grade = given.get(key) ?? was?.grade ?? 0;
          given.set(key, null);
          return {
            said: "Removed",
            back: async () => {
              await giveAgain(now(label), asked.question!.id, { document, start, end }, grade);
              given.set(key, grade);
            },
          };
        }),
      setUnanswerable: (asked, unanswerable) =>
        void run(asked.question!.id, async () => {
          const question = asked.question!.id;
          await calls.unanswerable(question, unanswerable);
          return {
            said: unanswerable ? "Marked: no document answers this" : "The mark is taken away",
            back: () => calls.unanswerable(question, !unanswerable),
          };
        }),
    };
    // The calls hang on the workspace alone, and a page is about one.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [on, said, problem, busy, steps, run]);
  return <Context value={mode}>{children}</Context>;
}
