// The bar of label mode: what is selected, the grades to give it, what was saved last, and the way back.
import { useEffect, useState } from "react";
import { Button } from "react-bootstrap";
import { useQueryClient } from "@tanstack/react-query";
import type { Asked, DocumentText } from "../api/client";
import { useWorkspace } from "../shell/workspace";
import { codePoints } from "../text/codepoints";
import type { Place } from "./api";
import { useLabelMode } from "./mode";
import { selectedWords, type Selected } from "./selection";

const GRADES: [grade: number, means: string][] = [
  [1, "in part"],
  [2, "answers"],
  [3, "best"],
];

export function LabelBar({ asked }: { asked: Asked }) {
  const mode = useLabelMode();
  const selected = useSelected();
  useGradeKeys(asked, selected);
  const question = asked.question!;
  const count = asked.spans.length;
  return (
    <div className="label-bar" role="region" aria-label="Label mode">
      <strong>Label mode</strong>
      {selected ? (
        <>
          <span className="words serif">“{selected.text}”</span>
          {GRADES.map(([grade, means]) => (
            <Button
              key={grade}
              size="sm"
              onClick={() => mode.judge(asked, selected, grade)}
              disabled={mode.busy}
            >
              <kbd>{grade}</kbd> {means}
            </Button>
          ))}
          <Button
            size="sm"
            variant="outline-primary"
            disabled={mode.busy}
            onClick={() => mode.judge(asked, selected, 0)}
          >
            <kbd>0</kbd> no answer
          </Button>
        </>
      ) : (
        <span className="words soft">
          {question.unanswerable
            ? "Marked: no document answers this."
            : "Select the words that answer it or a part of a page; on a hit press 0 to 3."}
        </span>
      )}
      <span className="ms-auto d-flex gap-2 align-items-center">
        <span className={mode.problem ? "lost" : "soft"} role="status" aria-live="polite">
          {mode.problem || (mode.busy ? "Saving" : mode.said)}
        </span>
        <Button
          size="sm"
          variant="outline-primary"
          disabled={mode.busy || count > 0}
          title={count > 0 ? "It has answers; remove them first" : undefined}
          onClick={() => mode.setUnanswerable(asked, !question.unanswerable)}
        >
          {question.unanswerable ? "Take the mark away" : "Nothing answers it"}
        </Button>
        <Button size="sm" variant="outline-primary" disabled={!mode.canUndo} onClick={mode.undo}>
          Undo <kbd>u</kbd>
        </Button>
        <Button size="sm" variant="outline-primary" onClick={mode.end}>
          Done <kbd>g</kbd>
        </Button>
      </span>
    </div>
  );
}

/** The words that are selected in a document or a passage, for as long as they are. */
function useSelected(): Selected | null {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  const [selected, setSelected] = useState<Selected | null>(null);
  useEffect(() => {
    const textOf = (number: number) => {
      const known = queries.getQueryData<DocumentText>(["document", workspace, number]);
      return known && codePoints(known.text);
    };
    const look = () => setSelected(selectedWords(textOf));
    document.addEventListener("selectionchange", look);
    return () => document.removeEventListener("selectionchange", look);
  }, [queries, workspace]);
  return selected;
}

/** The hit that the pointer or the keyboard is at. */
function hitAtCursor(): Place | null {
  const here =
    document.querySelector<HTMLElement>("[data-place]:hover") ??
    document.activeElement?.closest<HTMLElement>("[data-place]") ??
    document.querySelector<HTMLElement>("[data-place][aria-pressed='true']");
  if (!here) return null;
  const [number, start, end] = here.dataset.place!.split(":").map(Number);
  return { document: number!, start: start!, end: end! };
}

function useGradeKeys(asked: Asked, selected: Selected | null) {
  const mode = useLabelMode();
  useEffect(() => {
    function pressed(event: KeyboardEvent) {
      const target = event.target as HTMLElement;
      if (event.ctrlKey || event.metaKey || event.altKey) return;
      if (["INPUT", "TEXTAREA", "SELECT"].includes(target.tagName)) return;
      if (/^[0-3]$/.test(event.key)) {
        const place = selected ?? hitAtCursor();
        if (place && !mode.busy) {
          const { document: number, start, end } = place;
          mode.judge(asked, { document: number, start, end }, Number(event.key));
          window.getSelection()?.removeAllRanges();
        }
      } else if (event.key === "u") mode.undo();
      else return;
      event.preventDefault();
    }
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  }, [asked, selected, mode]);
}
